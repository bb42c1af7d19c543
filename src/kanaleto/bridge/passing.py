"""What a route passes: told from the bytes of a request alone."""

from kanaleto.site.bridges import Route, RouteAccess
from kanaleto.wire.codes import TABLE_READ_BY, ExceptionCode, Function, Table
from kanaleto.wire.reach import read_by, written_by

_READS = frozenset(
    {
        *TABLE_READ_BY, Function.READ_EXCEPTION_STATUS, Function.COMM_EVENT_COUNTER, Function.COMM_EVENT_LOG,
        Function.REPORT_SERVER_ID, Function.READ_FILE_RECORD, Function.READ_FIFO_QUEUE,
    }
)  # fmt: skip
_DIAGNOSTICS = frozenset({0x00, 0x02, *range(0x0B, 0x13)})
"""Sub-functions that read: loopback, the register, the counters (application protocol 1.1b3, 6.8.1)."""
_IDENTIFY = 0x0E


def is_reading(pdu: bytes) -> bool:
    """Whether a route for reading alone passes it."""
    function = pdu[0] if pdu else 0
    if function == Function.DIAGNOSTICS:
        return len(pdu) >= 3 and int.from_bytes(pdu[1:3]) in _DIAGNOSTICS
    return function in _READS or (function == Function.ENCAPSULATED and pdu[1:2] == bytes((_IDENTIFY,)))


def is_shared(pdu: bytes) -> bool:
    """Whether one answer may serve all who ask the same: reads of bits and registers alone."""
    return len(pdu) == 5 and pdu[0] in TABLE_READ_BY


def refusal(route: Route, pdu: bytes, only_reads: bool = False) -> ExceptionCode | None:
    """The exception for what a route does not pass; None where it passes."""
    reads = is_reading(pdu)
    if not reads and (only_reads or route.access is RouteAccess.READ):
        return ExceptionCode.ILLEGAL_FUNCTION
    if route.functions is not None and pdu[0] not in route.functions:
        return ExceptionCode.ILLEGAL_FUNCTION
    if route.addresses:
        written = written_by(pdu)
        items = (*read_by(pdu), *(written or ()))
        if not items or (not reads and not written):  # which addresses it reaches cannot be told
            return ExceptionCode.ILLEGAL_DATA_ADDRESS
        if not all(_is_within(route, one.table, one.first, one.end) for one in items):
            return ExceptionCode.ILLEGAL_DATA_ADDRESS
    return None


def _is_within(route: Route, table: Table, first: int, end: int) -> bool:
    """Whether every address lies in some range of the route."""
    at = first
    while at < end:
        last = max((high for of, low, high in route.addresses if of is table and low <= at <= high), default=-1)
        if last < at:
            return False
        at = last + 1
    return True
