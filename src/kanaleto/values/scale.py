"""Linear scaling in exact fractions: value = raw × factor + offset, rounded once at the end.

0.1 is kept as 1/10, so raw 3 becomes 0.3 and not 0.30000000000000004; the way back is exact in the same sense.
"""

from dataclasses import dataclass
from fractions import Fraction

_EXACT_LIMIT = 2**53


@dataclass(frozen=True, slots=True)
class Scale:
    """value = (raw × `up` + `shift`) / `down`, in whole numbers where they stay below 2^53, else in floats."""

    up: float
    shift: float
    down: float
    factor: float
    offset: float

    def to_value(self, raw: float) -> float:
        return (raw * self.up + self.shift) / self.down

    def to_raw(self, value: float) -> Fraction:
        """The exact raw number, maybe between two that the registers can hold."""
        return (_exact(value) * Fraction(self.down) - Fraction(self.shift)) / Fraction(self.up)


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


def _scale(factor: Fraction, offset: Fraction) -> Scale | None:
    if factor == 0:
        raise ValueError("a factor of 0 makes every value the same")
    if factor == 1 and offset == 0:
        return None
    common = factor.denominator * offset.denominator
    up, shift = factor.numerator * offset.denominator, offset.numerator * factor.denominator
    if max(abs(up), abs(shift), common) < _EXACT_LIMIT:
        return Scale(up, shift, common, float(factor), float(offset))
    return Scale(float(factor), float(offset), 1.0, float(factor), float(offset))
