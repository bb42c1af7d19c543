"""Reading a span of any length: split into requests that the standard and the device allow, put together as one."""

from msgspec import Struct

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer, Request, pack_bits

_WORTH_A_RETRY = (OutcomeKind.TIMEOUT, OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED)


class Span(Struct, frozen=True):
    """What came of a span: its data (registers big-endian; bits packed), or the outcome that ended it."""

    data: bytes
    failure: Outcome | None
    took_s: float


def split_reads(table: Table, address: int, count: int, per_value: int, most: int) -> list[Read]:
    """Requests for `count` items from `address`; no value of `per_value` items is torn. Raises ValueError."""
    most -= most % per_value
    if most == 0:
        raise ValueError(f"a value of {per_value} registers does not fit one request of this device")
    if address + count > 0x10000:
        raise ValueError(f"{count} {table.title} from address {address} run past the last address, 65535")
    return [Read(table, at, min(most, address + count - at)) for at in range(address, address + count, most)]


async def ask_again(exchanger: Exchanger, unit_id: int, request: Request, timeout_s: float, retries: int) -> Outcome:
    """Ask, and again when nothing sound came, up to `retries` times more."""
    outcome = await exchanger.ask(unit_id, request, timeout_s)
    while outcome.kind in _WORTH_A_RETRY and retries > 0:
        retries -= 1
        outcome = await exchanger.ask(unit_id, request, timeout_s)
    return outcome


async def read_span(exchanger: Exchanger, unit_id: int, requests: list[Read], timeout_s: float, retries: int) -> Span:
    """Send `requests` one after the other; the first that fails ends it."""
    data: list[bytes] = []
    bits: list[bool] = []
    took_s = 0.0
    for request in requests:
        outcome = await ask_again(exchanger, unit_id, request, timeout_s, retries)
        took_s += outcome.took_s
        content = outcome.content
        if outcome.kind is not OutcomeKind.GOOD or not isinstance(content, ReadAnswer):
            return Span(b"", outcome, took_s)
        data.append(content.data)
        if request.table.is_bits:
            bits += content.bits(request.count)
    return Span(pack_bits(tuple(bits)) if bits else b"".join(data), None, took_s)
