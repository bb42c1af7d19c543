"""Value types and the orders of their bytes.

A B C D names the bytes of a 32-bit value, A most significant; the same four names hold for wider ones. CDAB swaps the
words, BADC the bytes of each word, DCBA both. 64 bits take any other order too, written with all its letters
(EFGHABCD). Types of 16 bits and text know only AB and BA (bytes of each word
swapped). A type with [N] behind it is a run of N of them, read and written whole.
"""

import codecs
import re
from enum import Enum
from typing import ClassVar

from msgspec import Struct


class Kind(Enum):
    """The value is the word used in files and on the command line."""

    __hash__ = object.__hash__

    BOOL = "bool"
    INT8_HIGH = "int8:high"
    INT8_LOW = "int8:low"
    UINT8_HIGH = "uint8:high"
    UINT8_LOW = "uint8:low"
    INT16 = "int16"
    UINT16 = "uint16"
    INT32 = "int32"
    UINT32 = "uint32"
    INT64 = "int64"
    UINT64 = "uint64"
    FLOAT16 = "float16"
    FLOAT32 = "float32"
    FLOAT64 = "float64"
    SIGNED_MAGNITUDE16 = "sm16"
    SIGNED_MAGNITUDE32 = "sm32"
    BCD16 = "bcd16"
    BCD32 = "bcd32"
    BCD64 = "bcd64"
    MODULO2 = "mod10000:2"
    MODULO3 = "mod10000:3"
    TEXT = "text"
    HEX = "hex"
    BITS = "bits"
    UNIX32 = "unix32"
    UNIX64 = "unix64"
    CLOCK3 = "ymdhms"
    CLOCK6 = "ymdhms:6"
    IPV4 = "ipv4"
    MAC = "mac"
    VERSION = "version"
    VERSION4 = "version:4"


_REGISTERS = {
    Kind.BOOL: 1, Kind.INT8_HIGH: 1, Kind.INT8_LOW: 1, Kind.UINT8_HIGH: 1, Kind.UINT8_LOW: 1,
    Kind.INT16: 1, Kind.UINT16: 1, Kind.BCD16: 1, Kind.HEX: 1, Kind.BITS: 1, Kind.FLOAT16: 1,
        Kind.SIGNED_MAGNITUDE16: 1, Kind.VERSION: 1,
    Kind.INT32: 2, Kind.UINT32: 2, Kind.FLOAT32: 2, Kind.BCD32: 2, Kind.SIGNED_MAGNITUDE32: 2, Kind.MODULO2: 2,
        Kind.UNIX32: 2,
    Kind.IPV4: 2, Kind.VERSION4: 2, Kind.MODULO3: 3, Kind.CLOCK3: 3, Kind.MAC: 3,
    Kind.INT64: 4, Kind.UINT64: 4, Kind.FLOAT64: 4, Kind.BCD64: 4, Kind.UNIX64: 4, Kind.CLOCK6: 6,
}  # fmt: skip
MOST_TEXT = 250
MOST_ARRAY = 125
_FLOATS = (Kind.FLOAT16, Kind.FLOAT32, Kind.FLOAT64)
_UNSCALED = (
    Kind.BOOL, Kind.TEXT, Kind.HEX, Kind.BITS, Kind.UNIX32, Kind.UNIX64, Kind.CLOCK3, Kind.CLOCK6, Kind.IPV4,
        Kind.MAC, Kind.VERSION,
    Kind.VERSION4,
)  # fmt: skip
_WORDS_ARE_APART = (
    Kind.TEXT,
    Kind.CLOCK3,
    Kind.CLOCK6,
    Kind.MAC,
)  # an order of four letters says nothing of them unless it is their own


