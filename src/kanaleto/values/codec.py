"""One point's registers to its value and back."""

import math
from collections.abc import Sequence
from fractions import Fraction
from struct import pack, unpack

from msgspec import Struct

from kanaleto.values.novalue import CannotEncode, NoValue
from kanaleto.values.scale import AnyScale, Bounded
from kanaleto.values.special import decode_special, encode_special
from kanaleto.values.types import ByteOrder, Kind, ValueType, byte_places

__all__ = ["CannotEncode", "Codec", "NoValue", "Single", "Value"]

_STRUCT = {
    Kind.INT16: "h", Kind.UINT16: "H", Kind.INT32: "i", Kind.UINT32: "I", Kind.INT64: "q", Kind.UINT64: "Q",
        Kind.FLOAT16: "e",
    Kind.FLOAT32: "f", Kind.FLOAT64: "d", Kind.HEX: "H", Kind.BITS: "H", Kind.BOOL: "H", Kind.BCD16: "H",
        Kind.BCD32: "I", Kind.BCD64: "Q",
    Kind.INT8_HIGH: "H", Kind.INT8_LOW: "H", Kind.UINT8_HIGH: "H", Kind.UINT8_LOW: "H", Kind.SIGNED_MAGNITUDE16: "H",
    Kind.SIGNED_MAGNITUDE32: "I",
}  # fmt: skip
_PLAIN = (
    Kind.INT16, Kind.UINT16, Kind.INT32, Kind.UINT32, Kind.INT64, Kind.UINT64, Kind.FLOAT16, Kind.FLOAT32,
        Kind.FLOAT64, Kind.HEX,
    Kind.BITS,
)  # fmt: skip
_BCD = (Kind.BCD16, Kind.BCD32, Kind.BCD64)
_SIGNED = (Kind.INT16, Kind.INT32, Kind.INT64)
_BYTES = {Kind.INT8_HIGH: 8, Kind.UINT8_HIGH: 8, Kind.INT8_LOW: 0, Kind.UINT8_LOW: 0}
_MODULO = (Kind.MODULO2, Kind.MODULO3)
_SIGN_AND_MAGNITUDE = (Kind.SIGNED_MAGNITUDE16, Kind.SIGNED_MAGNITUDE32)

Single = int | float | str | NoValue
Value = Single | tuple[Single, ...]
"""A run's value is a tuple."""


