"""Requests, answers and sites for hypothesis."""

from hypothesis import strategies as st

from kanaleto.wire.codes import Function, Table
from kanaleto.wire.pdu import (
    Read,
    ReadAnswer,
    Refused,
    SpanWritten,
    WriteCoil,
    WriteCoils,
    WriteRegister,
    WriteRegisters,
)

words = st.integers(0, 0xFFFF)
units = st.integers(0, 255)


@st.composite
def reads(draw: st.DrawFn) -> Read:
    table = draw(st.sampled_from(Table))
    count = draw(st.integers(1, table.most_read))
    return Read(table, draw(st.integers(0, 0x10000 - count)), count)


@st.composite
def coil_writes(draw: st.DrawFn) -> WriteCoils:
    bits = draw(st.lists(st.booleans(), min_size=1, max_size=1968))
    return WriteCoils(draw(st.integers(0, 0x10000 - len(bits))), tuple(bits))


@st.composite
def register_writes(draw: st.DrawFn) -> WriteRegisters:
    values = draw(st.lists(words, min_size=1, max_size=123))
    return WriteRegisters(draw(st.integers(0, 0x10000 - len(values))), tuple(values))


single_writes = st.one_of(st.builds(WriteCoil, words, st.booleans()), st.builds(WriteRegister, words, words))
requests = st.one_of(reads(), single_writes, coil_writes(), register_writes())


@st.composite
def read_answers(draw: st.DrawFn) -> ReadAnswer:
    table = draw(st.sampled_from(Table))
    data = draw(st.binary(min_size=1, max_size=125))
    return ReadAnswer(table, data if table.is_bits else data + data)


span_answers = st.builds(SpanWritten, st.sampled_from([int(Function.WRITE_COILS), int(Function.WRITE_REGISTERS)]), words, words)
refusals = st.builds(Refused, st.integers(1, 0x7F), st.integers(0, 255))
answers = st.one_of(read_answers(), single_writes, span_answers, refusals)
