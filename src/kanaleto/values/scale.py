"""Scaling in exact fractions: value = raw × factor + offset, or along a table with straight pieces, rounded once at the
end.

0.1 is kept as 1/10, so raw 3 becomes 0.3 and not 0.30000000000000004; the way back is exact in the same sense.
"""

from bisect import bisect_right
from collections.abc import Sequence
from fractions import Fraction
from itertools import pairwise
from math import isfinite

from msgspec import Struct

from kanaleto.values.novalue import NoValue

_EXACT_LIMIT = 2**53
_TOO_MUCH = "the numbers of the scale are too large or too small to be reckoned with"
BROKEN_MA, LOW_MA, HIGH_MA, FAULT_MA = 3.6, 3.8, 20.5, 21.0


class Scale(Struct, frozen=True):
    """value = (raw × `up` + `shift`) / `down`, in whole numbers where they stay below 2^53, else in floats."""

    up: float
    shift: float
    down: float
    factor: float
    offset: float

    def to_value(self, raw: float) -> float | NoValue:
        return (raw * self.up + self.shift) / self.down

    def to_raw(self, value: float) -> Fraction:
        """The exact raw number, maybe between two that the registers can hold."""
        return (_exact(value) * Fraction(self.down) - Fraction(self.shift)) / Fraction(self.up)


class Curve(Struct, frozen=True):
    """A table with straight pieces between its points, in the order of raw; beyond its ends the outer pieces go on."""

    raws: tuple[float, ...]
    values: tuple[float, ...]

    def to_value(self, raw: float) -> float | NoValue:
        at = min(max(bisect_right(self.raws, raw), 1), len(self.raws) - 1)
        try:
            return float(_along(raw, self.raws[at - 1], self.raws[at], self.values[at - 1], self.values[at]))
        except OverflowError:
            return NoValue("infinite after scaling")

    def to_raw(self, value: float) -> Fraction:
        """The raw number of the first piece that reaches `value`. The pieces rise or fall throughout, so there is one
        at most inside."""
        rises = self.values[-1] > self.values[0]
        ordered = self.values if rises else tuple(-one for one in self.values)
        at = min(max(bisect_right(ordered, value if rises else -value), 1), len(self.raws) - 1)
        return _along(value, self.values[at - 1], self.values[at], self.raws[at - 1], self.raws[at])

    @property
    def factor(self) -> float:
        """Of the whole, from end to end."""
        return (self.values[-1] - self.values[0]) / (self.raws[-1] - self.raws[0])

    @property
    def offset(self) -> float:
        return self.values[0] - self.raws[0] * self.factor


class Bounded(Struct, frozen=True):
    """Another scale with ends: clamped to `low`…`high` where `clamps`; where `zero_ma` and `full_ma` are the raw
    numbers of 4 and 20 mA, what lies outside the current loop's own range is no value but a broken wire or a fault."""

    inner: Scale | Curve
    low: float
    high: float
    clamps: bool
    zero_ma: float | None = None
    full_ma: float | None = None

    def to_value(self, raw: float) -> float | NoValue:
        if self.zero_ma is not None and self.full_ma is not None:
            current = 4 + 16 * (raw - self.zero_ma) / (self.full_ma - self.zero_ma)
            if current < BROKEN_MA:
                return NoValue(f"broken wire: {current:.2f} mA")
            if current > FAULT_MA:
                return NoValue(f"fault of the loop: {current:.2f} mA")
        value = self.inner.to_value(raw)
        if self.clamps and not isinstance(value, NoValue):
            return min(max(value, self.low), self.high)
        return value

    def to_raw(self, value: float) -> Fraction:
        return self.inner.to_raw(value)

    @property
    def factor(self) -> float:
        return self.inner.factor

    @property
    def offset(self) -> float:
        return self.inner.offset


AnyScale = Scale | Curve | Bounded


def _along(at: float, from_low: float, from_high: float, to_low: float, to_high: float) -> Fraction:
    """Where `at` comes to lie, exactly."""
    share = (_exact(at) - _exact(from_low)) / (_exact(from_high) - _exact(from_low))
    return _exact(to_low) + share * (_exact(to_high) - _exact(to_low))


def _exact(number: float) -> Fraction:
    """The number as it is written: 0.1 is a tenth."""
    return Fraction(repr(number))


def linear(factor: float, offset: float) -> Scale | None:
    """A scale from factor and offset; None when it changes nothing. Raises ValueError when the factor is 0."""
    return _scale(_exact(factor), _exact(offset))


def between(raw_low: float, raw_high: float, eng_low: float, eng_high: float) -> Scale | None:
    """A scale from two points on a line. Raises ValueError when they do not make one."""
    if raw_low == raw_high:
        raise ValueError("raw_low and raw_high are the same: no line goes through them")
    factor = (_exact(eng_high) - _exact(eng_low)) / (_exact(raw_high) - _exact(raw_low))
    return _scale(factor, _exact(eng_low) - _exact(raw_low) * factor)


def curve(pairs: Sequence[tuple[float, float]]) -> Curve:
    """A table of raw and engineering values. Raises ValueError unless it has two points at least, and rises or falls
    throughout."""
    ordered = sorted(pairs)
    raws, values = tuple(raw for raw, _ in ordered), tuple(value for _, value in ordered)
    if len(ordered) < 2:
        raise ValueError("a table needs two points at least, as in 0=0;4000=100")
    if len(set(raws)) < len(raws):
        raise ValueError("two points of the table have the same raw value")
    steps = {(after > before) - (after < before) for before, after in pairwise(values)}
    if steps not in ({1}, {-1}):
        raise ValueError("the table must rise or fall throughout, or there is no way back from a value")
    made = Curve(raws, values)
    if not all(isfinite(number) for number in (*raws, *values, made.factor, made.offset)):
        raise ValueError(_TOO_MUCH)
    return made


def _scale(factor: Fraction, offset: Fraction) -> Scale | None:
    if factor == 0:
        raise ValueError("a factor of 0 makes every value the same")
    if factor == 1 and offset == 0:
        return None
    try:
        has_room = float(factor) != 0 and isfinite(float(offset))
    except OverflowError:
        has_room = False
    if not has_room:
        raise ValueError(_TOO_MUCH)
    common = factor.denominator * offset.denominator
    up, shift = factor.numerator * offset.denominator, offset.numerator * factor.denominator
    if max(abs(up), abs(shift), common) < _EXACT_LIMIT:
        return Scale(up, shift, common, float(factor), float(offset))
    return Scale(float(factor), float(offset), 1.0, float(factor), float(offset))
