"""What a PDU reaches, known from its bytes alone: whether it only reads, which items it writes and which it reads.

What is not purely reading counts as writing: functions that write (application protocol 1.1b3, 6.5, 6.6, 6.11, 6.12,
6.15, 6.16, 6.17), the sub-functions of diagnostics that change something (6.8.1), what is encapsulated but for
identification (6.19), and every function of no standard.
"""

from msgspec import Struct

from kanaleto.wire.codes import TABLE_READ_BY, Function, Table
from kanaleto.wire.diagnostics import Diagnostic

_READING = frozenset(
    {
        *TABLE_READ_BY, Function.READ_EXCEPTION_STATUS, Function.COMM_EVENT_COUNTER, Function.COMM_EVENT_LOG,
        Function.REPORT_SERVER_ID, Function.READ_FILE_RECORD, Function.READ_FIFO_QUEUE,
    }
)  # fmt: skip
_CHANGING = frozenset(
    {
        Diagnostic.RESTART_COMMUNICATIONS, Diagnostic.CHANGE_ASCII_DELIMITER, Diagnostic.FORCE_LISTEN_ONLY,
        Diagnostic.CLEAR_COUNTERS, Diagnostic.CLEAR_OVERRUNS,
    }
)  # fmt: skip
_ADDRESSED = frozenset(
    {
        Function.WRITE_COIL, Function.WRITE_REGISTER, Function.WRITE_COILS, Function.WRITE_REGISTERS,
        Function.MASK_WRITE_REGISTER, Function.READ_WRITE_REGISTERS, Function.READ_FIFO_QUEUE,
    }
)  # fmt: skip
_IDENTIFY = 0x0E


class Items(Struct, frozen=True):
    """`first` to `end` (not included) of a table."""

    table: Table
    first: int
    end: int


def only_reads(pdu: bytes) -> bool:
    """Whether a request changes nothing in a device that keeps to the standard."""
    function = pdu[0] if pdu else 0
    if function in _READING:
        return True
    if function == Function.DIAGNOSTICS:
        sub_function = int.from_bytes(pdu[1:3])
        return len(pdu) >= 3 and sub_function in set(Diagnostic) - _CHANGING
    return function == Function.ENCAPSULATED and pdu[1:2] == bytes((_IDENTIFY,))


def written_by(pdu: bytes) -> tuple[Items, ...] | None:
    """The items that a request writes; None where that cannot be known: a function of no standard, or a PDU that is not
    whole."""
    function, has = pdu[0] if pdu else 0, len(pdu)
    address, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
    if only_reads(pdu) or function in (Function.DIAGNOSTICS, Function.WRITE_FILE_RECORD):
        return ()
    if function in (Function.WRITE_COIL, Function.WRITE_REGISTER) and has == 5:
        table = Table.COIL if function == Function.WRITE_COIL else Table.HOLDING
        return (Items(table, address, address + 1),)
    if function == Function.MASK_WRITE_REGISTER and has == 7:
        return (Items(Table.HOLDING, address, address + 1),)
    if function == Function.WRITE_COILS and has >= 6 and has == 6 + pdu[5] and pdu[5] == (count + 7) // 8:
        return (Items(Table.COIL, address, address + count),)
    if function == Function.WRITE_REGISTERS and has >= 6 and has == 6 + pdu[5] and pdu[5] == 2 * count:
        return (Items(Table.HOLDING, address, address + count),)
    if function == Function.READ_WRITE_REGISTERS and has >= 10 and has == 10 + pdu[9]:
        address, count = int.from_bytes(pdu[5:7]), int.from_bytes(pdu[7:9])
        if pdu[9] == 2 * count:
            return (Items(Table.HOLDING, address, address + count),)
    return None


def read_by(pdu: bytes) -> tuple[Items, ...]:
    """The items that a request reads, as far as it is whole."""
    function = pdu[0] if pdu else 0
    address, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
    if function in TABLE_READ_BY or (function == Function.READ_WRITE_REGISTERS and len(pdu) >= 5):
        table = TABLE_READ_BY.get(function, Table.HOLDING)
        return (Items(table, address, address + max(count, 1)),) if len(pdu) >= 3 else ()
    if function == Function.READ_FIFO_QUEUE and len(pdu) >= 3:
        return (Items(Table.HOLDING, address, address + 1),)
    return ()


def first_address(pdu: bytes) -> int | None:
    """The first address that a request names, as on the wire; None where it names none."""
    has_one = pdu[:1] and (pdu[0] in TABLE_READ_BY or pdu[0] in _ADDRESSED)
    return int.from_bytes(pdu[1:3]) if has_one and len(pdu) >= 3 else None
