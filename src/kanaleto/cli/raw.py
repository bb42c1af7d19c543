"""`kanaleto raw`: a PDU of one's own, sent as it stands."""

from pathlib import Path

import click

from kanaleto.cli.completing import links
from kanaleto.cli.failures import Failed, tell_failure
from kanaleto.cli.hexadecimal import bytes_from
from kanaleto.cli.oneexchange import asked_once
from kanaleto.cli.options import require_unit, usage
from kanaleto.cli.output import emit, iso, say
from kanaleto.cli.siteline import SITE_OPTION, YES_OPTION, site_line
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.links.link import FramingKind
from kanaleto.site.links.parse import parse_link
from kanaleto.wire.explain import explain_frame
from kanaleto.wire.frames import Role
from kanaleto.wire.pdu import Raw

_LISTEN_ONLY = b"\x08\x00\x04"  # diagnostics, sub-function 4 (application protocol 1.1b3, 6.8.1)
_RESTART = b"\x08\x00\x01"
_LISTENS = "nothing came, as is right: it only listens now, until communications are restarted (08 00 01 00 00)"


@click.command("raw", context_settings={"ignore_unknown_options": True})
@click.argument("link", shell_complete=links)
@click.argument("hex_words", metavar="HEX...", nargs=-1, required=True, type=click.UNPROCESSED)
@click.option("--unit", "unit_id", default=1, show_default=True, type=click.IntRange(0, 255))
@click.option(
    "--timeout", "timeout_s", default=1.0, show_default=True, type=click.FloatRange(0.001, 3600), help="seconds"
)
@click.option("--json", "is_json", is_flag=True, help="one object")
@SITE_OPTION
@YES_OPTION
def command(
    link: str, hex_words: tuple[str, ...], unit_id: int, timeout_s: float, is_json: bool, site_path: Path | None,
    is_yes: bool,
) -> int:  # fmt: skip
    """Send a PDU (function code and data) and show what comes back, byte for byte. The framing is put round it.

    It goes out as it stands, writes too: nothing is checked but its length.

    \b
    Example: a function of a maker's own
      kanaleto raw tcp://127.0.0.1:15020 41 01 02 --unit 3
    """
    at = site_line(site_path, link, unit_id)
    parsed = at.line.link if at is not None else usage(lambda: parse_link(link))
    require_unit(parsed, unit_id, may_broadcast=True)
    pdu = bytes_from(hex_words)
    request = usage(lambda: Raw(pdu[0], pdu[1:]))
    if at is not None:
        at.require_allowed(pdu, is_yes)
    outcome, framing = asked_once(parsed, unit_id, request, timeout_s)
    is_to_all = unit_id == 0 and parsed.framing is not FramingKind.TCP
    is_right_silence = outcome.kind is OutcomeKind.TIMEOUT and pdu[:3] == _LISTEN_ONLY
    said = "to all: nobody answers" if is_to_all and outcome.is_good else _LISTENS if is_right_silence else ""
    if is_json:
        if outcome.kind not in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION) and not is_right_silence:
            tell_failure(str(parsed), None, outcome, True, unit_id)
            raise Failed
        took = round(outcome.took_s * 1000, 3)
        emit(
            {
                "at": iso(),
                "unit_id": unit_id,
                "request": outcome.request.hex(),
                "answer": outcome.answer.hex(),
                "took_ms": took,
            }
            | {"exception": outcome.code}
        )
    else:
        say(f"sent  {outcome.request.hex(' ').upper()}")
        if outcome.answer:
            say(f"came  {outcome.answer.hex(' ').upper()}  after {outcome.took_s * 1000:.1f} ms")
            for field in explain_frame(framing.name, Role.ANSWERS, outcome.answer):
                say(
                    f"  {outcome.answer[field.start : field.end].hex(' ').upper():<12} "
                    f" {field.name:<14}  {field.meaning}"
                )
        if said:
            say(said)
    if not outcome.is_good and not is_right_silence:
        was_listening = outcome.kind is OutcomeKind.TIMEOUT and pdu[:3] == _RESTART
        hint = "; that is right if it only listened, ask it something now" if was_listening else ""
        raise Failed(f"{parsed.place}, unit {unit_id}: {outcome.reason}{hint}")
    return 0
