"""`kanaleto history --tape`: samples of the last hours, recorded or not."""

from collections.abc import Iterator
from pathlib import Path

import click

from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.packing import BlockHead
from kanaleto.capture.reading import Capture
from kanaleto.capture.samples import samples_of
from kanaleto.cli.failures import Failed
from kanaleto.cli.historyrows import SampleRow, tell_rows, write_csv
from kanaleto.cli.keptfiles import folder_of, is_site
from kanaleto.cli.output import say
from kanaleto.files.loading import load_site
from kanaleto.history.eventtable import iso_ms
from kanaleto.site.model import Site
from kanaleto.values.codec import NoValue
from kanaleto.values.text import plain, shown, words_of


def tell_tape(
    what: str, points: tuple[str, ...], from_us: int | None, to_us: int | None, csv_path: Path | None, is_json: bool
) -> int:
    """What the tape of a site brought, read as its maps read it today. Raises click.UsageError and Failed."""
    if not is_site(what):
        raise click.UsageError("--tape wants a site file, whose maps say what words mean")
    folder = folder_of(what) / "tape"
    if not folder.is_dir():
        raise Failed(f"nothing was kept of {what} yet: its tape begins when it is opened or polled")
    site, _ = load_site(Path(what))
    known = {f"{device.name}/{point.name}" for _, device in site.devices() for point in device.points}
    for name in points:
        if name not in known:
            raise click.UsageError(f"there is no point {name} in {what}; name it as DEVICE/POINT")
    first_us, last_us = from_us if from_us is not None else 0, to_us if to_us is not None else 2**62

    def wants(head: BlockHead) -> bool:
        return head.first_us <= last_us and head.last_us >= first_us - 60_000_000

    try:
        capture = Capture(folder, wants)
        rows = (row for row in _rows(capture, site, frozenset(points)) if first_us <= row["at_us"] <= last_us)
        done = write_csv(csv_path, rows) if csv_path is not None else tell_rows(rows, is_json)
    except BrokenPipeError:
        raise  # whoever reads what is reported has gone
    except (NoCapture, OSError) as error:
        raise Failed(str(error)) from None
    for text in capture.damaged:
        say(text, err=True)
    return done


def _rows(capture: Capture, site: Site, points: frozenset[str]) -> Iterator[SampleRow]:
    for sample in samples_of(capture, site, points):
        point, value = sample.point, sample.value
        is_bad = isinstance(value, NoValue)
        yield SampleRow(
            {
                "at": iso_ms(sample.at_us),
                "device": sample.device,
                "point": point.name,
                "value": plain(value, point.codec, point.decimals),
                "unit": point.unit,
                "quality": "bad" if is_bad else "good",
                "reason": value.reason if isinstance(value, NoValue) else "",
                "words": list(sample.data) if point.table.is_bits else list(words_of(sample.data)),
            },
            at_us=sample.at_us,
            shown=shown(value, point.codec, point.decimals, point.labels),
        )
