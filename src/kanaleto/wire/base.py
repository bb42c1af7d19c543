"""What all requests and answers share: the error that names an exception, checks, bits, exception answers, raw PDUs."""

from struct import Struct as Packing
from typing import Protocol

from msgspec import Struct

from kanaleto.wire.codes import MOST_PDU_BYTES, ExceptionCode, exception_text

TWO_FIELDS = Packing(">BHH")


class PduError(ValueError):
    """The peer's bytes are not a PDU of their function; `exception` is what a slave answers to such a request."""

    def __init__(self, text: str, exception: ExceptionCode = ExceptionCode.ILLEGAL_DATA_VALUE) -> None:
        super().__init__(text)
        self.exception = exception


class Message(Protocol):
    """A request or an answer: it has a function code and encodes to a PDU of at most 253 bytes."""

    @property
    def function(self) -> int: ...

    def encode(self) -> bytes: ...


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


def require_span(what: str, address: int, count: int, most: int) -> None:
    """Raises ValueError when the standard forbids asking for `count` from `address`."""
    if not 0 <= address <= 0xFFFF:
        raise ValueError(f"address {address} is not in 0…65535")
    if not 1 <= count <= most:
        raise ValueError(f"{count} {what} in one request: the standard allows 1…{most}")
    if address + count > 0x10000:
        raise ValueError(f"{count} {what} from address {address} run past the last address, 65535")


def require_words(*words: int) -> None:
    """Raises ValueError when one of them does not fit a register."""
    for word in words:
        if not 0 <= word <= 0xFFFF:
            raise ValueError(f"{word} does not fit one register (0…65535)")


def two_fields(pdu: bytes, length: int) -> tuple[int, int]:
    """The two 16-bit fields after the function of a PDU of `length` bytes. Raises PduError."""
    require_length(pdu, length)
    _, first, second = TWO_FIELDS.unpack(pdu[:5])
    return first, second


def require_length(pdu: bytes, length: int) -> None:
    """Raises PduError when the PDU has not `length` bytes."""
    if len(pdu) != length:
        raise PduError(f"function 0x{pdu[0]:02X} with {len(pdu)} bytes, {length} are due")


def require_count(count: int, most: int) -> None:
    """Raises PduError (03) when a quantity that came is not allowed."""
    if not 1 <= count <= most:
        raise PduError(f"quantity {count}, the standard allows 1…{most}")


def require_end(address: int, count: int) -> None:
    """Raises PduError (02) when a span that came runs past the last address."""
    if address + count > 0x10000:
        raise PduError(f"{count} from address {address} run past 65535", ExceptionCode.ILLEGAL_DATA_ADDRESS)


class Refused(Struct, frozen=True):
    """An exception answer (section 7): the function that was asked, and the code. Function 0 is asked by mistake only,
    and gets an answer all the same."""

    function: int
    code: int

    def __post_init__(self) -> None:
        if not 0 <= self.function <= 0x7F or not 0 <= self.code <= 0xFF:
            raise ValueError(f"function {self.function} with exception {self.code}: 0…127 and one byte are possible")

    @property
    def text(self) -> str:
        return exception_text(self.code)

    def encode(self) -> bytes:
        return bytes((self.function | 0x80, self.code))


class Raw(Struct, frozen=True):
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

    def wrong_with(self, answer: Message) -> str | None:
        return None
