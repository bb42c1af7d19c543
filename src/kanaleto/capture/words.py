"""What an exchange asked, and what came of it, in words."""

from kanaleto.capture.row import ExchangeRow
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.counting import Counting, Numbering, from_wire
from kanaleto.wire.explain_pdu import function_words
from kanaleto.wire.functionfacts import table_of
from kanaleto.wire.pdu import Read, Request, WriteCoil, WriteCoils, WriteRegister, WriteRegisters
from kanaleto.wire.records import MaskWrite, WriteThenRead

OUTCOMES = {
    OutcomeKind.GOOD: "good",
    OutcomeKind.EXCEPTION: "refused",
    OutcomeKind.TIMEOUT: "silent",
    OutcomeKind.GARBLED: "garbled",
    OutcomeKind.UNEXPECTED: "strange",
    OutcomeKind.UNREACHABLE: "unreachable",
}


def request_words(request: Request, numbering: Counting = Numbering.PROTOCOL) -> str:
    """What was asked, with the address counted so."""
    table = table_of(request)
    if table is None:
        return f"{function_words(request.function)}, 0x{request.function:02X}"
    if isinstance(request, Read):
        return f"read {request.count} {table.value} from {from_wire(request.address, table, numbering)}"
    if isinstance(request, WriteThenRead):
        where = from_wire(request.write_address, table, numbering)
        return f"write {len(request.words)} {table.value} from {where}, read {request.count}"
    if isinstance(request, MaskWrite):
        return f"mask {from_wire(request.address, table, numbering)}"
    if isinstance(request, WriteCoil):
        return f"write {'on' if request.on else 'off'} to {from_wire(request.address, table, numbering)}"
    if isinstance(request, WriteRegister):
        return f"write {request.word} to {from_wire(request.address, table, numbering)}"
    if isinstance(request, WriteCoils | WriteRegisters):
        count = len(request.bits) if isinstance(request, WriteCoils) else len(request.words)
        return f"write {count} {table.value} from {from_wire(request.address, table, numbering)}"
    return function_words(request.function)


def asked_words(row: ExchangeRow) -> str:
    """What a row asked; addresses as the wire counts them."""
    request = row.asked()
    if request is None:
        return f"unit {row.unit_id}" if row.request else "nothing was asked"
    again = "  (again)" if row.attempt else ""
    return f"{request_words(request)}{again}"


def outcome_words(row: ExchangeRow) -> str:
    """How it ended, and why."""
    return f"{OUTCOMES[row.kind]}{f': {row.reason}' if row.reason else ''}"
