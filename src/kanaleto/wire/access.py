"""Reading and writing bits and registers: functions 0x01…0x06, 0x0F, 0x10 (application protocol 1.1b3, 6.1–6.6, 6.11,
6.12).

Making a request checks what the standard forbids and raises ValueError, so that none can be sent; parsing one raises
PduError with the exception that a slave must answer.
"""

from collections.abc import Callable
from struct import pack, unpack

from msgspec import Struct

from kanaleto.wire.base import (
    TWO_FIELDS,
    Message,
    PduError,
    pack_bits,
    require_count,
    require_end,
    require_span,
    require_words,
    two_fields,
    unpack_bits,
)
from kanaleto.wire.codes import MOST_WRITE_BITS, MOST_WRITE_REGISTERS, TABLE_READ_BY, Function, Table

_COIL_ON, _COIL_OFF = 0xFF00, 0x0000


class Read(Struct, frozen=True, gc=False):
    """Functions 0x01…0x04 (6.1–6.4): `count` items of `table` from `address`."""

    table: Table
    address: int
    count: int

    def __post_init__(self) -> None:
        require_span(self.table.title, self.address, self.count, self.table.most_read)

    @property
    def function(self) -> int:
        return self.table.function

    def encode(self) -> bytes:
        return TWO_FIELDS.pack(self.table.function, self.address, self.count)

    @property
    def answer_bytes(self) -> int:
        """Length of the data in a whole answer, after its byte count."""
        return (self.count + 7) // 8 if self.table.is_bits else 2 * self.count

    def wrong_with(self, answer: Message) -> str | None:
        if isinstance(answer, ReadAnswer) and len(answer.data) == self.answer_bytes:
            return None
        came = len(answer.data) if isinstance(answer, ReadAnswer) else 0
        return f"{came} bytes of data, {self.answer_bytes} are due"


class ReadAnswer(Struct, frozen=True, gc=False):
    """The answer to `Read`: `data` as it came, bits packed or registers big-endian."""

    table: Table
    data: bytes

    @property
    def function(self) -> int:
        return self.table.function

    @property
    def words(self) -> tuple[int, ...]:
        return unpack(f">{len(self.data) // 2}H", self.data)

    def bits(self, count: int) -> tuple[bool, ...]:
        return unpack_bits(self.data, count)

    def encode(self) -> bytes:
        return bytes((self.table.function, len(self.data))) + self.data


class WriteCoil(Struct, frozen=True):
    """Function 0x05 (6.5); the answer repeats the request."""

    address: int
    on: bool

    def __post_init__(self) -> None:
        require_span("coils", self.address, 1, 1)

    @property
    def function(self) -> int:
        return Function.WRITE_COIL

    def encode(self) -> bytes:
        return TWO_FIELDS.pack(Function.WRITE_COIL, self.address, _COIL_ON if self.on else _COIL_OFF)

    def wrong_with(self, answer: Message) -> str | None:
        return None if answer == self else "the echo of the write differs from what was asked"


class WriteRegister(Struct, frozen=True):
    """Function 0x06 (6.6); the answer repeats the request."""

    address: int
    word: int

    def __post_init__(self) -> None:
        require_span("registers", self.address, 1, 1)
        require_words(self.word)

    @property
    def function(self) -> int:
        return Function.WRITE_REGISTER

    def encode(self) -> bytes:
        return TWO_FIELDS.pack(Function.WRITE_REGISTER, self.address, self.word)

    def wrong_with(self, answer: Message) -> str | None:
        return None if answer == self else "the echo of the write differs from what was asked"


class WriteCoils(Struct, frozen=True):
    """Function 0x0F (6.11)."""

    address: int
    bits: tuple[bool, ...]

    def __post_init__(self) -> None:
        require_span("coils", self.address, len(self.bits), MOST_WRITE_BITS)

    @property
    def function(self) -> int:
        return Function.WRITE_COILS

    def encode(self) -> bytes:
        packed = pack_bits(self.bits)
        return TWO_FIELDS.pack(Function.WRITE_COILS, self.address, len(self.bits)) + bytes((len(packed),)) + packed

    def wrong_with(self, answer: Message) -> str | None:
        return _wrong_span(answer, self.address, len(self.bits))


