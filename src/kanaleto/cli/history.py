"""`kanaleto history`: what was kept of a site."""

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kanaleto.cli.completing import point_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.historyrows import SampleRow, tell_rows, write_csv
from kanaleto.cli.keptfiles import earlier_name, folder_of, is_site, journal_events, stores_of
from kanaleto.cli.moments import last_before, local, micros_of, zone
from kanaleto.cli.output import emit, say
from kanaleto.events.log import length_text
from kanaleto.history.eventtable import as_object, how_long, iso_ms, sentence
from kanaleto.history.store_error import CannotRecord

if TYPE_CHECKING:
    from kanaleto.history.query import History, Sample, SeriesInfo

_FAILURES = ("silent", "garbled", "strange", "late", "unreachable")


@click.command("history")
@click.argument("what", metavar="SITE|STORE")
@click.option("--list", "is_list", is_flag=True, help="which points were recorded, and from when to when")
@click.option(
    "--point",
    "points",
    multiple=True,
    metavar="DEVICE/POINT",
    shell_complete=point_names,
    help="these only; a derived one is /NAME",
)
@click.option(
    "--from", "from_us", metavar="TIME", callback=micros_of, help="2026-05-17T03:00, 03:00 (the last), or 2h (ago)"
)
@click.option("--to", "to_us", metavar="TIME", callback=last_before)
@click.option("--statistics", "is_statistics", is_flag=True, help="least, most, mean; and how long it was good")
@click.option("--minutes", "is_minutes", is_flag=True, help="how each device did, minute by minute")
@click.option("--events", "is_events", is_flag=True, help="what happened: outages, refusals, edits, …")
@click.option("--writes", "is_writes", is_flag=True, help="what was written to devices")
@click.option("--aside", "is_aside", is_flag=True, help="exchanges that were laid aside upon an event")
@click.option("--tape", "is_tape", is_flag=True, help="samples of the last hours, recorded or not, from the tape")
@click.option("--note", metavar="TEXT", help="write a note into the journal")
@click.option("--on", "event_id", type=int, metavar="N", help="the event that --note is about, by its number")
@click.option("--today", "is_today", is_flag=True, help="read old words with the site's definitions of today")
@click.option("--csv", "csv_path", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE")
@click.option("--json", "is_json", is_flag=True, help="one object a line")
def command(
    what: str, is_list: bool, points: tuple[str, ...], from_us: int | None, to_us: int | None, is_statistics: bool,
    is_minutes: bool, is_events: bool, is_writes: bool, is_aside: bool, is_tape: bool, note: str | None,
    event_id: int | None, is_today: bool, csv_path: Path | None, is_json: bool,
) -> int:  # fmt: skip
    """What was kept: samples of a record, or events of the journal of SITE.

    \b
    Examples:
      kanaleto history alder-lock.toml --list
      kanaleto history alder-lock.toml --point "Upper sluice/Position" --from 2h --csv position.csv
      kanaleto history alder-lock.toml --tape --point "Upper sluice/Position" --from 10min
      kanaleto history alder-lock.toml --events --from 03:00
      kanaleto history alder-lock.toml --note "adapter changed" --on 17
    """
    if from_us is not None and to_us is not None and from_us > to_us:
        raise click.UsageError("--from is behind --to")
    if note is not None:
        return _note(what, note, event_id)
    if is_events or is_writes:
        return _events(what, from_us, to_us, is_writes, is_json, csv_path)
    if is_aside:
        return _aside(what, is_json)
    if is_tape:
        from kanaleto.cli.historytape import tell_tape

        return tell_tape(what, points, from_us, to_us, csv_path, is_json)
    try:
        return _samples(what, is_list, points, from_us, to_us, is_statistics, is_minutes, is_today, csv_path, is_json)
    except CannotRecord as error:
        raise Failed(str(error)) from None


def _note(what: str, note: str, event_id: int | None) -> int:
    import sqlite3
    from time import time

    from kanaleto.editing.presence import user_name
    from kanaleto.history.journal import FILE, journals_of
    from kanaleto.history.journalfile import NewerFile, add_note

    if not note.strip():
        raise click.UsageError("the note is empty")
    folder = folder_of(what) if is_site(what) else Path(what).parent
    path = (journals_of(folder) or [folder / FILE])[0] if is_site(what) else Path(what)
    try:
        if not add_note(path, note.strip(), user_name(), round(time() * 1e6), event_id):
            raise Failed(
                f"there is no event {event_id} in {path}; kanaleto history {what} --events shows their numbers"
            )
    except (sqlite3.Error, OSError, NewerFile) as error:
        raise Failed(f"the note cannot be written: {error}") from None
    say("noted", err=True)
    return 0


def _events(
    what: str, from_us: int | None, to_us: int | None, is_writes: bool, is_json: bool, csv_path: Path | None
) -> int:
    wanted = (event for event in journal_events(what, from_us, to_us) if not is_writes or event.kind == "write")
    if csv_path is not None:
        from kanaleto.history.eventtable import write_log

        try:
            count = write_log(csv_path, "csv", list(wanted), what, zone())
        except OSError as error:
            raise Failed(f"{csv_path} cannot be written: {error.strerror or error}") from None
        say(f"{count} events written to {csv_path}", err=True)
        return 0
    if not is_json:
        say(f"times are local, {zone()}", err=True)
    count = 0
    for event in wanted:
        count += 1
        if is_writes:
            fields = {key: event.data.get(key) for key in ("old", "new", "outcome")}
            row: dict[str, Any] = {"at": iso_ms(event.begun), "who": event.who, "device": event.device}
            emit({**row, "point": event.point, **fields}) if is_json else say(
                f"{local(event.begun)}  {event.who}  {sentence(event)}"
            )
        elif is_json:
            emit(as_object(event))
        else:
            say(f"{event.id:>6}  {local(event.begun)}  {event.kind:<13} {how_long(event):>12}  {sentence(event)}")
    if not count and not is_json:
        say("nothing was written" if is_writes else "nothing happened", err=True)
    return 0


def _aside(what: str, is_json: bool) -> int:
    from kanaleto.capture.packing import head_of
    from kanaleto.capture.tape import aside_of

    if not is_site(what):
        raise click.UsageError("--aside wants a site file")
    for path, is_seen in aside_of(folder_of(what) / "tape"):
        head = head_of(path)
        at_us = head.get("at_us")
        row = {"at": iso_ms(at_us) if isinstance(at_us, int) else None, "why": head.get("why"), "file": str(path)}
        if is_json:
            emit({**row, "seen": is_seen})
        else:
            when = local(at_us) if isinstance(at_us, int) else ""
            say(f"{'  ' if is_seen else '● '}{when}  {head.get('why', '')}\n    kanaleto wire {path}")
    return 0


def _samples(
    what: str, is_list: bool, points: tuple[str, ...], from_us: int | None, to_us: int | None, is_statistics: bool,
    is_minutes: bool, is_today: bool, csv_path: Path | None, is_json: bool,
) -> int:  # fmt: skip
    from kanaleto.history.query import History

    histories = [History(store) for store in stores_of(what)]
    try:
        if is_minutes:
            return _minutes(histories, from_us, to_us, is_json)
        all_series = [(history, one_series) for history in histories for one_series in history.series(counts=is_list)]
        known = {name for _, series in all_series for name in _names_of(series)}
        names = {name if name in known else earlier_name(what, name, known) for name in points}
        wanted = [(history, series) for history, series in all_series if not names or _names_of(series) & names]
        if is_list:
            return _list(wanted, is_json)
        if is_statistics:
            return _statistics(wanted, from_us, to_us, is_json)
        rows = _rows(wanted, from_us, to_us, _definitions_of(what) if is_today else {})
        if csv_path is not None:
            return write_csv(csv_path, rows)
        return tell_rows(rows, is_json)
    finally:
        for history in histories:
            history.close()


def _names_of(series: "SeriesInfo") -> set[str]:
    """Also as SITE: DEVICE/POINT, where several stations record into one database."""
    return {f"{series.device}/{series.point}", f"{series.site}: {series.device}/{series.point}"}


def _name_of(series: "SeriesInfo", wanted: list[tuple["History", "SeriesInfo"]]) -> str:
    """With its site, where there are several."""
    several = len({other.site for _, other in wanted}) > 1
    return f"{series.site}: {series.device}/{series.point}" if several else f"{series.device}/{series.point}"


def _rows(
    wanted: list[tuple["History", "SeriesInfo"]], from_us: int | None, to_us: int | None, today: dict[str, Any]
) -> Iterator[SampleRow]:
    """Samples of all series in the order of time, as objects."""
    from heapq import merge

    streams = [history.samples(series, from_us, to_us) for history, series in wanted]
    several = len({series.site for _, series in wanted}) > 1
    for sample in merge(*streams, key=lambda sample: sample.at_us):
        yield _object(sample, today, sample.series.site if several else "")


def _object(sample: "Sample", today: dict[str, Any], site: str) -> SampleRow:
    from kanaleto.values.codec import NoValue
    from kanaleto.values.text import plain, shown, words_of

    series, definition, value = sample.series, sample.definition, sample.value
    other = today.get(f"{series.device}/{series.point}")
    if other is not None and sample.words is not None and not other.exponent:
        definition, value = other, other.value_of(sample.words)
    codec, decimals = (definition.codec, definition.decimals) if definition is not None else (None, None)
    reason = value.reason if isinstance(value, NoValue) else sample.reason
    is_registers = sample.words is not None and len(sample.words) % 2 == 0
    number = None if value is None else plain(value, codec, decimals)
    return SampleRow(
        {
            "at": iso_ms(sample.at_us),
            **({"site": site} if site else {}),
            "device": series.device,
            "point": series.point,
            "value": number,
            "unit": definition.unit if definition is not None else series.unit,
            "quality": sample.quality,
            "reason": reason,
            "words": list(words_of(sample.words)) if is_registers and sample.words is not None else
            list(sample.words) if sample.words is not None else None,
        },
        at_us=sample.at_us,
        shown=""
        if value is None
        else shown(value, codec, decimals, definition.labels if definition is not None else {}),
        site=site,
    )  # fmt: skip


def _definitions_of(what: str) -> dict[str, Any]:
    """How the site reads its points today."""
    from kanaleto.files.loading import load_site
    from kanaleto.history.definition import definition_text, read_definition

    if not is_site(what):
        raise click.UsageError("--today wants a site file: a store does not know what is meant today")
    site, _ = load_site(Path(what))
    return {
        f"{device.name}/{point.name}": read_definition(definition_text(point))
        for _, device in site.devices()
        for point in device.points
    }


def _list(wanted: list[tuple["History", "SeriesInfo"]], is_json: bool) -> int:
    for history, series in wanted:
        first, last = (iso_ms(at) if at is not None else None for at in (series.first_us, series.last_us))
        if is_json:
            emit({"site": series.site, "device": series.device, "point": series.point, "unit": series.unit,
                  "first": first, "last": last, "samples": series.rows, "store": history.name})  # fmt: skip
        else:
            when = (
                f"{local(series.first_us)} … {local(series.last_us or series.first_us)}"
                if series.first_us is not None
                else "—"
            )
            say(f"{_name_of(series, wanted)}  {series.rows} samples  {when}")
    return 0


def _statistics(
    wanted: list[tuple["History", "SeriesInfo"]], from_us: int | None, to_us: int | None, is_json: bool
) -> int:
    for history, series in wanted:
        found = history.statistics(series, from_us, to_us)
        if is_json:
            emit({"site": series.site, "device": series.device, "point": series.point, "unit": series.unit,
                  "samples": found.rows, "least": found.least, "most": found.most, "mean": found.mean,
                  "recorded_s": found.recorded_s, "good_s": found.good_s})  # fmt: skip
            continue
        named = (("least", found.least), ("most", found.most), ("mean", found.mean))
        numbers = [f"{name} {number:.6g}" for name, number in named if number is not None]
        unit = f" {series.unit}" if series.unit else ""
        share = f"good for {length_text(found.good_s)} of {length_text(found.recorded_s)} recorded"
        say(f"{_name_of(series, wanted)}  {', '.join(numbers) or 'no number'}{unit}; {found.rows} samples, {share}")
    return 0


def _minutes(histories: list["History"], from_us: int | None, to_us: int | None, is_json: bool) -> int:
    import json

    for history in histories:
        for row in history.minutes(from_us, to_us):
            at_us = int(str(row.pop("at")))
            codes = json.loads(str(row.pop("exceptions")))
            if is_json:
                median, most = row.pop("median_us"), row.pop("most_us")
                times = {"median_ms": _ms(median), "most_ms": _ms(most)}
                emit({"at": iso_ms(at_us), **row, "exceptions": codes, **times})
                continue
            minute = f"{datetime.fromtimestamp(at_us / 1e6).astimezone():%Y-%m-%d %H:%M}"
            if not row["device"]:
                busy = float(str(row["busy"] or 0))
                say(f"{minute}  {row['name']}  {100 * busy:.0f} % busy, {row['late']} late")
                continue
            failed = [f"{row[kind]} {kind}" for kind in _FAILURES if row[kind]]
            failed += [f"{count} × exception {code}" for code, count in codes.items()]
            took = f", median {_ms(row['median_us'])} ms, 95 % {_ms(row['most_us'])} ms" if row["median_us"] else ""
            text = f", {', '.join(failed)}" if failed else ""
            say(f"{minute}    {row['device']}  {row['good']} of {row['asked']} good{took}{text}")
    return 0


def _ms(micros: object) -> float | None:
    return round(micros / 1000, 3) if isinstance(micros, int) else None
