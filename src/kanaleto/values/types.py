"""Value types and the orders of their bytes.

A B C D names the bytes of a 32-bit value, A most significant; the same four names hold for 64 bits. CDAB swaps the words, BADC
the bytes of each word, DCBA both. Types of 16 bits and text know only AB and BA (bytes of each word swapped).
"""

from dataclasses import dataclass
from enum import Enum


class Kind(Enum):
    """The value is the word used in files and on the command line."""

    BOOL = "bool"
    INT16 = "int16"
    UINT16 = "uint16"
    INT32 = "int32"
    UINT32 = "uint32"
    INT64 = "int64"
    UINT64 = "uint64"
    FLOAT32 = "float32"
    FLOAT64 = "float64"
    BCD16 = "bcd16"
    BCD32 = "bcd32"
    TEXT = "text"
    HEX = "hex"
    BITS = "bits"


_REGISTERS = {
    Kind.BOOL: 1, Kind.INT16: 1, Kind.UINT16: 1, Kind.BCD16: 1, Kind.HEX: 1, Kind.BITS: 1,
    Kind.INT32: 2, Kind.UINT32: 2, Kind.FLOAT32: 2, Kind.BCD32: 2,
    Kind.INT64: 4, Kind.UINT64: 4, Kind.FLOAT64: 4,
}  # fmt: skip
MOST_TEXT = 250


@dataclass(frozen=True, slots=True)
class ValueType:
    """A kind and, for text, its length in characters."""

    kind: Kind
    characters: int = 0

    @property
    def registers(self) -> int:
        """Registers that one value takes; a bool in a table of bits takes one bit."""
        return (self.characters + 1) // 2 if self.kind is Kind.TEXT else _REGISTERS[self.kind]

    @property
    def is_wide(self) -> bool:
        """Whether the four-letter orders apply."""
        return self.kind is not Kind.TEXT and self.registers > 1

    @property
    def is_float(self) -> bool:
        return self.kind in (Kind.FLOAT32, Kind.FLOAT64)

    @property
    def takes_scale(self) -> bool:
        return self.kind not in (Kind.BOOL, Kind.TEXT, Kind.HEX, Kind.BITS)

    def __str__(self) -> str:
        return f"text:{self.characters}" if self.kind is Kind.TEXT else self.kind.value


TYPE_WORDS = ", ".join(kind.value if kind is not Kind.TEXT else "text:N" for kind in Kind)


def parse_type(text: str) -> ValueType:
    """A type from its word, such as "int16" or "text:8". Raises ValueError with what would be right."""
    word, colon, length = text.strip().lower().partition(":")
    if word == Kind.TEXT.value:
        if not length.isdecimal() or not 1 <= int(length) <= MOST_TEXT:
            raise ValueError(f"type {text!r} needs its length, as in text:8 (1…{MOST_TEXT} characters)")
        return ValueType(Kind.TEXT, int(length))
    try:
        kind = Kind(word)
    except ValueError:
        raise ValueError(f"type {text!r} is not known; the types are {TYPE_WORDS}") from None
    if colon:
        raise ValueError(f"type {text!r} takes no length")
    return ValueType(kind)


class Order(Enum):
    """How bytes and words of a wider value stand on the wire; AB and BA for 16 bits and text."""

    ABCD = "ABCD"
    CDAB = "CDAB"
    BADC = "BADC"
    DCBA = "DCBA"
    AB = "AB"
    BA = "BA"

    @property
    def is_for_wide(self) -> bool:
        return len(self.value) == 4

    @property
    def swaps_words(self) -> bool:
        return self in (Order.CDAB, Order.DCBA)

    @property
    def swaps_bytes(self) -> bool:
        return self in (Order.BADC, Order.DCBA, Order.BA)


def parse_order(text: str) -> Order:
    """An order from its letters. Raises ValueError with what would be right."""
    try:
        return Order(text.strip().upper())
    except ValueError:
        raise ValueError(f"order {text!r} is not known; the orders are ABCD, CDAB, BADC, DCBA, and AB, BA for 16 bits and text") from None


def order_for(value_type: ValueType, own: Order | None, inherited: Order | None) -> Order:
    """The order that applies. A four-letter order that is only inherited leaves 16 bits and text alone. Raises ValueError."""
    if value_type.is_wide:
        if own is not None and not own.is_for_wide:
            raise ValueError(f"order {own.value} is for 16 bits and text; {value_type} takes ABCD, CDAB, BADC or DCBA")
        order = own or inherited
        return order if order is not None and order.is_for_wide else Order.ABCD
    if own is None or own.is_for_wide:
        return inherited if inherited is not None and not inherited.is_for_wide else Order.AB
    return own


def byte_places(value_type: ValueType, order: Order) -> tuple[int, ...]:
    """For each byte of the value, most significant first, where it stands in its registers as they come."""
    registers = value_type.registers
    words = range(registers - 1, -1, -1) if order.swaps_words else range(registers)
    inner = (1, 0) if order.swaps_bytes else (0, 1)
    return tuple(2 * word + byte for word in words for byte in inner)
