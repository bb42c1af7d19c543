"""`kanaleto wire`: a capture or a tape, exchange by exchange, and what the pattern looks like."""

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec import to_builtins

from kanaleto.capture.filter import FAILED, ExchangeFilter, PointsOf, parse_filter, says
from kanaleto.capture.jsonlines import as_object, iso_us
from kanaleto.capture.reading import Capture
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.served import ServedPoints
from kanaleto.capture.words import OUTCOMES, asked_words, outcome_words
from kanaleto.cli.completing import device_names, line_names
from kanaleto.cli.keptfiles import capture_faults, capture_of, site_of
from kanaleto.cli.moments import local, micros_of, zone
from kanaleto.cli.output import emit, say
from kanaleto.events.filtering import FilterFault
from kanaleto.evidence.finding import WireFinding
from kanaleto.evidence.findings import findings_of, remarks_of
from kanaleto.evidence.gathered import Gathered
from kanaleto.evidence.owncounts import OwnCounts
from kanaleto.lines.outcome import OutcomeKind

if TYPE_CHECKING:
    from kanaleto.evidence.when import WhenLooked

_GOOD = OutcomeKind.GOOD
_LEAST = 8


@click.command("wire")
@click.argument("capture", metavar="CAPTURE|SITE")
@click.option(
    "--where", metavar="FILTER", help="only what fits, as in 'device:\"Sump pump\" outcome:silent took_ms:>200'"
)
@click.option("--failed", "is_failed", is_flag=True, help="only what failed")
@click.option(
    "--device", metavar="N", shell_complete=device_names, help="only this unit ID, or the device of that name"
)
@click.option("--line", "line_name", metavar="NAME", shell_complete=line_names, help="only this line")
@click.option("--text", metavar="TEXT", help="only what has this in its words, names or bytes (hexadecimal)")
@click.option(
    "--from", "from_us", metavar="TIME", callback=micros_of, help="2026-05-17T03:00, 03:00 (the last), or 2h (ago)"
)
@click.option("--to", "to_us", metavar="TIME", callback=micros_of)
@click.option("--pattern", "is_pattern", is_flag=True, help="no exchanges, only what the pattern looks like")
@click.option("--json", "is_json", is_flag=True, help="one object a line")
def command(
    capture: str, where: str | None, is_failed: bool, device: str | None, line_name: str | None, text: str | None,
    from_us: int | None, to_us: int | None, is_pattern: bool, is_json: bool,
) -> int:  # fmt: skip
    """The exchanges of CAPTURE (JSON lines, pcapng, pcap, a tape), or the last hours of SITE, and what their pattern
    looks like.

    \b
    Examples:
      kanaleto wire night.pcapng --failed
      kanaleto wire alder-lock.toml --device "Upper sluice" --from 10min
      kanaleto wire night.jsonl --where 'device:"Sump pump" outcome:silent -function:3'

    FILTER: words that must occur, and key:value with line, device, unit, function, address, outcome (good, refused,
    refused:2, silent, garbled, strange, unreachable), from, to, took_ms, bytes, point, origin. `-` before one excludes,
    quotes hold blanks, numbers may be 100-120 or >200.
    """
    site = site_of(capture)
    served = ServedPoints(site) if site is not None else None
    wanted = _filter(where, is_failed, device, text, served.names_of if served is not None else None)
    of_it = ExchangeFilter("").narrowed(None, from_us, to_us)
    source = capture_of(capture, lambda head: head.first_us < of_it.to_us and head.last_us >= of_it.from_us)
    gathered, fitting = Gathered(served.timeouts_us if served is not None else {}), 0
    counts = OwnCounts(served)
    with capture_faults(capture):
        if not is_json and not is_pattern:
            why = f"; laid aside: {source.why}" if source.why else ""
            say(f"times are local, {zone()}{why}", err=True)
        for row in source:
            if not of_it.fits(row) or line_name not in (None, row.line):
                continue
            gathered.add(row)
            counts.add(row)
            if not wanted.fits(row):
                continue
            fitting += 1
            if is_json and not is_pattern:
                emit(as_object(row))
            elif not is_pattern:
                _tell(row)
    for message in source.damaged:
        say(message, err=True)
    _tell_pattern(gathered, _when(source.path, of_it, line_name, gathered, served), counts, fitting, is_json)
    return 0