class Codec(Struct, frozen=True):
    """How one point's registers are read: its type and order, a field of bits if it is one, its scale, and raw numbers
    that mean that there is no value.

    `bits` are the lowest and highest bit of the field in a 16-bit word, 0 the least significant.
    """

    type: ValueType
    order: ByteOrder
    scale: AnyScale | None = None
    bits: tuple[int, int] | None = None
    no_values: frozenset[float] = frozenset()

    @property
    def registers(self) -> int:
        return self.type.registers

    @property
    def struct_code(self) -> str:
        """The code of `struct` for the raw number, most significant byte first; bytes where the value is more than one
        number."""
        code = _STRUCT.get(self.type.kind)
        return f"{2 * self.registers}s" if code is None or self.type.is_array else code

    @property
    def is_plain(self) -> bool:
        """Whether the raw number is the value as it stands (but for floats that are no number)."""
        is_bare = self.scale is None and self.bits is None and not self.no_values and not self.type.is_array
        return is_bare and self.type.kind in _PLAIN

    @property
    def is_number(self) -> bool:
        """Whether the raw number is the value, but for a scale and numbers that are none."""
        return self.type.kind in _PLAIN and self.bits is None

    @property
    def each(self) -> "Codec":
        """The codec of one value of a run."""
        return Codec(ValueType(self.type.kind), self.order, self.scale, self.bits, self.no_values)

    def decode(self, data: bytes) -> Value:
        """The value of registers `data`, big-endian as they came (2 × registers bytes)."""
        raw = bytes([data[place] for place in byte_places(self.type, self.order)])
        return self.finish(unpack(f">{self.struct_code}", raw)[0])

    def finish(self, raw: int | float | bytes) -> Value:
        """The value of a raw number, or of bytes, already in order."""
        if isinstance(raw, bytes):
            return self._finish_bytes(raw)
        if raw in self.no_values:
            return NoValue(
                f"{raw:g} means no value" if isinstance(raw, float) else f"0x{raw & self._mask:X} means no value"
            )
        kind = self.type.kind
        if isinstance(raw, float):
            if not math.isfinite(raw):
                return NoValue("NaN: not a number" if math.isnan(raw) else "infinite")
        elif self.bits is not None:
            raw = self._field(raw)
        elif kind not in _PLAIN:
            made = self._number(kind, raw)
            if isinstance(made, NoValue):
                return made
            raw = made
        return raw if self.scale is None else self._scaled(raw)

    def _scaled(self, raw: float) -> float | NoValue:
        assert self.scale is not None
        value = self.scale.to_value(raw)
        return value if isinstance(value, NoValue) or math.isfinite(value) else NoValue("infinite after scaling")

    @property
    def _mask(self) -> int:
        return (1 << 16 * self.type.registers_each) - 1

    def _field(self, raw: int) -> int:
        assert self.bits is not None
        low, high = self.bits
        width = high - low + 1
        value = raw >> low & ((1 << width) - 1)
        return value - (1 << width) if self.type.kind is Kind.INT16 and width > 1 and value >> (width - 1) else value

    def _number(self, kind: Kind, raw: int) -> int | NoValue:
        if kind is Kind.BOOL:
            return 1 if raw else 0
        if kind in _BCD:
            digits = f"{raw:x}"
            return int(digits) if digits.isdecimal() else NoValue(f"{raw:0{4 * self.registers}X} is no packed decimal")
        if kind in _BYTES:
            byte = raw >> _BYTES[kind] & 0xFF
            return byte - 256 if byte > 127 and kind in (Kind.INT8_HIGH, Kind.INT8_LOW) else byte
        top = 1 << (16 * self.type.registers_each - 1)
        return -(raw - top) if raw & top else raw

    def _finish_bytes(self, raw: bytes) -> Value:
        if self.type.is_array:
            each, size = self.each, 2 * self.type.registers_each
            code = f">{each.struct_code}"
            found = [each.finish(unpack(code, raw[at : at + size])[0]) for at in range(0, len(raw), size)]
            return tuple(value for value in found if not isinstance(value, tuple))
        if self.type.kind is not Kind.TEXT:
            value = decode_special(self.type.kind, raw)
            return self._scaled(value) if self.scale is not None and isinstance(value, int) else value
        try:
            text = raw[: self.type.characters].decode(self.type.encoding)
            return text.partition("\0")[0].rstrip(" ")  # decoded first: utf-16 is full of NULs
        except UnicodeDecodeError:
            return NoValue(f"{raw.hex(' ').upper()} is no text in {self.type.encoding}")

    def encode(
        self,
        value: int | float | str | Sequence[int | float | str],
        is_within: bool = True,
        decimals: int | None = None,
    ) -> bytes:
        """The registers that come nearest to `value`, which is meant to so many decimals. What lies outside the range
        is refused, or with `is_within` false becomes its end. Raises CannotEncode."""
        if self.type.is_array:
            return self._encode_run(value, is_within, decimals)
        if not isinstance(value, int | float | str):
            raise CannotEncode(f"{value!r} is more than one value")
        if self.type.kind is Kind.TEXT:
            raw = self._text_bytes(value)
        elif self.type.kind not in _STRUCT:
            if self.type.takes_scale and not isinstance(value, str):
                value = self._raw_number(value, is_within, decimals)
            raw = encode_special(self.type.kind, value)
        else:
            if isinstance(value, str):
                raise CannotEncode(f"{value!r} is no number")
            raw = pack(f">{self.struct_code}", self._raw_number(value, is_within, decimals))
        data = bytearray(len(raw))
        for byte, place in zip(raw, byte_places(self.type, self.order), strict=True):
            data[place] = byte
        return bytes(data)

    def _encode_run(
        self, values: int | float | str | Sequence[int | float | str], is_within: bool, decimals: int | None
    ) -> bytes:
        if isinstance(values, int | float):
            values = [values] * self.type.count
        if isinstance(values, str) or len(values) != self.type.count:
            raise CannotEncode(f"{values!r} are not {self.type.count} values")
        return b"".join(self.each.encode(value, is_within, decimals) for value in values)

    def _text_bytes(self, value: int | float | str) -> bytes:
        try:
            raw = str(value).encode(self.type.encoding)
        except UnicodeEncodeError:
            raise CannotEncode(f"{value!r} has characters that {self.type.encoding} cannot hold") from None
        if len(raw) > self.type.characters:
            raise CannotEncode(f"{value!r} has {len(raw)} characters, {self.type.characters} fit")
        return raw.ljust(2 * self.registers, b"\0")

    def _raw_number(self, value: int | float, is_within: bool, decimals: int | None) -> int | float:
        if not math.isfinite(value):
            raise CannotEncode(f"{value} is no value to write")
        if is_within and isinstance(self.scale, Bounded) and self.scale.clamps:
            self._require_within(value, self.scale, _half_unit(value, decimals))
        exact = self.scale.to_raw(value) if self.scale is not None else Fraction(value)
        if self.type.is_float:
            return self._nearest_float(value, self._float(value, _float_of(exact)))
        nearest = round(exact)
        low, high = self._limits()
        if not low <= nearest <= high:
            if is_within and not self._is_end(min(max(nearest, low), high), value, decimals):
                raise CannotEncode(f"{value} does not fit: {self} holds {self._shown(low)}…{self._shown(high)}")
            nearest = min(max(nearest, low), high)
        return self._pack_number(self._meaning(nearest, exact, value, decimals) if is_within else nearest)

    def _is_end(self, end: int, value: float, decimals: int | None) -> bool:
        """Whether `value`, rounded as it is, is what the first or last raw number means."""
        read = self.scale.to_value(end) if self.scale is not None else end
        return not isinstance(read, NoValue) and abs(read - value) <= _half_unit(value, decimals)

    def _meaning(self, nearest: int, exact: Fraction, value: float, decimals: int | None) -> int:
        """The nearest raw number that is a value: some are none. Raises CannotEncode where no neighbour is one."""
        is_part = self.bits is not None or self.type.kind in _BYTES  # of a word, whose rest is not known here
        if is_part or not (self.no_values or isinstance(self.scale, Bounded)):
            return nearest
        low, high = self._limits()
        near = range(max(nearest - 1, low), min(nearest + 1, high) + 1)
        for raw in sorted(near, key=lambda raw: abs(raw - exact)):
            read = self._read(raw)
            if raw == nearest and not isinstance(read, NoValue):
                return raw
            if isinstance(read, int | float) and abs(read - value) <= _half_unit(value, decimals):
                return raw
        read = self._read(nearest)
        why = read.reason if isinstance(read, NoValue) else "no value"
        raise CannotEncode(f"{value} cannot be told from what is no value: {why}")

    def _read(self, raw: int) -> Value:
        """What is read where that raw number was written."""
        if self.type.kind in _MODULO:
            return self._scaled(raw) if self.scale is not None else raw
        return self.finish(unpack(f">{self.struct_code}", pack(f">{self.struct_code}", self._pack_number(raw)))[0])

    @staticmethod
    def _require_within(value: float, scale: Bounded, slack: float) -> None:
        if value < scale.low - slack:
            raise CannotEncode(f"{value:.12g} is below {scale.low:.12g}, the end of its scale")
        if value > scale.high + slack:
            raise CannotEncode(f"{value:.12g} is above {scale.high:.12g}, the end of its scale")

    def _pack_number(self, number: int) -> int:
        kind = self.type.kind
        if kind in _BCD:
            return int(str(number), 16)
        if kind in _BYTES:
            return (number & 0xFF) << _BYTES[kind]
        if kind in _SIGN_AND_MAGNITUDE:
            return (1 << (16 * self.type.registers_each - 1)) - number if number < 0 else number
        if self.bits is None:
            return number
        low, high = self.bits
        field = (number & ((1 << (high - low + 1)) - 1)) << low
        return field - 0x10000 if kind is Kind.INT16 and field > 0x7FFF else field

    def _float(self, value: int | float, raw: float) -> float:
        if self.type.kind in (Kind.FLOAT32, Kind.FLOAT16):
            try:
                pack(f">{self.struct_code}", raw)
            except OverflowError:
                raise CannotEncode(f"{value} is more than a {self.type.kind.value} holds") from None
        return raw

    def _nearest_float(self, value: float, raw: float) -> float:
        """Of the number and its two neighbours that which means `value` best: a scale rounds too."""
        scale = self.scale
        if scale is None or not math.isfinite(raw):
            return raw
        size, code = 2 * self.type.registers_each, f">{self.struct_code}"
        word = int.from_bytes(pack(code, raw))
        near = [raw]
        for other in (word - 1, word + 1):
            if other & (1 << (8 * size - 1)) == word & (1 << (8 * size - 1)) and other >= 0:
                near.append(unpack(code, other.to_bytes(size))[0])
        read = {one: scale.to_value(one) for one in near if math.isfinite(one)}
        return min(read, key=lambda one: _off(read[one], value))

    def raw_limits(self) -> tuple[int, int]:
        """The least and the greatest raw number of a whole-number type."""
        return self._limits()

    def _limits(self) -> tuple[int, int]:
        kind, width = self.type.kind, 16 * self.type.registers_each
        if self.bits is not None:
            width = self.bits[1] - self.bits[0] + 1
            is_signed = kind is Kind.INT16 and width > 1
            return (-(1 << (width - 1)), (1 << (width - 1)) - 1) if is_signed else (0, (1 << width) - 1)
        if kind is Kind.BOOL:
            return 0, 1
        if kind in _BYTES:
            return (-128, 127) if kind in (Kind.INT8_HIGH, Kind.INT8_LOW) else (0, 255)
        if kind in _BCD or kind in _MODULO:
            return 0, 10 ** (width // 4) - 1
        if kind in _SIGN_AND_MAGNITUDE:
            return 1 - (1 << (width - 1)), (1 << (width - 1)) - 1
        if kind in _SIGNED:
            return -(1 << (width - 1)), (1 << (width - 1)) - 1
        return 0, (1 << width) - 1

    def _shown(self, raw: int) -> str:
        value = self.scale.to_value(raw) if self.scale is not None else raw
        if isinstance(value, NoValue):
            return value.reason
        return f"{value:.12g}" if isinstance(value, float) else str(value)

    def __str__(self) -> str:
        return f"{self.type}" + (f" {self.order.value}" if self.type.is_wide else "")


def _off(read: float | NoValue, value: float) -> float:
    return math.inf if isinstance(read, NoValue) else abs(read - value)


def _half_unit(value: float, decimals: int | None) -> float:
    """Half of what the last decimal that is shown stands for; of ten digits where none are asked for."""
    return 0.5 * 10.0**-decimals * (1 + 1e-9) if decimals is not None else 1e-9 * abs(value)


def _float_of(exact: Fraction) -> float:
    try:
        return float(exact)
    except OverflowError:
        raise CannotEncode("that is more than any register holds") from None
