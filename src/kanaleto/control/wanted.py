"""What somebody types becomes registers: a value in its unit, 0x… or 0b… for the raw number, a state's text, the names
of bits, on and off. A value becomes the nearest raw number, and what that means is reported; what lies outside the
range is refused."""

import re
from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.board.board import times_ten_to
from kanaleto.site.model import Access, Point, Writing
from kanaleto.values.codec import CannotEncode, Codec
from kanaleto.values.text import decimals_of, shown
from kanaleto.values.typed import ON, state_of, typed_value, word_of_bits
from kanaleto.values.types import Kind, byte_places

WHOLE = 0xFFFF
_RAW = re.compile(r"0[xX][0-9A-Fa-f_ ]+|0[bB][01_ ]+")
_PULSE = re.compile(r"(.*?)\s+(?:for\s+)?([0-9]+(?:[.,][0-9]+)?)\s*s")
_ON = {**ON, "1": 1, "0": 0}
_HALVES = (Kind.INT8_HIGH, Kind.INT8_LOW, Kind.UINT8_HIGH, Kind.UINT8_LOW)
LONGEST_PULSE_S = 600.0


class CannotWrite(ValueError):
    """One sentence: why that cannot be written there."""


class Wanted(Struct, frozen=True):
    """What a point is to hold: its registers as they go over the wire, or one byte for a coil. `mask` tells which bits
    of a single word are meant; `pulse_s` after how long it goes back (0: it stays)."""

    data: bytes
    text: str
    mask: int = WHOLE
    pulse_s: float = 0.0

    def over(self, now: bytes) -> bytes:
        """The whole registers, where `now` stands there."""
        if self.mask == WHOLE:
            return self.data
        word = int.from_bytes(now) & ~self.mask | int.from_bytes(self.data) & self.mask
        return word.to_bytes(2)


def why_not_writable(point: Point) -> str:
    """Why a point is never written, or nothing."""
    if not point.table.is_writable:
        return f"{point.name} is one of the {point.table.title}: nobody can write them"
    if point.access is Access.READ:
        return f"{point.name} is read-only: its map says access r"
    if point.writing.how is Writing.NEVER:
        return f"{point.name} is never written: its map says write never"
    return ""


def wanted(point: Point, text: str, power: int = 0) -> Wanted:
    """`power` is the power of ten that another point holds for this one. Raises CannotWrite."""
    why = why_not_writable(point)
    if why:
        raise CannotWrite(why)
    if point.table.is_bits or point.codec.type.kind is not Kind.TEXT:
        text = text.strip()
    if not text.strip():
        raise CannotWrite("type a value" + ('; "" stands for an empty text' if text else ""))
    pulse_s = 0.0
    may_pulse = is_switch(point) or (point.codec.type.kind is Kind.BITS and not point.codec.type.is_array)
    pulsed = _PULSE.fullmatch(text) if may_pulse and state_of(point.labels, text) is None else None
    if pulsed is not None:
        text, pulse_s = pulsed[1].strip(), float(pulsed[2].replace(",", "."))
        if not 0.01 <= pulse_s <= LONGEST_PULSE_S:
            raise CannotWrite(f"a pulse lasts 0.01 to {LONGEST_PULSE_S:g} s, not {pulsed[2]} s")
    if point.table.is_bits:
        made = _coil(point, text)
    elif is_word_of_bits(point):
        made = _word_of_bits(point, text)
    else:
        made = _number_or_text(point, text, power)
    return Wanted(made.data, made.text, made.mask, pulse_s)


def is_switch(point: Point) -> bool:
    """Whether it is on or off."""
    return point.table.is_bits or (point.codec.type.kind is Kind.BOOL and not point.codec.type.is_array)


def is_word_of_bits(point: Point) -> bool:
    codec = point.codec
    is_word = codec.type.kind is Kind.BITS and codec.bits is None and not codec.type.is_array
    return is_word and not point.table.is_bits


def switched(point: Point, bit: int, is_on: bool) -> Wanted:
    """One bit of a word of bits. Raises CannotWrite."""
    why = why_not_writable(point)
    if why:
        raise CannotWrite(why)
    mask = _swapped(1 << bit, point.codec)
    name = point.labels.get(bit) or f"bit {bit}"
    return Wanted((mask if is_on else 0).to_bytes(2), f"{name} {'on' if is_on else 'off'}", mask)


def text_of(point: Point, data: bytes, power: int = 0) -> str:
    """What registers (or a coil's byte) mean, with the unit."""
    value = int(data[0] != 0) if point.table.is_bits else point.codec.decode(data)
    if isinstance(value, int | float) and power:
        value = times_ten_to(value, power)
    text = shown(value, point.codec, point.decimals, point.labels)
    if text == "—":
        text = data.hex(" ", 2).upper()
    is_label = isinstance(value, int) and value in point.labels and not is_word_of_bits(point)
    return f"{text} {point.unit}" if point.unit and not is_label else text


def _swapped(word: int, codec: Codec) -> int:
    raw = word.to_bytes(2)
    return int.from_bytes(raw[::-1] if byte_places(codec.type, codec.order)[0] == 1 else raw)


