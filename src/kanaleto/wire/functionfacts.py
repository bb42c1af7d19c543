"""Facts of functions, each once: which table a request is about, which requests are answered with something that cannot
be their own echo."""

from kanaleto.wire.codes import Table
from kanaleto.wire.diagnostics import Plain
from kanaleto.wire.identity import Identify
from kanaleto.wire.pdu import Read, Request, WriteCoil, WriteCoils, WriteRegister, WriteRegisters
from kanaleto.wire.records import MaskWrite, ReadFifo, ReadFile, WriteThenRead

ANSWERED = (Read, WriteThenRead, ReadFile, ReadFifo, Plain, Identify)
"""Requests that want something back: they make no sense as a broadcast, and no answer to them begins like them."""


def table_of(request: Request) -> Table | None:
    """The table that a request is about; None where it is about none."""
    if isinstance(request, Read):
        return request.table
    if isinstance(request, WriteCoil | WriteCoils):
        return Table.COIL
    is_register = isinstance(request, WriteRegister | WriteRegisters | MaskWrite | WriteThenRead | ReadFifo)
    return Table.HOLDING if is_register else None
