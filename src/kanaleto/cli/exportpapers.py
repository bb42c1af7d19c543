"""`kanaleto export report`, `site` and `handover`."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kanaleto.cli.completing import device_names, point_names
from kanaleto.cli.exporttrend import MOST_POINTS, curves_of, places_of
from kanaleto.cli.failures import Failed
from kanaleto.cli.keptfiles import folder_of, stores_of
from kanaleto.cli.moments import micros_of
from kanaleto.cli.output import say
from kanaleto.cli.progress import Progress
from kanaleto.files.loading import load_whole
from kanaleto.proof.reportfacts import ReportFacts, gather
from kanaleto.proof.sheet import CannotKeep
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Site

if TYPE_CHECKING:
    from kanaleto.paper.sheets import Sheet

_SITE = click.argument("site_path", metavar="SITE", type=click.Path(path_type=Path))
_FROM = click.option("--from", "from_us", metavar="TIME", callback=micros_of, help="2026-05-17T03:00, 03:00, 2h (ago)")
_TO = click.option("--to", "to_us", metavar="TIME", callback=micros_of, help="up to then, without it; now else")
_DEVICES = click.option(
    "--device", "devices", multiple=True, metavar="NAME", shell_complete=device_names, help="these only"
)
_POINTS = click.option(
    "--point", "points", multiple=True, metavar="DEVICE/POINT", shell_complete=point_names, help="its trend, too"
)
_BEGIN_S, _CLAIM_S = 1.5, 0.0025
_NOTE = click.option("--note", default="", metavar="TEXT", help="stands on each page")


def _out(names: str) -> Callable[[Any], Any]:
    return click.argument("out", metavar=names, type=click.Path(path_type=Path, dir_okay=False))


def _require(out: Path, endings: tuple[str, ...]) -> None:
    if out.suffix.lower() not in endings:
        raise click.UsageError(f"{out.name} does not tell its form; end it in {' or '.join(endings)}")
    if out.exists():
        raise click.UsageError(f"{out} is there already, and stays as it is; name another file")
    if not out.absolute().parent.is_dir():
        raise click.UsageError(f"{out} cannot be written: there is no folder {out.absolute().parent}")


def _facts(
    site: Site, path: Path, from_us: int | None, to_us: int | None, devices: tuple[str, ...], note: str
) -> ReportFacts:
    known = [device.name for _, device in site.devices()]
    for name in devices:
        if name not in known:
            raise click.UsageError(f"there is no device {name!r}{suggestion(name, known)}")
    if from_us is not None and to_us is not None and from_us >= to_us:
        raise click.UsageError("--from is not before --to: there is nothing between them")
    try:
        return gather(site, path, from_us, to_us - 1 if to_us is not None else None, devices, note)
    except CannotKeep as error:
        raise click.UsageError(str(error)) from None


def _lasts_s(facts: ReportFacts) -> float:
    """About how long its papers take, as `make bench` measures it."""
    return _BEGIN_S + _CLAIM_S * len(facts.claims)


def _write(document: "Sheet", out: Path, lasts_s: float) -> None:
    from kanaleto.paper.drawing import write_elsewhere
    from kanaleto.paper.look import NoPaper

    try:
        with Progress().during(lasts_s, f"{out.name} is made"):
            write_elsewhere(document, out)
    except NoPaper as error:
        raise Failed(str(error)) from None


@click.command("report")
@_SITE
@_out("OUT.pdf")
@_FROM
@_TO
@_DEVICES
@_POINTS
@_NOTE
def report(
    site_path: Path, out: Path, from_us: int | None, to_us: int | None, devices: tuple[str, ...],
    points: tuple[str, ...], note: str,
) -> int:  # fmt: skip
    """What a site is and how it was proved, for paper: what is unfinished first, its drawing, lines and devices, the
    checkout with its evidence, communication, trends, errors and writes. Never overwrites.

    \b
    Example:
      kanaleto export report alder-lock.toml report.pdf --from 2026-05-01 --note "after the new gate"
    """
    from kanaleto.paper.report import report_document

    _require(out, (".pdf",))
    if len(points) > MOST_POINTS * 3:
        raise click.UsageError(f"{len(points)} trends are too many for a report: {MOST_POINTS * 3} at most")
    loaded = load_whole(site_path)
    facts = _facts(loaded.site, site_path, from_us, to_us, devices, note)
    document = report_document(facts)
    if points:
        end = to_us / 1e6 if to_us is not None else time.time()
        begin = from_us / 1e6 if from_us is not None else end - 3600
        places = places_of(loaded.site, points)
        document.curves = curves_of(loaded.site, places, stores_of(str(site_path)), begin, end)
        document.begin, document.end = begin, end
    _write(document, out, _lasts_s(facts))
    left = sum(claim.is_left for claim in facts.claims)
    say(f"{len(facts.claims)} claims, {left} left, written to {out}", err=True)
    return 0


@click.command("site")
@_SITE
@_out("OUT.svg|OUT.pdf")
@_NOTE
def site(site_path: Path, out: Path, note: str) -> int:
    """The drawing of a site: its lines, devices in the order along the cable, unit IDs, settings, terminators, bias and
    bridges. Never overwrites.

    \b
    Example:
      kanaleto export site alder-lock.toml site.svg
    """
    from kanaleto.files.origins import look_around
    from kanaleto.paper.siteschemes import scheme_sheet

    _require(out, (".svg", ".pdf"))
    loaded = load_whole(site_path)
    look_around()
    _write(scheme_sheet(loaded.site, note), out, _BEGIN_S)
    say(f"{loaded.site.device_count} devices on {len(loaded.site.lines)} lines drawn to {out}", err=True)
    return 0


@click.command("handover")
@_SITE
@_out("OUT.zip")
@_FROM
@_TO
@_DEVICES
@_NOTE
@click.option("--with-record", "has_record", is_flag=True, help="the record of samples, too")
@click.option("--with-tape", "has_tape", is_flag=True, help="the tape of exchanges, too")
def handover(
    site_path: Path, out: Path, from_us: int | None, to_us: int | None, devices: tuple[str, ...], note: str,
    has_record: bool, has_tape: bool,
) -> int:  # fmt: skip
    """All that is handed over with a plant, in one file: what is unfinished first, the site with its maps, routines and
    rehearsals, snapshots, the checkout sheet, the journal, report and drawings, and SHA256SUMS. Keys, certificates and
    passwords are never in it. Never overwrites.

    \b
    Example:
      kanaleto export handover alder-lock.toml alder-lock.zip
      unzip -d handed alder-lock.zip && cd handed && sha256sum -c SHA256SUMS && kanaleto check alder-lock.toml
    """
    from kanaleto.paper.handover import CannotHandOver, write_handover
    from kanaleto.paper.look import NoPaper

    _require(out, (".zip",))
    loaded = load_whole(site_path)
    facts = _facts(loaded.site, site_path, from_us, to_us, devices, note)
    beside: dict[str, Path] = {}
    folder, name = folder_of(str(site_path)), f"{site_path.stem}.kanaleto"
    if has_record:
        beside |= {f"{name}/{path.name}": path for path in map(Path, stores_of(str(site_path)))}
    if has_tape:
        beside |= {f"{name}/tape/{path.name}": path for path in sorted((folder / "tape").glob("*")) if path.is_file()}
    try:
        with Progress().during(_lasts_s(facts), f"{out.name} is made"):
            count = write_handover(loaded, out, facts, beside)
    except (NoPaper, CannotHandOver) as error:
        raise Failed(str(error)) from None
    except OSError as error:
        raise Failed(f"{out} cannot be written: {error.strerror or error}") from None
    say(f"{count} files are in {out}", err=True)
    return 0
