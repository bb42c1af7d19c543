"""How readings look, wherever they are shown: values, words, the last minute, shapes and tones of what is not well."""

from math import floor, log10

from kanaleto.board.board import Quality, Reading
from kanaleto.board.crossing import is_word_of_bits, level_of
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, Place, Plan
from kanaleto.site.model import Point
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.past import LEVEL_SHAPES, LEVEL_TONES
from kanaleto.values.codec import NoValue
from kanaleto.values.text import shown
from kanaleto.values.types import Kind

_SPARK = "▁▂▃▄▅▆▇█"
SPAN_S = 60.0
QUALITY_SHAPES = {Quality.STALE: "◐", Quality.BAD: "✕", Quality.NEVER: "◌"}
DEAD_TONES = {Quality.STALE: "muted", Quality.BAD: "terracotta", Quality.NEVER: "dim"}


def tall_spark(snapshot: Snapshot, place: AnyPlace, width: int, height: int) -> list[str]:
    """The same in so many rows, the highest first."""
    slots = _slots(snapshot, place, width)
    levels = _levels(slots, place.point, _lasts(snapshot, place, width), 8 * height)
    rows = []
    for row in reversed(range(height)):
        rest = [None if level is None else level + 1 - 8 * row for level in levels]
        rows.append("".join(" " if left is None or left <= 0 else _SPARK[min(left, 8) - 1] for left in rest))
    return rows


def spark_of(snapshot: Snapshot, place: AnyPlace, width: int) -> str:
    """The last minute of a number in `width` cells, oldest left; blank where nothing was read."""
    return spark_text(_slots(snapshot, place, width), place.point, _lasts(snapshot, place, width))


def _slots(snapshot: Snapshot, place: AnyPlace, width: int) -> list[float | None]:
    slots: list[float | None] = [None] * width
    for at_s, value in numbers_of(snapshot, place):
        at = int((at_s - snapshot.now_s + SPAN_S) / SPAN_S * width)
        if 0 <= at < width:
            slots[at] = value
    return slots


def _lasts(snapshot: Snapshot, place: AnyPlace, width: int) -> int:
    """For how many slots what was read stands."""
    lasts_s = snapshot.board.stale_after_s(place) if isinstance(place, Place) else SPAN_S
    return max(int(min(lasts_s, SPAN_S) / SPAN_S * width), 1)


def numbers_of(snapshot: Snapshot, place: AnyPlace) -> list[tuple[float, float]]:
    """Times (loop time) and values of what was read lately of a point that is a number."""
    read = snapshot.board.trace(place)
    return [(at_s, float(value)) for at_s, value in read if isinstance(value, int | float)]


def spark_text(slots: list[float | None], point: Point, lasts: int = 1) -> str:
    """Blocks from the lowest to the highest of what is there; what was read stands for `lasts` slots more, then nothing
    does."""
    levels = _levels(slots, point, lasts, 8)
    return "".join(" " if level is None else _SPARK[level] for level in levels)


def _levels(slots: list[float | None], point: Point, lasts: int, steps: int) -> list[int | None]:
    """0 for the lowest of what is there up to `steps` - 1 for the highest; None where nothing stands."""
    known = [value for value in slots if value is not None]
    if not known:
        return [None] * len(slots)
    low, high = min(known), max(known)
    if point.codec.type.kind is Kind.BOOL:
        low, high = 0.0, 1.0
    step = 10.0 ** -(point.decimals if point.decimals is not None else 6)
    if high - low < 4 * step and point.decimals is not None:  # noise of the last digit is no movement
        middle = (low + high) / 2
        low, high = middle - 2 * step, middle + 2 * step
    levels: list[int | None] = []
    last, since = None, 0
    for value in slots:
        last, since = (value, 0) if value is not None else (last, since + 1)
        if last is None or since > lasts:
            levels.append(None)
        else:
            middle = steps // 2 - 1
            levels.append(middle if high == low else min(steps - 1, int((last - low) / (high - low) * steps)))
    return levels


def bits_words(plan: Plan, place: AnyPlace, word: int) -> str:
    """The names of the bits that are on, from the points that share the word; else the bits in groups of four."""
    point = place.point
    if point.labels or not isinstance(place, Place):
        return shown(word, point.codec, None, point.labels)
    part = plan.part_of(place.device.name)
    named = part.device.bits_of.get((point.table, point.address)) if part is not None else None
    if not named:
        bits = f"{word:016b}"
        return " ".join(bits[at : at + 4] for at in range(0, 16, 4))
    lit = [other.name for other in named if other.codec.bits and word >> other.codec.bits[0] & 1]
    return " · ".join(lit) if lit else "no bit is on"


