"""Requests and answers of the application protocol (1.1b3, section 6) as values.

Rules of this file: making a request checks what the standard forbids and raises ValueError, so that none can be sent;
parsing a request raises PduError with the exception that a slave must answer; parsing an answer raises PduError when the
bytes are no answer of that function. Requests and answers encode to a PDU: function code and data, at most 253 bytes.
"""

from collections.abc import Callable
from dataclasses import dataclass
from struct import Struct, pack, unpack

from kanaleto.wire.codes import (
    MOST_PDU_BYTES,
    MOST_WRITE_BITS,
    MOST_WRITE_REGISTERS,
    TABLE_READ_BY,
    ExceptionCode,
    Function,
    Table,
    exception_text,
)

_TWO = Struct(">BHH")
_COIL_ON, _COIL_OFF = 0xFF00, 0x0000


class PduError(ValueError):
    """The peer's bytes are not a PDU of their function; `exception` is what a slave answers to such a request."""

    def __init__(self, text: str, exception: ExceptionCode = ExceptionCode.ILLEGAL_DATA_VALUE) -> None:
        super().__init__(text)
        self.exception = exception


def pack_bits(bits: tuple[bool, ...]) -> bytes:
    """Bits to bytes, lowest address first in bit 0 (section 6.1)."""
    number = 0
    for index, bit in enumerate(bits):
        if bit:
            number |= 1 << index
    return number.to_bytes((len(bits) + 7) // 8, "little")


def unpack_bits(data: bytes, count: int) -> tuple[bool, ...]:
    """The first `count` bits of `data`, lowest address first."""
    number = int.from_bytes(data, "little")
    return tuple(bool(number >> index & 1) for index in range(count))


def _check_span(what: str, address: int, count: int, most: int) -> None:
    if not 0 <= address <= 0xFFFF:
        raise ValueError(f"address {address} is not in 0…65535")
    if not 1 <= count <= most:
        raise ValueError(f"{count} {what} in one request: the standard allows 1…{most}")
    if address + count > 0x10000:
        raise ValueError(f"{count} {what} from address {address} run past the last address, 65535")


def _check_word(word: int) -> None:
    if not 0 <= word <= 0xFFFF:
        raise ValueError(f"{word} does not fit one register (0…65535)")


@dataclass(frozen=True, slots=True)
class Read:
    """Functions 0x01…0x04 (6.1–6.4): `count` items of `table` from `address`."""

    table: Table
    address: int
    count: int

    def __post_init__(self) -> None:
        _check_span(self.table.title, self.address, self.count, self.table.most_read)

    @property
    def function(self) -> int:
        return self.table.read_function

    def encode(self) -> bytes:
        return _TWO.pack(self.table.read_function, self.address, self.count)

    @property
    def answer_bytes(self) -> int:
        """Length of the data in a whole answer, after its byte count."""
        return (self.count + 7) // 8 if self.table.is_bits else 2 * self.count


@dataclass(frozen=True, slots=True)
class ReadAnswer:
    """The answer to `Read`: `data` as it came, bits packed or registers big-endian."""

    table: Table
    data: bytes

    @property
    def function(self) -> int:
        return self.table.read_function

    @property
    def words(self) -> tuple[int, ...]:
        return unpack(f">{len(self.data) // 2}H", self.data)

    def bits(self, count: int) -> tuple[bool, ...]:
        return unpack_bits(self.data, count)

    def encode(self) -> bytes:
        return bytes((self.table.read_function, len(self.data))) + self.data


@dataclass(frozen=True, slots=True)
class WriteCoil:
    """Function 0x05 (6.5); the answer repeats the request."""

    address: int
    on: bool

    def __post_init__(self) -> None:
        _check_span("coils", self.address, 1, 1)

    @property
    def function(self) -> int:
        return Function.WRITE_COIL

    def encode(self) -> bytes:
        return _TWO.pack(Function.WRITE_COIL, self.address, _COIL_ON if self.on else _COIL_OFF)


@dataclass(frozen=True, slots=True)
class WriteRegister:
    """Function 0x06 (6.6); the answer repeats the request."""

    address: int
    word: int

    def __post_init__(self) -> None:
        _check_span("registers", self.address, 1, 1)
        _check_word(self.word)

    @property
    def function(self) -> int:
        return Function.WRITE_REGISTER

    def encode(self) -> bytes:
        return _TWO.pack(Function.WRITE_REGISTER, self.address, self.word)


@dataclass(frozen=True, slots=True)
class WriteCoils:
    """Function 0x0F (6.11)."""

    address: int
    bits: tuple[bool, ...]

    def __post_init__(self) -> None:
        _check_span("coils", self.address, len(self.bits), MOST_WRITE_BITS)

    @property
    def function(self) -> int:
        return Function.WRITE_COILS

    def encode(self) -> bytes:
        packed = pack_bits(self.bits)
        return _TWO.pack(Function.WRITE_COILS, self.address, len(self.bits)) + bytes((len(packed),)) + packed


@dataclass(frozen=True, slots=True)
class WriteRegisters:
    """Function 0x10 (6.12)."""

    address: int
    words: tuple[int, ...]

    def __post_init__(self) -> None:
        _check_span("registers", self.address, len(self.words), MOST_WRITE_REGISTERS)
        for word in self.words:
            _check_word(word)

    @property
    def function(self) -> int:
        return Function.WRITE_REGISTERS

    def encode(self) -> bytes:
        count = len(self.words)
        return _TWO.pack(Function.WRITE_REGISTERS, self.address, count) + pack(f">B{count}H", 2 * count, *self.words)


@dataclass(frozen=True, slots=True)
class SpanWritten:
    """The answer to 0x0F and 0x10: where, and how many."""

    function: int
    address: int
    count: int

    def encode(self) -> bytes:
        return _TWO.pack(self.function, self.address, self.count)


@dataclass(frozen=True, slots=True)
class Refused:
    """An exception answer (section 7): the function that was asked, and the code."""

    function: int
    code: int

    @property
    def text(self) -> str:
        return exception_text(self.code)

    def encode(self) -> bytes:
        return bytes((self.function | 0x80, self.code))


@dataclass(frozen=True, slots=True)
class Raw:
    """A PDU of a function that has no class here, such as a maker's own; as request and as answer."""

    function: int
    data: bytes

    def __post_init__(self) -> None:
        if not 1 <= self.function <= 0x7F:
            raise ValueError(f"function code {self.function} is not in 1…127")
        if len(self.data) >= MOST_PDU_BYTES:
            raise ValueError(f"a PDU of {len(self.data) + 1} bytes: the standard allows {MOST_PDU_BYTES}")

    def encode(self) -> bytes:
        return bytes((self.function,)) + self.data


Request = Read | WriteCoil | WriteRegister | WriteCoils | WriteRegisters | Raw
Answer = ReadAnswer | WriteCoil | WriteRegister | SpanWritten | Refused | Raw


def _fields(pdu: bytes, length: int) -> tuple[int, int]:
    if len(pdu) != length:
        raise PduError(f"function 0x{pdu[0]:02X} with {len(pdu)} bytes, {length} are due")
    _, first, second = _TWO.unpack(pdu[:5])
    return first, second


def _check_count(count: int, most: int) -> None:
    if not 1 <= count <= most:
        raise PduError(f"quantity {count}, the standard allows 1…{most}")


def _check_end(address: int, count: int) -> None:
    if address + count > 0x10000:
        raise PduError(f"{count} from address {address} run past 65535", ExceptionCode.ILLEGAL_DATA_ADDRESS)


def _read_request(pdu: bytes) -> Read:
    address, count = _fields(pdu, 5)
    table = TABLE_READ_BY[pdu[0]]
    _check_count(count, table.most_read)
    _check_end(address, count)
    return Read(table, address, count)


def _write_coil(pdu: bytes) -> WriteCoil:
    address, value = _fields(pdu, 5)
    if value not in (_COIL_ON, _COIL_OFF):
        raise PduError(f"coil value 0x{value:04X}, only FF00 and 0000 are defined")
    return WriteCoil(address, value == _COIL_ON)


def _write_register(pdu: bytes) -> WriteRegister:
    return WriteRegister(*_fields(pdu, 5))


def _span_with_bytes(pdu: bytes, most: int, byte_count: Callable[[int], int]) -> tuple[int, int, bytes]:
    if len(pdu) < 6:
        raise PduError(f"function 0x{pdu[0]:02X} with {len(pdu)} bytes is cut short")
    address, count = _fields(pdu[:5], 5)
    _check_count(count, most)
    due = byte_count(count)
    if pdu[5] != due or len(pdu) != 6 + due:
        raise PduError(f"byte count {pdu[5]} with {len(pdu) - 6} bytes, {due} are due")
    _check_end(address, count)
    return address, count, pdu[6:]


def _write_coils(pdu: bytes) -> WriteCoils:
    address, count, data = _span_with_bytes(pdu, MOST_WRITE_BITS, lambda n: (n + 7) // 8)
    return WriteCoils(address, unpack_bits(data, count))


def _write_registers(pdu: bytes) -> WriteRegisters:
    address, count, data = _span_with_bytes(pdu, MOST_WRITE_REGISTERS, lambda n: 2 * n)
    return WriteRegisters(address, unpack(f">{count}H", data))


_REQUESTS: dict[int, Callable[[bytes], Request]] = {
    **dict.fromkeys(TABLE_READ_BY, _read_request),
    Function.WRITE_COIL: _write_coil,
    Function.WRITE_REGISTER: _write_register,
    Function.WRITE_COILS: _write_coils,
    Function.WRITE_REGISTERS: _write_registers,
}


def parse_request(pdu: bytes) -> Request:
    """A request from its PDU. Raises PduError with the exception to answer; unknown functions come back as `Raw`."""
    if not pdu or len(pdu) > MOST_PDU_BYTES:
        raise PduError(f"a PDU of {len(pdu)} bytes")
    if not 1 <= pdu[0] <= 0x7F:
        raise PduError(f"function code {pdu[0]} is not in 1…127", ExceptionCode.ILLEGAL_FUNCTION)
    parser = _REQUESTS.get(pdu[0])
    return parser(pdu) if parser else Raw(pdu[0], pdu[1:])


def _read_answer(pdu: bytes) -> ReadAnswer:
    if len(pdu) < 3 or pdu[1] != len(pdu) - 2:
        raise PduError(f"byte count does not match the {max(len(pdu) - 2, 0)} bytes that follow it")
    table = TABLE_READ_BY[pdu[0]]
    if not table.is_bits and pdu[1] % 2:
        raise PduError(f"{pdu[1]} bytes are not whole registers")
    return ReadAnswer(table, pdu[2:])


def _span_written(pdu: bytes) -> SpanWritten:
    address, count = _fields(pdu, 5)
    return SpanWritten(pdu[0], address, count)


_ANSWERS: dict[int, Callable[[bytes], Answer]] = {
    **dict.fromkeys(TABLE_READ_BY, _read_answer),
    Function.WRITE_COIL: _write_coil,
    Function.WRITE_REGISTER: _write_register,
    Function.WRITE_COILS: _span_written,
    Function.WRITE_REGISTERS: _span_written,
}


def parse_answer(pdu: bytes) -> Answer:
    """An answer from its PDU. Raises PduError; unknown functions come back as `Raw`."""
    if not pdu or len(pdu) > MOST_PDU_BYTES:
        raise PduError(f"a PDU of {len(pdu)} bytes")
    function = pdu[0]
    if function & 0x80:
        if len(pdu) != 2 or function == 0x80:
            raise PduError(f"an exception answer of {len(pdu)} bytes, 2 are due")
        return Refused(function & 0x7F, pdu[1])
    if function == 0:
        raise PduError("function code 0 is not defined")
    parser = _ANSWERS.get(function)
    return parser(pdu) if parser else Raw(function, pdu[1:])


def mismatch(request: Request, answer: Answer) -> str | None:
    """Why `answer` cannot be the answer to `request`, or None when it can: strict, field by field."""
    if answer.function != request.function:
        return f"function 0x{answer.function:02X} answers 0x{request.function:02X}"
    if isinstance(answer, Refused | Raw):
        return None
    if isinstance(request, Read) and isinstance(answer, ReadAnswer):
        if len(answer.data) != request.answer_bytes:
            return f"{len(answer.data)} bytes of data, {request.answer_bytes} are due"
        return None
    if isinstance(request, WriteCoils | WriteRegisters) and isinstance(answer, SpanWritten):
        count = len(request.bits) if isinstance(request, WriteCoils) else len(request.words)
        if (answer.address, answer.count) != (request.address, count):
            return f"confirms {answer.count} from {answer.address}, asked were {count} from {request.address}"
        return None
    return None if answer == request else "the echo of the write differs from what was asked"
