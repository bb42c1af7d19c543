"""What a device says of itself: identification (2B/0E) as deep as it goes, and its server ID (11)."""

from msgspec import Struct, field

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.lines.readspan import ask_again
from kanaleto.wire.codes import Function
from kanaleto.wire.diagnostics import Plain, ServerId, server_id_parts
from kanaleto.wire.identity import Depth, Identify, Identity

_MOST_ANSWERS = 64  # of one stream: a device that says "more follows" for ever is not followed for ever


class Identification(Struct):
    """Objects by number, as text; the server ID and what is added to it; `reason` is why there is nothing, in words."""

    objects: dict[int, str] = field(default_factory=dict)
    server_id: str | None = None
    is_running: bool | None = None
    additional: str = ""
    reason: str = ""


async def identify(exchanger: Exchanger, unit_id: int, timeout_s: float, retries: int = 1) -> Identification:
    """Ask for the deepest stream that the device has, then for its server ID."""
    found = Identification()
    conformity = await _stream(exchanger, unit_id, Depth.BASIC, timeout_s, retries, found)
    for depth in (Depth.REGULAR, Depth.EXTENDED):
        if conformity is not None and conformity & 0x7F >= depth:
            await _stream(exchanger, unit_id, depth, timeout_s, retries, found)
    outcome = await ask_again(
        exchanger, unit_id, Plain(Function.REPORT_SERVER_ID), timeout_s, 0 if found.reason else retries
    )
    if isinstance(outcome.content, ServerId):
        raw, found.is_running, more = server_id_parts(outcome.content.data)
        found.server_id, found.additional = _text_or_hex(raw), _text_or_hex(more)
    elif outcome.kind is not OutcomeKind.EXCEPTION:
        found.reason = found.reason or outcome.reason
    return found


def _text_or_hex(raw: bytes) -> str:
    try:
        text = raw.decode("utf-8").strip("\0 ")
    except UnicodeDecodeError:
        text = "\0"
    return text if text.isprintable() else raw.hex(" ").upper()


async def _stream(
    exchanger: Exchanger, unit_id: int, depth: Depth, timeout_s: float, retries: int, found: Identification
) -> int | None:
    """Read one stream to its end; gives the conformity that the device tells, or None."""
    next_id, conformity = 0, None
    for _ in range(_MOST_ANSWERS):
        outcome = await ask_again(exchanger, unit_id, Identify(depth, next_id), timeout_s, retries)
        content = outcome.content
        if not isinstance(content, Identity):
            found.reason = outcome.reason
            return conformity
        conformity = content.conformity
        found.objects |= {number: data.decode("utf-8", "replace").strip("\0 ") for number, data in content.objects}
        if content.next_id is None or content.next_id <= next_id:
            break
        next_id = content.next_id
    return conformity