def words_text(place: AnyPlace, reading: Reading) -> str:
    """Words as they came, in hexadecimal; the bit for a coil or a discrete input."""
    if place.point.table.is_bits:
        return str(reading.data[0]) if reading.data else ""
    return reading.data.hex(" ", 2).upper()


_SURE = 0.7
GUESS = "?"


def is_guess(point: Point) -> bool:
    """Whether a search drafted it, and is not sure of how it is read."""
    return point.sure is not None and point.sure < _SURE


def shape_of(point: Point, reading: Reading) -> str:
    """A shape for what is not well, beside its colour: stale, bad, never read, beyond a limit, or only guessed."""
    if reading.quality is not Quality.GOOD:
        return QUALITY_SHAPES[reading.quality]
    level = level_of(point.limits, reading.value, point)
    return LEVEL_SHAPES[level] if level is not None else GUESS if is_guess(point) else ""


def value_tone(point: Point, reading: Reading) -> str:
    if reading.quality is not Quality.GOOD:
        return DEAD_TONES[reading.quality]
    return limit_tone(point, reading.value) or ("muted" if is_guess(point) else "ink")


def limit_tone(point: Point, value: object) -> str:
    """terracotta beyond an alarm limit, ochre beyond a warning, sky outside the range, else nothing."""
    level = level_of(point.limits, value, point)
    return LEVEL_TONES[level] if level is not None else ""


def split_value(point: Point, reading: Reading) -> tuple[str, str]:
    """The value before and from its decimal point on, so that numbers align on it."""
    if reading.value is None:
        return ("◌", "") if reading.quality is Quality.NEVER else ("—", "")
    if isinstance(reading.value, NoValue):
        return "—", ""
    text = shown(reading.value, point.codec, point.decimals, point.labels)
    if point.codec.type.kind is Kind.BITS and point.codec.bits is None and isinstance(reading.value, int):
        return f"{reading.value:04X}", ""
    if (
        isinstance(reading.value, str | tuple)
        or reading.value in point.labels
        or point.codec.type.kind in (Kind.BITS, Kind.HEX)
    ):
        return _lean_right(text)
    whole, dot, fraction = text.partition(".")
    return whole, dot + fraction


def overflow(reading: Reading, text: str, width: int) -> int:
    """Cells that a number needs beyond its column: its digits are never cut."""
    return max(len(text) - width, 0) if isinstance(reading.value, int | float) else 0


def brief_text(point: Point, reading: Reading) -> str:
    """The same, words of bits without names as they are in Live."""
    if is_word_of_bits(point) and not point.labels and isinstance(reading.value, int):
        return f"{reading.value:04X}"
    return value_text(point, reading)


def value_text(point: Point, reading: Reading) -> str:
    """Value and unit in one, or why there is none."""
    if reading.value is None:
        return reading.reason or "—"
    if isinstance(reading.value, NoValue):
        return reading.value.reason
    return f"{shown(reading.value, point.codec, point.decimals, point.labels)} {point.unit}".strip()


def _lean_right(text: str) -> tuple[str, str]:
    """Text that is no number keeps to the column of whole digits, and runs over to the right when it is longer."""
    return (text[:10], text[10:]) if len(text) > 10 else (text, "")


def short_number(number: float) -> str:
    if number == floor(number) and abs(number) < 1e6:
        return str(int(number))
    digits = max(0, 3 - floor(log10(abs(number)))) if number else 0
    return f"{number:.{min(digits, 3)}f}".rstrip("0").rstrip(".")[:6]


def put_scale(cells: Cells, point: Point, value: float, is_fresh: bool, width: int) -> None:
    """A bar from one end of the range to the other, the limits marked."""
    limits = point.limits
    low, high = limits.range_low or 0.0, limits.range_high or 0.0

    def cell_of(number: float) -> int:
        return max(0, min(width - 1, round((number - low) / (high - low) * (width - 1))))

    marks: dict[int, str] = {}
    for number, tone in (
        (limits.warn_low, "ochre"), (limits.warn_high, "ochre"), (limits.alarm_low, "terracotta"),
        (limits.alarm_high, "terracotta"),
    ):  # fmt: skip
        if number is not None:
            marks[cell_of(number)] = tone
    filled = cell_of(value)
    tone = (limit_tone(point, value) or "verdigris") if is_fresh else "dim"
    rest = "rules" if cells.ground != "rules" else "dim"  # the cursor's ground has the colour of the rules
    reach = filled + 1 if value > low else 0
    begin = 0
    for column in [*sorted(marks), width]:
        full = min(max(reach, begin), column)
        cells.put("━" * (full - begin), tone).put("─" * (column - full), rest)
        if column < width:
            cells.put("┃", marks[column])
        begin = column + 1