class ValueType(Struct, frozen=True):
    """A kind; for text its length in characters and how they are encoded; for a run how many."""

    kind: Kind
    characters: int = 0
    encoding: str = "latin-1"
    count: int = 1

    @property
    def registers_each(self) -> int:
        return (self.characters + 1) // 2 if self.kind is Kind.TEXT else _REGISTERS[self.kind]

    @property
    def registers(self) -> int:
        """Registers that one value takes; a bool in a table of bits takes one bit."""
        return self.count * self.registers_each

    @property
    def is_array(self) -> bool:
        return self.count > 1

    @property
    def is_wide(self) -> bool:
        """Whether the four-letter orders apply."""
        return self.kind not in _WORDS_ARE_APART and self.registers_each > 1

    @property
    def is_float(self) -> bool:
        return self.kind in _FLOATS

    @property
    def takes_scale(self) -> bool:
        return self.kind not in _UNSCALED

    def __str__(self) -> str:
        word = self.kind.value
        if self.kind is Kind.TEXT:
            word = f"text:{self.characters}" + ("" if self.encoding == "latin-1" else f":{self.encoding}")
        return word if self.count == 1 else f"{word}[{self.count}]"


TYPE_WORDS = (
    ", ".join(kind.value if kind is not Kind.TEXT else "text:N" for kind in Kind) + ", and [N] behind for a run of N"
)
_KINDS = {kind.value: kind for kind in Kind}


def parse_type(text: str) -> ValueType:
    """A type from its word, such as "int16", "text:8", "text:8:utf-8" or "uint16[24]". Raises ValueError with what
    would be right."""
    run = re.fullmatch(r"(.*)\[\s*([0-9]{1,9})\s*\]", text.strip())
    word, count = (run[1], int(run[2])) if run else (text.strip(), 1)
    if not 1 <= count <= MOST_ARRAY:
        raise ValueError(f"type {text!r}: a run is of 1…{MOST_ARRAY} values")
    word = word.strip().lower()
    if word.partition(":")[0] == Kind.TEXT.value:
        return _text_type(text, word, count)
    kind = _KINDS.get(word)
    if kind is None and _KINDS.get(word.partition(":")[0]) is not None:
        raise ValueError(f"type {text!r} takes no length")
    if kind is None:
        raise ValueError(f"type {text!r} is not known; the types are {TYPE_WORDS}")
    value_type = ValueType(kind, count=count)
    if value_type.registers > MOST_ARRAY:
        raise ValueError(
            f"type {text!r} takes {value_type.registers} registers, one request reads {MOST_ARRAY} at most"
        )
    return value_type


_NO_TEXT = ("undefined", "idna", "punycode", "unicode-escape", "raw-unicode-escape")


def _text_type(text: str, word: str, count: int) -> ValueType:
    _, length, encoding = (*word.split(":", 2), "", "")[:3]
    if not re.fullmatch("[0-9]{1,4}", length) or not 1 <= int(length) <= MOST_TEXT:
        raise ValueError(f"type {text!r} needs its length, as in text:8 (1…{MOST_TEXT} characters)")
    if count > 1:
        raise ValueError(f"type {text!r}: a run of texts is one longer text")
    try:
        b" ".decode(encoding or "latin-1")  # LookupError of what is no encoding of text
        if codecs.lookup(encoding or "latin-1").name in _NO_TEXT:
            raise LookupError
    except UnicodeDecodeError:  # more bytes to a character than one
        pass
    except (LookupError, ValueError):
        raise ValueError(
            f"type {text!r}: encoding {encoding!r} is not known; common ones are latin-1, ascii, utf-8, cp1252"
        ) from None
    return ValueType(Kind.TEXT, int(length), encoding or "latin-1")


