"""What a route passes: known from the bytes of a request alone."""

from kanaleto.site.bridges import Route, RouteAccess
from kanaleto.wire.codes import TABLE_READ_BY, ExceptionCode, Table
from kanaleto.wire.reach import only_reads, read_by, written_by


def is_shared(pdu: bytes) -> bool:
    """Whether one answer may serve all who ask the same: reads of bits and registers alone."""
    return len(pdu) == 5 and pdu[0] in TABLE_READ_BY


def refusal(route: Route, pdu: bytes, no_writes: bool = False) -> ExceptionCode | None:
    """The exception for what a route does not pass; None where it passes."""
    reads = only_reads(pdu)
    if not reads and (no_writes or route.access is RouteAccess.READ):
        return ExceptionCode.ILLEGAL_FUNCTION
    if route.functions is not None and pdu[0] not in route.functions:
        return ExceptionCode.ILLEGAL_FUNCTION
    if route.addresses:
        written = written_by(pdu)
        items = (*read_by(pdu), *(written or ()))
        if not items or (not reads and not written):  # which addresses it reaches cannot be known
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