def _coil(point: Point, text: str) -> Wanted:
    value = state_of(point.labels, text)
    value = _ON.get(text.casefold()) if value is None else value
    if value not in (0, 1):
        labels = f", or {' or '.join(point.labels.values())}" if point.labels else ""
        raise CannotWrite(f"{text!r} is no state of {point.name}: type on or off{labels}")
    return Wanted(bytes((value,)), text_of(point, bytes((value,))))


def _word_of_bits(point: Point, text: str) -> Wanted:
    if _RAW.fullmatch(text):
        word = _raw(text)
        if word > WHOLE:
            raise CannotWrite(f"{text} does not fit: a word holds 0 to 65535, 0xFFFF")
    else:
        bits = {label.casefold(): bit for bit, label in point.labels.items()}
        on_off = re.fullmatch(r"(.+?)\s+(on|off)", text, re.IGNORECASE)
        if text.casefold() not in bits and on_off is not None and on_off[1].casefold() in bits:
            return switched(point, bits[on_off[1].casefold()], on_off[2].casefold() == "on")
        try:
            word = word_of_bits(text.removesuffix(point.unit).strip() if point.unit else text, point.labels)
        except CannotEncode as error:
            raise CannotWrite(f"{point.name}: {error}") from None
    data = _swapped(word, point.codec).to_bytes(2)
    return Wanted(data, text_of(point, data))


def _raw(text: str) -> int:
    return int(re.sub("[_ ]", "", text), 0)


def _number_or_text(point: Point, text: str, power: int) -> Wanted:
    codec = point.codec
    kind = codec.type.kind
    is_state = state_of(point.labels, text) is not None
    if not is_state and kind is not Kind.TEXT and not codec.type.is_array and _RAW.fullmatch(text):
        return _from_raw(point, _raw(text), text, power)
    try:
        value = typed_value(text, codec, point.labels, point.unit)
    except CannotEncode as error:
        raise CannotWrite(str(error)) from None
    for one in value if isinstance(value, list) else [value]:
        if isinstance(one, int | float) and not is_state and kind is not Kind.BOOL:
            _hold_to_range(point, one)
    return _encoded(point, value, power)


def _hold_to_range(point: Point, value: float) -> None:
    low, high = point.limits.range_low, point.limits.range_high
    unit = f" {point.unit}" if point.unit else ""
    if low is not None and value < low:
        raise CannotWrite(
            f"{value:.12g}{unit} is below {low:.12g}{unit}, the end of its range; the nearest is {low:.12g}"
        )
    if high is not None and value > high:
        raise CannotWrite(
            f"{value:.12g}{unit} is above {high:.12g}{unit}, the end of its range; the nearest is {high:.12g}"
        )


def _encoded(point: Point, value: int | float | str | list[int | float | str], power: int) -> Wanted:
    codec = point.codec
    if power and isinstance(value, int | float):
        is_exact = isinstance(value, int) and power > 0 and value % 10**power == 0
        value = int(value) // 10**power if is_exact else times_ten_to(value, -power)
    decimals = point.decimals if point.decimals is not None else decimals_of(codec)
    try:
        data = codec.encode(value, decimals=None if decimals is None else decimals + power)
    except CannotEncode as error:
        raise CannotWrite(f"{point.name}: {error}") from None
    except (ValueError, OverflowError, TypeError) as error:
        raise CannotWrite(f"{point.name}: {value!r} cannot be held: {error}") from None
    return _made(point, data, power)


def _made(point: Point, data: bytes, power: int) -> Wanted:
    """What a part of a word means does not depend on the rest of it, which is not known here."""
    mask = mask_of(point)
    whole_point = replace(point, codec=replace(point.codec, no_values=frozenset())) if mask != WHOLE else point
    return Wanted(data, text_of(whole_point, data, power), mask)


def mask_of(point: Point) -> int:
    """Which bits of its word a point takes; all of them where it has more than one word, too."""
    codec = point.codec
    if point.table.is_bits or point.size != 1:
        return WHOLE
    if codec.bits is not None:
        low, high = codec.bits
        return _swapped(((1 << (high - low + 1)) - 1) << low, codec)
    if codec.type.kind in _HALVES:
        return _swapped(0xFF00 if codec.type.kind in (Kind.INT8_HIGH, Kind.UINT8_HIGH) else 0x00FF, codec)
    return WHOLE


def _from_raw(point: Point, raw: int, text: str, power: int) -> Wanted:
    codec, size = point.codec, point.size
    width = 16 * size
    if codec.bits is not None:
        low, high = codec.bits
        width, raw = high - low + 1, raw << low
    if raw >> (codec.bits[0] if codec.bits is not None else 0) >= 1 << width:
        raise CannotWrite(f"{text} does not fit: {point.name} has {width} bits")
    plain, data = raw.to_bytes(2 * size), bytearray(2 * size)
    for byte, place in zip(plain, byte_places(codec.type, codec.order), strict=True):
        data[place] = byte
    value = codec.decode(bytes(data))
    if isinstance(value, int | float):
        _hold_to_range(point, times_ten_to(value, power) if power else value)
    return _made(point, bytes(data), power)


def values_in(text: str) -> Iterable[str]:
    """Several values, one after the other: parted by semicolons, tabs or lines."""
    return [part.strip() for part in re.split(r"[;\t\n]", text) if part.strip()]
