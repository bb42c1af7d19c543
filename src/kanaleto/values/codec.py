"""One point's registers to its value and back."""

import math
from dataclasses import dataclass
from fractions import Fraction
from struct import pack, unpack

from kanaleto.values.scale import Scale
from kanaleto.values.types import Kind, Order, ValueType, byte_places

_STRUCT = {
    Kind.INT16: "h", Kind.UINT16: "H", Kind.INT32: "i", Kind.UINT32: "I", Kind.INT64: "q", Kind.UINT64: "Q",
    Kind.FLOAT32: "f", Kind.FLOAT64: "d", Kind.HEX: "H", Kind.BITS: "H", Kind.BOOL: "H", Kind.BCD16: "H", Kind.BCD32: "I",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class NoValue:
    """The words came, and hold no value: why."""

    reason: str


Value = int | float | str | NoValue


class CannotEncode(ValueError):  # noqa: N818 - it reads as what it says
    """A value that the point's registers cannot hold; the text says which can."""


@dataclass(frozen=True, slots=True)
class Codec:
    """How one point's registers are read: its type and order, a field of bits if it is one, and its scale.

    `bits` are the lowest and highest bit of the field in a 16-bit word, 0 the least significant.
    """

    type: ValueType
    order: Order
    scale: Scale | None = None
    bits: tuple[int, int] | None = None

    @property
    def registers(self) -> int:
        return self.type.registers

    @property
    def struct_code(self) -> str:
        """The code of `struct` for the raw number, most significant byte first; text as bytes."""
        return f"{2 * self.registers}s" if self.type.kind is Kind.TEXT else _STRUCT[self.type.kind]

    @property
    def is_plain(self) -> bool:
        """Whether the raw number is the value as it stands (but for floats that are no number)."""
        return self.scale is None and self.bits is None and self.type.kind not in (Kind.TEXT, Kind.BCD16, Kind.BCD32, Kind.BOOL)

    def decode(self, data: bytes) -> Value:
        """The value of registers `data`, big-endian as they came (2 × registers bytes)."""
        raw = bytes([data[place] for place in byte_places(self.type, self.order)])
        return self.finish(unpack(f">{self.struct_code}", raw)[0])

    def finish(self, raw: int | float | bytes) -> Value:
        """The value of a raw number, or of text bytes, already in order."""
        kind = self.type.kind
        if isinstance(raw, bytes):
            return raw[: self.type.characters].rstrip(b"\0 ").decode("latin-1")
        if isinstance(raw, float):
            if not math.isfinite(raw):
                return NoValue("NaN: not a number" if math.isnan(raw) else "infinite")
        elif self.bits is not None:
            low, high = self.bits
            raw = raw >> low & ((1 << (high - low + 1)) - 1)
        elif kind is Kind.BOOL:
            raw = 1 if raw else 0
        elif kind in (Kind.BCD16, Kind.BCD32):
            digits = f"{raw:x}"
            if not digits.isdecimal():
                return NoValue(f"{raw:0{4 * self.registers}X} is no packed decimal")
            raw = int(digits)
        if self.scale is None:
            return raw
        value = self.scale.to_value(raw)
        return value if math.isfinite(value) else NoValue("infinite after scaling")

    def encode(self, value: int | float | str, is_exact: bool = True) -> bytes:
        """Registers that hold `value`; with `is_exact` false the nearest that can. Raises CannotEncode."""
        if self.type.kind is Kind.TEXT:
            raw = self._text_bytes(value)
        else:
            if isinstance(value, str):
                raise CannotEncode(f"{value!r} is no number")
            raw = pack(f">{self.struct_code}", self._raw_number(value, is_exact))
        data = bytearray(len(raw))
        for byte, place in zip(raw, byte_places(self.type, self.order), strict=True):
            data[place] = byte
        return bytes(data)

    def _text_bytes(self, value: int | float | str) -> bytes:
        try:
            raw = str(value).encode("latin-1")
        except UnicodeEncodeError:
            raise CannotEncode(f"{value!r} has characters that one byte cannot hold") from None
        if len(raw) > self.type.characters:
            raise CannotEncode(f"{value!r} has {len(raw)} characters, {self.type.characters} fit")
        return raw.ljust(2 * self.registers, b"\0")

    def _raw_number(self, value: int | float, is_exact: bool) -> int | float:
        if not math.isfinite(value):
            raise CannotEncode(f"{value} is no value to write")
        exact = self.scale.to_raw(value) if self.scale is not None else Fraction(value)
        if self.type.is_float:
            return self._float(value, float(exact))
        nearest = round(exact)
        low, high = self._limits()
        if not low <= nearest <= high:
            if is_exact:
                raise CannotEncode(f"{value} does not fit: {self} holds {self._shown(low)}…{self._shown(high)}")
            nearest = min(max(nearest, low), high)
        if is_exact and exact != nearest:
            raise CannotEncode(f"{value} falls between two raw numbers; the nearest that fits is {self._shown(nearest)}")
        if self.type.kind in (Kind.BCD16, Kind.BCD32):
            return int(str(nearest), 16)
        return nearest << self.bits[0] if self.bits is not None else nearest

    def _float(self, value: int | float, raw: float) -> float:
        if self.type.kind is Kind.FLOAT32:
            try:
                pack(">f", raw)
            except OverflowError:
                raise CannotEncode(f"{value} is more than a float32 holds") from None
        return raw

    def _limits(self) -> tuple[int, int]:
        if self.bits is not None:
            return 0, (1 << (self.bits[1] - self.bits[0] + 1)) - 1
        kind, width = self.type.kind, 16 * self.registers
        if kind is Kind.BOOL:
            return 0, 1
        if kind in (Kind.BCD16, Kind.BCD32):
            return 0, 10 ** (width // 4) - 1
        if kind in (Kind.INT16, Kind.INT32, Kind.INT64):
            return -(1 << (width - 1)), (1 << (width - 1)) - 1
        return 0, (1 << width) - 1

    def _shown(self, raw: int) -> str:
        value = self.scale.to_value(raw) if self.scale is not None else raw
        return f"{value:.12g}" if isinstance(value, float) else str(value)

    def __str__(self) -> str:
        return f"{self.type}" + (f" {self.order.value}" if self.type.is_wide else "")
