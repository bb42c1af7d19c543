"""A scale from what is known of it: pairs of raw and displayed values, or a raw word and an engineering range."""

from collections.abc import Sequence
from fractions import Fraction
from math import floor, isfinite, log10

from msgspec import Struct

FULL_SCALES = (
    100,
    200,
    255,
    1000,
    1023,
    2000,
    4000,
    4095,
    8000,
    10000,
    12000,
    16000,
    16383,
    20000,
    27648,
    32000,
    32767,
    40000,
    65535,
)
"""Raw full scales that are usual."""
_NEAR = 0.02


class Fitted(Struct, frozen=True):
    """value = raw × `factor` + `offset`; `error` is the most that remains, in engineering units; `text` says what was
    found."""

    factor: float
    offset: float
    error: float
    text: str


def fit(pairs: Sequence[tuple[float, float]]) -> Fitted:
    """Factor and offset through pairs of (raw, displayed value): one pair gives a factor alone, more the best line,
    rounded to the simplest numbers that are as good. Raises ValueError."""
    if not pairs or not all(isfinite(raw) and isfinite(value) for raw, value in pairs):
        raise ValueError("a scale needs at least one pair of a raw number and what the display shows")
    if len({raw for raw, _ in pairs}) == 1:
        raw, value = pairs[0]
        if raw == 0:
            raise ValueError("a raw 0 tells nothing of the factor: take another sample, when the value has moved")
        factor, offset = value / raw, 0.0
    else:
        factor, offset = _line(pairs)
    if factor == 0:
        raise ValueError("the display does not follow the raw number: every value is the same")
    factor, offset = _simplest(pairs, factor, offset)
    error = max(abs(raw * factor + offset - value) for raw, value in pairs)
    plus = f" {'+' if offset >= 0 else '−'} {abs(offset):g}" if offset else ""
    text = f"off by {error:.3g} at most" if error else "exact"
    return Fitted(factor, offset, error, f"raw × {factor:g}{plus}; {text}")


def _line(pairs: Sequence[tuple[float, float]]) -> tuple[float, float]:
    """Least squares, exact."""
    count = len(pairs)
    exact = [(Fraction(repr(float(raw))), Fraction(repr(float(value)))) for raw, value in pairs]
    sum_raw, sum_value = sum(raw for raw, _ in exact), sum(value for _, value in exact)
    below = count * sum(raw * raw for raw, _ in exact) - sum_raw * sum_raw
    factor = (count * sum(raw * value for raw, value in exact) - sum_raw * sum_value) / below
    return float(factor), float((sum_value - factor * sum_raw) / count)


def _simplest(pairs: Sequence[tuple[float, float]], factor: float, offset: float) -> tuple[float, float]:
    """The roundest factor and offset whose values show the same as the best ones do."""
    best = max(abs(raw * factor + offset - value) for raw, value in pairs)
    span = max(abs(value) for _, value in pairs) or 1.0
    allowed = max(best * 1.5, span * 2e-3 if len(pairs) == 1 else span * 1e-4)
    for digits in range(1, 7):
        round_factor = float(f"{factor:.{digits}g}")
        rest = sum(value - raw * round_factor for raw, value in pairs) / len(pairs) if offset else 0.0
        places = digits - 1 - floor(log10(abs(rest))) if rest else 0
        for round_offset in (0.0, round(rest), round(rest, places)):
            if max(abs(raw * round_factor + round_offset - value) for raw, value in pairs) <= allowed:
                return round_factor, float(round_offset)
    return factor, offset


def full_scale(raw: float, value: float, eng_low: float, eng_high: float) -> list[tuple[int, float]]:
    """Raw full scales for which `raw` would mean `value` in that range, the nearest first, each with how far off that
    is."""
    if eng_high == eng_low:
        raise ValueError("an engineering range needs two different ends")
    found = [(scale, abs(eng_low + raw / scale * (eng_high - eng_low) - value)) for scale in FULL_SCALES]
    near = [(scale, off) for scale, off in found if off <= _NEAR * abs(eng_high - eng_low)]
    return sorted(near, key=lambda entry: entry[1])
