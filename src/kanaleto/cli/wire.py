"""`kanaleto wire`: a capture or a tape, exchange by exchange, and what the pattern looks like."""

from pathlib import Path

import click

from kanaleto.capture.jsonlines import NoCapture, as_object
from kanaleto.capture.packing import BlockHead
from kanaleto.capture.pattern import Pattern
from kanaleto.capture.reading import Capture
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.words import asked_words, outcome_words
from kanaleto.cli.failures import Failed
from kanaleto.cli.keptfiles import folder_of, is_site
from kanaleto.cli.moments import local, micros_of, zone
from kanaleto.cli.output import emit, say
from kanaleto.lines.outcome import OutcomeKind


@click.command("wire")
@click.argument("capture", metavar="CAPTURE|SITE")
@click.option("--failed", "is_failed", is_flag=True, help="only what failed")
@click.option("--device", metavar="N", help="only this unit ID, or the device of that name")
@click.option("--line", "line_name", metavar="NAME", help="only this line")
@click.option("--text", metavar="TEXT", help="only what has this in its words, names or bytes (hexadecimal)")
@click.option(
    "--from", "from_us", metavar="TIME", callback=micros_of, help="2026-05-17T03:00, 03:00 (today), or 2h (ago)"
)
@click.option("--to", "to_us", metavar="TIME", callback=micros_of)
@click.option("--pattern", "is_pattern", is_flag=True, help="no exchanges, only what the pattern looks like")
@click.option("--json", "is_json", is_flag=True, help="one object a line")
def command(
    capture: str, is_failed: bool, device: str | None, line_name: str | None, text: str | None, from_us: int | None,
    to_us: int | None, is_pattern: bool, is_json: bool,
) -> int:  # fmt: skip
    """The exchanges of CAPTURE (JSON lines, pcapng, pcap, a tape), or the last hours of SITE, and what their pattern
    looks like.

    \b
    Examples:
      kanaleto wire night.pcapng --failed
      kanaleto wire alder-lock.toml --device "Upper sluice" --from 10min
    """
    wanted = _Wanted(is_failed, device, line_name, text, from_us, to_us)
    path = folder_of(capture) / "tape" if is_site(capture) else Path(capture)
    pattern = Pattern()
    try:
        if not path.exists():
            what = f"nothing was kept of {capture} yet" if is_site(capture) else f"there is no file {capture}"
            raise click.UsageError(what)
        source = Capture(path, wanted.may_have)
        if not is_json and not is_pattern:
            why = f"; laid aside: {source.why}" if source.why else ""
            say(f"times are local, {zone()}{why}", err=True)
        for row in source:
            if not wanted.is_of_it(row):
                continue
            pattern.add(row)
            if not wanted.has(row):
                continue
            if is_json and not is_pattern:
                emit(as_object(row))
            elif not is_pattern:
                _tell(row)
    except NoCapture as error:
        raise click.UsageError(str(error)) from None
    except OSError as error:
        raise Failed(f"{capture} cannot be read: {error.strerror or error}") from None
    for told in source.damaged:
        say(told, err=True)
    _tell_pattern(pattern, is_json)
    return 0


class _Wanted:
    def __init__(
        self,
        is_failed: bool,
        device: str | None,
        line: str | None,
        text: str | None,
        from_us: int | None,
        to_us: int | None,
    ) -> None:
        self._is_failed, self._line = is_failed, line
        self._unit_id = int(device) if device is not None and device.isdecimal() else None
        self._device = device if self._unit_id is None else None
        self._text = text.lower() if text is not None else None
        self._hex = text.lower().replace(" ", "") if text is not None else None
        self._from_us = from_us if from_us is not None else -(2**62)
        self._to_us = to_us if to_us is not None else 2**62

    def may_have(self, head: BlockHead) -> bool:
        """Whether a block of a tape need be looked into."""
        return head.first_us <= self._to_us and head.last_us >= self._from_us

    def is_of_it(self, row: ExchangeRow) -> bool:
        """Whether it belongs to the time and the line whose pattern is wanted."""
        return self._from_us <= row.at_us <= self._to_us and self._line in (None, row.line)

    def has(self, row: ExchangeRow) -> bool:
        """Whether it is one of those that are wanted."""
        if self._is_failed and row.kind is OutcomeKind.GOOD:
            return False
        if self._unit_id is not None and row.unit_id != self._unit_id:
            return False
        if self._device is not None and row.device != self._device:
            return False
        return self._text is None or self._says(row, self._text)

    def _says(self, row: ExchangeRow, text: str) -> bool:
        if text in row.device.lower() or text in row.line.lower() or text in row.reason.lower():
            return True
        if self._hex and (self._hex in row.request.hex() or self._hex in row.answer.hex()):
            return True
        return text in asked_words(row).lower() or text in outcome_words(row).lower()


def _tell(row: ExchangeRow) -> None:
    who = f"{row.line} · {row.device or f'unit {row.unit_id}'}"
    took = f"  {row.took_us / 1000:.1f} ms" if row.answer else ""
    say(f"{local(row.at_us)}  {who}  {asked_words(row)}  → {outcome_words(row)}{took}")
    say(f"    {row.request.hex(' ').upper() or '—'}  →  {row.answer.hex(' ').upper() or '—'}")


def _tell_pattern(pattern: Pattern, is_json: bool) -> None:
    findings = pattern.findings()
    if is_json:
        emit({"pattern": [f"{finding.who} {finding.text}" for finding in findings], "exchanges": pattern.rows})
        return
    say(f"{pattern.rows} exchanges", err=True)
    for own in pattern.counted.values():
        failed = ", ".join(f"{count} {kind.value}" for kind, count in own.kinds.items() if kind is not OutcomeKind.GOOD)
        say(
            f"  {own.line} · {own.name}: {own.kinds.get(OutcomeKind.GOOD, 0)} good{', ' + failed if failed else ''}",
            err=True,
        )
    for finding in findings:
        say(f"{finding.who} {finding.text}", err=True)
    if not findings and pattern.rows:
        say("all that was asked has been answered", err=True)
