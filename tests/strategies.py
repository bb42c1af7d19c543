"""Requests, answers and sites for hypothesis."""

from hypothesis import strategies as st

from kanaleto.wire.codes import Function, Table
from kanaleto.wire.diagnostics import CommEventLog, Diagnose, Diagnostic, EventCounter, ExceptionStatus, Plain, ServerId
from kanaleto.wire.identity import Depth, Identify, Identity
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
from kanaleto.wire.records import (
    Fifo,
    FileData,
    FileRead,
    FileSpan,
    MaskWrite,
    ReadBack,
    ReadFifo,
    ReadFile,
    WriteFile,
    WriteThenRead,
)


def packed(values: list[int]) -> bytes:
    return b"".join(value.to_bytes(2) for value in values)


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
masks = st.builds(MaskWrite, words, words, words)


@st.composite
def exchanges(draw: st.DrawFn) -> WriteThenRead:
    values = draw(st.lists(words, min_size=1, max_size=121))
    count = draw(st.integers(1, 125))
    return WriteThenRead(
        draw(st.integers(0, 0x10000 - count)), count, draw(st.integers(0, 0x10000 - len(values))), tuple(values)
    )


file_spans = st.builds(FileSpan, st.integers(1, 0xFFFF), st.integers(0, 9900), st.integers(1, 25))
file_reads = st.builds(ReadFile, st.lists(file_spans, min_size=1, max_size=4).map(tuple))
file_data = st.builds(
    FileData, st.integers(1, 0xFFFF), st.integers(0, 9900), st.lists(words, min_size=1, max_size=20).map(packed)
)
file_writes = st.builds(WriteFile, st.lists(file_data, min_size=1, max_size=4).map(tuple))
plains = st.builds(Plain, st.sampled_from([0x07, 0x0B, 0x0C, 0x11]))
diagnoses = st.one_of(
    st.builds(Diagnose, st.just(0), st.lists(words, max_size=60).map(packed)),
    st.builds(
        Diagnose, st.sampled_from([int(sub) for sub in Diagnostic if sub]), words.map(lambda word: word.to_bytes(2))
    ),
)
identifies = st.builds(Identify, st.sampled_from(Depth), st.integers(0, 255))
requests = st.one_of(
    reads(), single_writes, coil_writes(), register_writes(), masks, exchanges(), file_reads, file_writes, plains,
        diagnoses,
    identifies, st.builds(ReadFifo, words),
)  # fmt: skip


@st.composite
def read_answers(draw: st.DrawFn) -> ReadAnswer:
    table = draw(st.sampled_from(Table))
    data = draw(st.binary(min_size=1, max_size=125))
    return ReadAnswer(table, data if table.is_bits else data + data)


span_answers = st.builds(
    SpanWritten,
    st.sampled_from([int(Function.WRITE_COILS), int(Function.WRITE_REGISTERS)]),
    st.integers(0, 0x10000 - 123),
    st.integers(1, 123),
)
refusals = st.builds(Refused, st.integers(1, 0x7F), st.integers(0, 255))
objects = st.lists(st.tuples(st.integers(0, 255), st.binary(max_size=50)), max_size=4).map(tuple)
identities = st.builds(Identity, st.sampled_from(Depth), st.integers(0, 255), st.none() | st.integers(0, 255), objects)
answers = st.one_of(
    read_answers(), single_writes, span_answers, refusals, masks, file_writes, diagnoses, identities,
    st.builds(ReadBack, st.lists(words, min_size=1, max_size=125).map(packed)),
    st.builds(FileRead,
        st.lists(st.lists(words, min_size=1, max_size=25).map(packed), min_size=1, max_size=4).map(tuple)),
    st.builds(Fifo, st.lists(words, max_size=31).map(tuple)),
    st.builds(ExceptionStatus, st.integers(0, 255)),
    st.builds(EventCounter, words, words),
    st.builds(CommEventLog, words, words, words, st.binary(max_size=64)),
    st.builds(ServerId, st.binary(max_size=200)),
)  # fmt: skip