class ByteOrder:
    """How bytes and words of a wider value stand on the wire: one of four names for every width; AB and BA for 16 bits
    and text; all eight letters, as they come, for 64 bits. There is one object for each."""

    __slots__ = ("value",)
    value: str
    _made: ClassVar[dict[str, "ByteOrder"]] = {}
    ABCD: ClassVar["ByteOrder"]
    CDAB: ClassVar["ByteOrder"]
    BADC: ClassVar["ByteOrder"]
    DCBA: ClassVar["ByteOrder"]
    AB: ClassVar["ByteOrder"]
    BA: ClassVar["ByteOrder"]

    def __new__(cls, letters: str) -> "ByteOrder":
        made = cls._made.get(letters)
        if made is None:
            if letters not in _NAMES and sorted(letters) != list(_ALL_LETTERS):
                raise ValueError(f"{letters!r} is no order")
            made = cls._made[letters] = super().__new__(cls)
            made.value = letters
        return made

    def __reduce__(self) -> tuple[type["ByteOrder"], tuple[str]]:
        return ByteOrder, (self.value,)

    def __repr__(self) -> str:
        return f"Order({self.value!r})"

    @property
    def is_for_wide(self) -> bool:
        return len(self.value) == 4

    @property
    def is_spelled(self) -> bool:
        """Whether it is written with all its letters: for 64 bits only."""
        return len(self.value) == 8

    @property
    def swaps_words(self) -> bool:
        return self in (ByteOrder.CDAB, ByteOrder.DCBA)

    @property
    def swaps_bytes(self) -> bool:
        return self in (ByteOrder.BADC, ByteOrder.DCBA, ByteOrder.BA)


_NAMES = ("ABCD", "CDAB", "BADC", "DCBA", "AB", "BA")
_ALL_LETTERS = "ABCDEFGH"
ORDERS = tuple(ByteOrder(name) for name in _NAMES)
ByteOrder.ABCD, ByteOrder.CDAB, ByteOrder.BADC, ByteOrder.DCBA, ByteOrder.AB, ByteOrder.BA = ORDERS
WIDE_ORDERS = (ByteOrder.ABCD, ByteOrder.CDAB, ByteOrder.BADC, ByteOrder.DCBA)
_BY_ALL_LETTERS = {"ABCDEFGH": "ABCD", "GHEFCDAB": "CDAB", "BADCFEHG": "BADC", "HGFEDCBA": "DCBA"}
"""Orders of 64 bits written out; the four names stand for the same."""


def parse_order(text: str) -> ByteOrder:
    """An order from its letters. Raises ValueError with what would be right."""
    letters = text.strip().upper()
    try:
        return ByteOrder(_BY_ALL_LETTERS.get(letters, letters))
    except ValueError:
        raise ValueError(
            f"order {text!r} is not known; the orders are ABCD, CDAB, BADC, DCBA, AB, BA for 16 bits and text, "
            "and all eight letters for 64 bits, as in EFGHABCD"
        ) from None


def _fits(order: ByteOrder, value_type: ValueType) -> bool:
    return order.is_for_wide or (order.is_spelled and value_type.registers_each == 4)


def order_for(value_type: ValueType, byte_order: ByteOrder | None, inherited: ByteOrder | None) -> ByteOrder:
    """The order that applies. A four-letter order that is only inherited leaves 16 bits and text alone. Raises
    ValueError."""
    if value_type.is_wide:
        if byte_order is not None and not _fits(byte_order, value_type):
            kinds = "64 bits" if byte_order.is_spelled else "16 bits and text"
            raise ValueError(f"order {byte_order.value} is for {kinds}; {value_type} takes ABCD, CDAB, BADC or DCBA")
        order = byte_order or inherited
        return order if order is not None and _fits(order, value_type) else ByteOrder.ABCD
    if byte_order is None or len(byte_order.value) > 2:
        return inherited if inherited is not None and len(inherited.value) == 2 else ByteOrder.AB
    return byte_order


def byte_places(value_type: ValueType, order: ByteOrder) -> tuple[int, ...]:
    """For each byte of the value, most significant first, where it stands in its registers as they come; of a run one
    after the other."""
    each = value_type.registers_each
    if order.is_spelled:
        one = [order.value.index(letter) for letter in _ALL_LETTERS]
        return tuple(2 * each * number + place for number in range(value_type.count) for place in one)
    words = range(each - 1, -1, -1) if order.swaps_words else range(each)
    inner = (1, 0) if order.swaps_bytes else (0, 1)
    one = [2 * word + byte for word in words for byte in inner]
    return tuple(2 * each * number + place for number in range(value_type.count) for place in one)