class WriteRegisters(Struct, frozen=True):
    """Function 0x10 (6.12)."""

    address: int
    words: tuple[int, ...]

    def __post_init__(self) -> None:
        require_span("registers", self.address, len(self.words), MOST_WRITE_REGISTERS)
        require_words(*self.words)

    @property
    def function(self) -> int:
        return Function.WRITE_REGISTERS

    def encode(self) -> bytes:
        count = len(self.words)
        return TWO_FIELDS.pack(Function.WRITE_REGISTERS, self.address, count) + pack(
            f">B{count}H", 2 * count, *self.words
        )

    def wrong_with(self, answer: Message) -> str | None:
        return _wrong_span(answer, self.address, len(self.words))


class SpanWritten(Struct, frozen=True):
    """The answer to 0x0F and 0x10: where, and how many."""

    function: int
    address: int
    count: int

    def encode(self) -> bytes:
        return TWO_FIELDS.pack(self.function, self.address, self.count)


def _wrong_span(answer: Message, address: int, count: int) -> str | None:
    if isinstance(answer, SpanWritten) and (answer.address, answer.count) == (address, count):
        return None
    return f"confirms something else than {count} from {address}"


def _read_request(pdu: bytes) -> Read:
    address, count = two_fields(pdu, 5)
    table = TABLE_READ_BY[pdu[0]]
    require_count(count, table.most_read)
    require_end(address, count)
    return Read(table, address, count)


def _write_coil(pdu: bytes) -> WriteCoil:
    address, value = two_fields(pdu, 5)
    if value not in (_COIL_ON, _COIL_OFF):
        raise PduError(f"coil value 0x{value:04X}, only FF00 and 0000 are defined")
    return WriteCoil(address, value == _COIL_ON)


def _write_register(pdu: bytes) -> WriteRegister:
    return WriteRegister(*two_fields(pdu, 5))


def _span_with_bytes(pdu: bytes, most: int, byte_count: Callable[[int], int]) -> tuple[int, int, bytes]:
    if len(pdu) < 6:
        raise PduError(f"function 0x{pdu[0]:02X} with {len(pdu)} bytes is cut short")
    address, count = two_fields(pdu[:5], 5)
    require_count(count, most)
    due = byte_count(count)
    if pdu[5] != due or len(pdu) != 6 + due:
        raise PduError(f"byte count {pdu[5]} with {len(pdu) - 6} bytes, {due} are due")
    require_end(address, count)
    return address, count, pdu[6:]


def _write_coils(pdu: bytes) -> WriteCoils:
    address, count, data = _span_with_bytes(pdu, MOST_WRITE_BITS, lambda n: (n + 7) // 8)
    return WriteCoils(address, unpack_bits(data, count))


def _write_registers(pdu: bytes) -> WriteRegisters:
    address, count, data = _span_with_bytes(pdu, MOST_WRITE_REGISTERS, lambda n: 2 * n)
    return WriteRegisters(address, unpack(f">{count}H", data))


def _read_answer(pdu: bytes) -> ReadAnswer:
    if len(pdu) < 3 or pdu[1] != len(pdu) - 2:
        raise PduError(f"byte count does not match the {max(len(pdu) - 2, 0)} bytes that follow it")
    table = TABLE_READ_BY[pdu[0]]
    if not table.is_bits and pdu[1] % 2:
        raise PduError(f"{pdu[1]} bytes are not whole registers")
    return ReadAnswer(table, pdu[2:])


def _span_written(pdu: bytes) -> SpanWritten:
    address, count = two_fields(pdu, 5)
    return SpanWritten(pdu[0], address, count)


REQUESTS: dict[int, Callable[[bytes], Read | WriteCoil | WriteRegister | WriteCoils | WriteRegisters]] = {
    **dict.fromkeys(TABLE_READ_BY, _read_request),
    Function.WRITE_COIL: _write_coil,
    Function.WRITE_REGISTER: _write_register,
    Function.WRITE_COILS: _write_coils,
    Function.WRITE_REGISTERS: _write_registers,
}
ANSWERS: dict[int, Callable[[bytes], ReadAnswer | WriteCoil | WriteRegister | SpanWritten]] = {
    **dict.fromkeys(TABLE_READ_BY, _read_answer),
    Function.WRITE_COIL: _write_coil,
    Function.WRITE_REGISTER: _write_register,
    Function.WRITE_COILS: _span_written,
    Function.WRITE_REGISTERS: _span_written,
}
