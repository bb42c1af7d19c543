"""Where an axis has its marks, and what stands there."""

from collections.abc import Iterator
from datetime import datetime
from math import ceil, floor, isfinite, log10

_STEPS_S = (
    0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800, 604800,
    1209600, 2592000,
)  # fmt: skip
_DAY_S = 86400.0
_LARGEST, _MOST_MARKS = 1e300, 50


def nice_step(span: float, count: int) -> float:
    """1, 2 or 5 times a power of ten, so that about `count` of them make `span`."""
    if not isfinite(span) or span <= 0:
        return 1.0
    rough = span / max(count, 1)
    power: float = 10.0 ** floor(log10(rough))
    return next((factor * power for factor in (1, 2, 5, 10) if factor * power >= rough * 0.999), 10 * power)


def nice_bounds(low: float, high: float, count: int) -> tuple[float, float, float]:
    """Ends that are whole steps, with what lies between `low` and `high` inside; and the step."""
    low, high = max(low, -_LARGEST), min(high, _LARGEST)
    if high - low <= abs(high) * 1e-9:
        pad = abs(high) * 0.05 or 1.0
        low, high = low - pad, high + pad
    step = nice_step(high - low, count)
    return floor(low / step + 1e-9) * step, ceil(high / step - 1e-9) * step, step


def value_marks(bottom: float, top: float, step: float) -> Iterator[tuple[float, str]]:
    decimals = max(0, -floor(log10(step) + 1e-9)) if step < 1 else 0
    for number in range(min(round((top - bottom) / step), _MOST_MARKS) + 1):
        value = bottom + number * step
        text = f"{value:.{min(decimals, 9)}f}" if abs(value) < 1e7 and step >= 1e-9 else f"{value:.4g}"
        yield value, "0" if text.strip("-0.") == "" and not decimals else text


def time_step(span_s: float, count: int) -> float:
    rough = span_s / max(count, 1)
    return next((step for step in _STEPS_S if step >= rough), _STEPS_S[-1])


def time_marks(begin: float, end: float, count: int) -> list[tuple[float, str]]:
    """Marks at whole local times."""
    step = time_step(end - begin, count)
    try:
        offset = datetime.fromtimestamp(begin).astimezone().utcoffset()
    except (OverflowError, OSError, ValueError):
        return []
    shift = offset.total_seconds() if offset is not None else 0.0
    first = ceil((begin + shift) / step) * step - shift
    marks = []
    for number in range(int((end - first) / step) + 1):
        at = first + number * step
        marks.append((at, clock(at, step)))
    return marks


def clock(at: float, step_s: float) -> str:
    """A moment as finely as marks `step_s` apart need it, in local time."""
    try:
        when = datetime.fromtimestamp(at)
    except (OverflowError, OSError, ValueError):
        return "?"
    if step_s < 1:
        return when.strftime("%H:%M:%S.%f")[:-5]
    if step_s < 60:
        return when.strftime("%H:%M:%S")
    if step_s < _DAY_S:
        return when.strftime("%H:%M") if when.hour or when.minute else f"{when.day} {when:%b}"
    return f"{when.day} {when:%b}"


def span_text(span_s: float) -> str:
    """How long a time is, in words."""
    for size, word in ((604800.0, "week"), (86400.0, "day"), (3600.0, "hour"), (60.0, "minute")):
        if span_s >= size:
            count = span_s / size
            number = f"{count:.0f}" if abs(count - round(count)) < 0.05 else f"{count:.1f}"
            return f"{number} {word}{'s' if number != '1' else ''}"
    return f"{span_s:.0f} seconds"