def _filter(
    where: str | None, is_failed: bool, device: str | None, text: str | None, points_of: PointsOf | None
) -> ExchangeFilter:
    """All that narrows which exchanges are reported. Raises click.UsageError."""
    try:
        found = parse_filter(where or "", points_of)
    except FilterFault as error:
        raise click.UsageError(f"--where {where!r}, {error}") from None
    if is_failed:
        found = found.narrowed(FAILED)
    if device is not None:
        unit_id = int(device) if device.isdecimal() else None
        found = found.narrowed(None, None, None, lambda row: unit_id == row.unit_id or row.device == device)
    return found.narrowed(None, None, None, says(text)) if text is not None else found


def _tell(row: ExchangeRow) -> None:
    who = f"{row.line} · {row.device or f'unit {row.unit_id}'}"
    took = f"  {row.took_us / 1000:.1f} ms" if row.answer else ""
    say(f"{local(row.at_us)}  {who}  {asked_words(row)}  → {outcome_words(row)}{took}")
    say(f"    {row.request.hex(' ').upper() or '—'}  →  {row.answer.hex(' ').upper() or '—'}")


def _when(
    path: Path, of_it: ExchangeFilter, line_name: str | None, gathered: Gathered, served: ServedPoints | None
) -> "WhenLooked | None":
    """When it fails, where enough does to ask that."""
    if not any(
        count >= _LEAST for device in gathered.devices for kind, count in device.kinds.items() if kind is not _GOOD
    ):
        return None
    from kanaleto.evidence.when import look_when  # which costs more than all the rest to load

    def rows() -> Iterator[ExchangeRow]:
        for row in Capture(path, lambda head: head.first_us < of_it.to_us and head.last_us >= of_it.from_us):
            if of_it.fits(row) and line_name in (None, row.line):
                yield row

    return look_when(rows, served)


def _tell_pattern(
    gathered: Gathered, when: "WhenLooked | None", counted: OwnCounts, fitting: int, is_json: bool
) -> None:
    found = findings_of(list(gathered.lines.values()))
    remarks = [*remarks_of(list(gathered.lines.values()), found), *counted.sentences()]
    if is_json:
        emit(
            {
                "pattern": [*(one.text for one in found), *remarks],
                "exchanges": gathered.rows,
                "fitting": fitting,
                "findings": [_as_object(one) for one in found],
                "when": [to_builtins(one) for one in when.found] if when is not None else [],
            }
        )
        return
    fit = f", {fitting} of them fit" if fitting != gathered.rows else ""
    say(f"{gathered.rows} exchanges{fit}", err=True)
    for evidence in gathered.devices:
        failed = ", ".join(f"{count} {OUTCOMES[kind]}" for kind, count in evidence.kinds.items() if kind is not _GOOD)
        good = evidence.kinds.get(_GOOD, 0)
        say(f"  {evidence.line} · {evidence.name}: {good} good{', ' + failed if failed else ''}", err=True)
    for one in found:
        say(one.text, err=True)
        say(f"    try: {'; '.join(one.tries)}", err=True)
        say(f"    what would tell: {one.apart}", err=True)
    for text in remarks:
        say(text, err=True)
    if when is not None and when.cases:
        for said in when.found:
            say(said.text, err=True)
        if not when.found:
            say(f"when it fails: nothing stands out among {when.causes} causes", err=True)
    if not found and not remarks and gathered.rows:
        lost = sum(device.failed for device in gathered.devices)
        verdict = "all that was asked has been answered"
        say(f"{lost} failed, in no pattern: nothing stands out" if lost else verdict, err=True)


def _as_object(one: WireFinding) -> dict[str, object]:
    return {
        "finding": one.kind.value,
        "line": one.line,
        "device": one.device,
        "count": one.count,
        "of": one.of,
        "text": one.text,
        "causes": list(one.causes),
        "try": list(one.tries),
        "apart": one.apart,
        "rows": [iso_us(at_us) for at_us in one.rows],
    }
