"""The cells of a map row that scale: factor and offset, two points on a line, a table with straight pieces, a current
loop, clamping; and raw numbers that mean that there is no value."""

import re
from math import isfinite, nan
from struct import unpack

from msgspec import Struct

from kanaleto.values.digits import number as decimal
from kanaleto.values.digits import whole
from kanaleto.values.scale import AnyScale, Bounded, Curve, Scale, between, curve, linear
from kanaleto.values.types import Kind, ValueType

_SIGNAL = "4-20mA"
MOST_PAIRS = 1000
_SIGNED = {Kind.INT16: 16, Kind.INT32: 32, Kind.INT64: 64}
_FLOATS = {Kind.FLOAT16: "e", Kind.FLOAT32: "f", Kind.FLOAT64: "d"}

LOOP_RANGES = (
    (0, 4000), (0, 10000), (0, 16000), (0, 20000), (0, 27648), (0, 32000), (0, 32767), (0, 65535), (0, 4095),
    (400, 2000), (4000, 20000),
    (6400, 32000), (819, 4095), (6554, 32767), (13107, 65535),
)  # fmt: skip
"""Raw numbers for 4 and 20 mA that are usual."""


SCALE_NUMBERS = ("factor", "offset", "raw_low", "raw_high", "eng_low", "eng_high")
SCALE_COLUMNS = (*SCALE_NUMBERS, "curve", "signal", "clamp")
"""What says how a point is scaled: columns of a map, and keys of a named scale in a site file."""


class ScaleCells(Struct, frozen=True, kw_only=True):
    """What a row says of its scale; None and empty where it says nothing."""

    factor: float | None = None
    offset: float | None = None
    raw_low: float | None = None
    raw_high: float | None = None
    eng_low: float | None = None
    eng_high: float | None = None
    curve: tuple[tuple[float, float], ...] = ()
    signal: str = ""
    clamps: bool = False

    @property
    def is_empty(self) -> bool:
        return (
            all(getattr(self, name) is None for name in SCALE_NUMBERS)
            and not self.curve
            and not self.signal
            and not self.clamps
        )


def make_scale(cells: ScaleCells) -> AnyScale | None:
    """The scale. Raises ValueError with what would be right."""
    inner = _inner(cells)
    is_loop = bool(cells.signal)
    if is_loop and cells.signal.replace(" ", "").lower() != _SIGNAL.lower():
        raise ValueError(
            f"signal {cells.signal!r} is not known; there is {_SIGNAL}, with raw_low "
            "and raw_high the raw numbers of 4 and 20 mA"
        )
    if not is_loop and not cells.clamps:
        return inner
    low, high = _ends(cells)
    if inner is None:
        inner = Scale(1, 0, 1, 1.0, 0.0)
    loop = (cells.raw_low, cells.raw_high) if is_loop else (None, None)
    if is_loop and None in loop:
        raise ValueError(
            f"signal {_SIGNAL} needs raw_low, raw_high, eng_low, eng_high: the "
            "raw numbers of 4 and 20 mA, and what they mean"
        )
    return Bounded(inner, min(low, high), max(low, high), cells.clamps, *loop)


def _ends(cells: ScaleCells) -> tuple[float, float]:
    if cells.curve:
        values = [value for _, value in cells.curve]
        return min(values), max(values)
    if cells.eng_low is None or cells.eng_high is None:
        raise ValueError("clamp needs ends: raw_low, raw_high, eng_low, eng_high, or a curve")
    return cells.eng_low, cells.eng_high


def _inner(cells: ScaleCells) -> Scale | Curve | None:
    ends = (cells.raw_low, cells.raw_high, cells.eng_low, cells.eng_high)
    has_factor = cells.factor is not None or cells.offset is not None
    if cells.curve:
        if has_factor or any(end is not None for end in ends):
            raise ValueError("has a curve and another scale; a point takes one or the other")
        return curve(cells.curve)
    low, high, eng_low, eng_high = ends
    if low is not None and high is not None and eng_low is not None and eng_high is not None:
        if has_factor:
            raise ValueError("has factor or offset and a raw range; a point takes one or the other")
        return between(low, high, eng_low, eng_high)
    if any(end is not None for end in ends):
        raise ValueError("has only part of raw_low, raw_high, eng_low, eng_high; all four are needed")
    return linear(cells.factor if cells.factor is not None else 1.0, cells.offset if cells.offset is not None else 0.0)


def parse_curve(text: str) -> tuple[tuple[float, float], ...]:
    """Pairs of raw and engineering values, as `0=0;4000=100`. Raises ValueError."""
    pairs = []
    for part in text.split(";"):
        raw, equals, value = part.partition("=")
        try:
            if not equals:
                raise ValueError
            pairs.append((decimal(raw), decimal(value)))
            if len(pairs) > MOST_PAIRS or not all(map(isfinite, pairs[-1])):
                raise ValueError
        except ValueError:
            raise ValueError(
                f"curve {text!r} must read like 0=0;800=12.5;4000=100, with {MOST_PAIRS} points at most"
            ) from None
    curve(pairs)
    return tuple(pairs)


def parse_yes(text: str) -> bool:
    """Raises ValueError."""
    if text.lower() in ("yes", "y", "1", "true"):
        return True
    if text.lower() in ("no", "n", "0", "false"):
        return False
    raise ValueError(f"{text!r} must be yes or no")


def parse_no_values(text: str, value_type: ValueType) -> frozenset[float]:
    """Raw numbers, as `0x8000;0x7FFF` (bit patterns) or `-1;32767` (as the type reads them), that mean that there is no
    value. NaN is no value by itself. Raises ValueError."""
    found: set[float] = set()
    for part in re.split(r"[;\s]+", text.strip()):
        try:
            if part.lower() == "nan":
                continue
            if part.lower().startswith("0x"):
                found.add(_pattern(whole(part), value_type))
            else:
                found.add(decimal(part) if value_type.kind in _FLOATS else whole(part))
        except (ValueError, OverflowError):
            raise ValueError(f"no_value {part!r} is no raw number such as 0x8000 or -32768") from None
    return frozenset(number for number in found if number == number)


def _pattern(bits: int, value_type: ValueType) -> float:
    """The raw number that a bit pattern is in this type."""
    size = 2 * value_type.registers_each
    if bits >> 8 * size:
        raise ValueError
    if value_type.kind in _FLOATS:
        number: float = unpack(f">{_FLOATS[value_type.kind]}", bits.to_bytes(size))[0]
        return number if number == number else nan
    width = _SIGNED.get(value_type.kind)
    return bits - (1 << width) if width is not None and bits >> (width - 1) else bits
