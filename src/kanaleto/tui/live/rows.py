"""The rows of Live: a device, then its points: value, bar in its range, the last minute, words, age."""

from collections.abc import Hashable
from math import floor, log10

from msgspec import Struct

from kanaleto.planning.plan import AnyPlace, Identity, Place
from kanaleto.polling.board import Quality, Reading
from kanaleto.polling.snapshot import Snapshot
from kanaleto.site.model import Device, Limits, Line, Point
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import SHAPES, TONES
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import age_text, device_phrase, device_state
from kanaleto.values.codec import NoValue
from kanaleto.values.text import shown
from kanaleto.values.types import Kind

_SPARK = "▁▂▃▄▅▆▇█"
SPAN_S = 60.0
QUALITY_SHAPES = {Quality.STALE: "◐", Quality.BAD: "✕", Quality.NEVER: "◌"}
DEAD_TONES = {Quality.STALE: "muted", Quality.BAD: "terracotta", Quality.NEVER: "dim"}


class DeviceRow(Struct, frozen=True):
    line: Line
    device: Device


class DerivedRow(Struct, frozen=True):
    """The heading of the derived points."""


class PointRow(Struct, frozen=True):
    place: AnyPlace


LiveRow = DeviceRow | DerivedRow | PointRow | None


class Columns(Struct, frozen=True):
    """Widths that fit the screen; 0 leaves a column out."""

    name: int
    value: int
    unit: int
    bar: int
    spark: int
    words: int

    @classmethod
    def fit(cls, width: int, longest: int) -> "Columns":
        spark = 16 if width >= 120 else 0
        words = 20 if width >= 96 else 0
        value, unit = 16, 6
        name = max(min(longest + 1, width // 4), 14)
        bar = width - 3 - name - value - unit - 9 - (spark + 2 if spark else 0) - (words + 2 if words else 0)
        return cls(name, value, unit, max(min(bar, 70), 0) if bar >= 16 else 0, spark, words)


class LiveRows(Rows[LiveRow]):
    """See the head of this file."""

    def __init__(self) -> None:
        super().__init__()
        self.pinned: list[Identity] = []
        self.longest = 14  # cells of the longest name
        self._second = 0  # ages and the last minute are drawn when it changes, or the value does

    def show(self, snapshot: Snapshot) -> None:
        self._second = int(snapshot.now_s)
        self.redraw()

    def made_of(self, row: LiveRow) -> Hashable:
        if not isinstance(row, PointRow):
            return None
        place, snapshot = row.place, self.snapshot
        is_pinned = place.identity in self.pinned
        return snapshot.version, self._second, self.longest, is_pinned, snapshot.state_of(place)

    def may_rest(self, row: LiveRow) -> bool:
        return isinstance(row, PointRow)

    def identity(self, row: LiveRow) -> Hashable:
        return row.place.identity if isinstance(row, PointRow) else None

    def draw(self, row: LiveRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground)
        if isinstance(row, DeviceRow):
            self._device(cells, row, width)
        elif isinstance(row, DerivedRow):
            columns = Columns.fit(width, self.longest)
            cells.put("   ").put("Derived", width=columns.name + 7, bold=True).put("  ").put(
                "formulas over points of this site", "muted"
            )
        elif isinstance(row, PointRow):
            self._point(cells, row.place, Columns.fit(width, self.longest))
        return cells

    def _device(self, cells: Cells, row: DeviceRow, width: int) -> None:
        columns = Columns.fit(width, self.longest)
        found = self.snapshot.status_of(row.device.name)
        if found is None:
            return
        line, status = found
        state = device_state(line, status)
        cells.put(f" {SHAPES[state]} ", TONES[state]).put(row.device.name, width=columns.name + 7, bold=True).put("  ")
        told = device_phrase(line, status)
        tone = "muted" if state in ("good", "idle") else TONES[state]
        cells.put(f"{row.line.name} · unit {row.device.unit_id}", "muted").put(f" · {told}" if told else "", tone)

    def _point(self, cells: Cells, place: AnyPlace, columns: Columns) -> None:
        point = place.point
        reading = self.snapshot.reading(place)
        is_pinned = place.identity in self.pinned
        tone = _value_tone(point, reading)
        shape = _shape(point, reading)
        cells.put(shape or " ", tone if shape != "◐" else "ochre")
        cells.put("▸ " if is_pinned else "  ", "ochre").put(point.name, width=columns.name)
        whole, fraction = _split(point, reading)
        is_good = reading.quality is Quality.GOOD
        more = _overflow(reading, whole + fraction, columns.value)
        if len(whole) > columns.value - 6 or len(fraction) > 6:
            is_text = not isinstance(reading.value, int | float)
            cells.put(whole + fraction, tone, columns.value + more, right=not is_text, bold=is_good)
        else:
            cells.put(whole, tone, columns.value - 6, right=True, bold=is_good).put(fraction, tone, 6, bold=is_good)
        cells.put(" ").put(point.unit, "muted", columns.unit)
        if columns.bar:  # which gives way to digits
            self._bar(cells, place, reading, max(columns.bar - more, 0))
        if columns.spark:
            width = max(columns.spark - (0 if columns.bar else more), 0)
            cells.put("  ").put(
                spark_of(self.snapshot, place, columns.spark)[-width:] if width else "",
                "verdigris" if reading.quality is Quality.GOOD else "dim",
            )
        if columns.words:
            cells.put("  ").put(
                words_text(place, reading), "sky" if reading.quality is Quality.GOOD else "dim", columns.words
            )
        late = reading.quality is Quality.STALE
        cells.put(age_text(reading.age_s), "ochre" if late else "muted", 7, right=True)

    def _bar(self, cells: Cells, place: AnyPlace, reading: Reading, width: int) -> None:
        """A bar between the ends of the range with its limits marked; in words where there is no range or no value."""
        point = place.point
        end = cells.width + width
        cells.put(" ")
        low, high = point.limits.range_low, point.limits.range_high
        value = reading.value
        if reading.quality in (Quality.BAD, Quality.NEVER) and reading.reason:
            cells.put(reading.reason, DEAD_TONES[reading.quality], width - 1)
        elif isinstance(value, int) and value in point.labels and point.codec.type.kind not in (Kind.BOOL, Kind.BITS):
            cells.put(f"{value} = {point.labels[value]}", "sky", width - 1)
        elif point.codec.type.kind is Kind.BITS and point.codec.bits is None and isinstance(value, int):
            cells.put(_bits_words(place, value), "sky" if reading.quality is Quality.GOOD else "dim", width - 1)
        elif low is not None and high is not None and high > low and isinstance(value, int | float) and width > 17:
            cells.put(_short(low), "dim", 6, right=True).put(" ")
            _scale(cells, point.limits, float(value), reading.quality is Quality.GOOD, width - 15)
            cells.put(" ").put(_short(high), "dim", 6)
        cells.at(end)


def spark_of(snapshot: Snapshot, place: AnyPlace, width: int) -> str:
    """The last minute of a number in `width` cells, oldest left; blank where nothing was read."""
    slots: list[float | None] = [None] * width
    for at_s, value in numbers_of(snapshot, place):
        at = int((at_s - snapshot.now_s + SPAN_S) / SPAN_S * width)
        if 0 <= at < width:
            slots[at] = value
    lasts_s = snapshot.board.stale_after_s(place) if isinstance(place, Place) else SPAN_S
    return spark_text(slots, place.point, max(int(min(lasts_s, SPAN_S) / SPAN_S * width), 1))


def numbers_of(snapshot: Snapshot, place: AnyPlace) -> list[tuple[float, float]]:
    """Times (loop time) and values of what was read lately of a point that is a number."""
    if not isinstance(place, Place):
        return []
    read = snapshot.board.trace(place)
    return [(at_s, float(value)) for at_s, value in read if isinstance(value, int | float)]


def spark_text(slots: list[float | None], point: Point, lasts: int = 1) -> str:
    """Blocks from the lowest to the highest of what is there; what was read stands for `lasts` slots more, then nothing
    does."""
    known = [value for value in slots if value is not None]
    if not known:
        return " " * len(slots)
    low, high = min(known), max(known)
    if point.codec.type.kind is Kind.BOOL:
        low, high = 0.0, 1.0
    step = 10.0 ** -(point.decimals if point.decimals is not None else 6)
    if high - low < 4 * step and point.decimals is not None:  # noise of the last digit is no movement
        middle = (low + high) / 2
        low, high = middle - 2 * step, middle + 2 * step
    text, last, since = "", None, 0
    for value in slots:
        last, since = (value, 0) if value is not None else (last, since + 1)
        if last is None or since > lasts:
            text += " "
        else:
            text += _SPARK[3 if high == low else min(7, int((last - low) / (high - low) * 8))]
    return text


def _bits_words(place: AnyPlace, word: int) -> str:
    """The names of the bits that are on, from the points that share the word; else the bits in groups of four."""
    point = place.point
    if point.labels or not isinstance(place, Place):
        return shown(word, point.codec, None, point.labels)
    named = [
        other
        for other in place.device.points
        if other.address == point.address and other.table is point.table and other.codec.bits
    ]
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


def _shape(point: Point, reading: Reading) -> str:
    """A shape for what is not well, beside its colour: stale, bad, never read, or beyond a limit."""
    if reading.quality is not Quality.GOOD:
        return QUALITY_SHAPES[reading.quality]
    return {"terracotta": "‼", "ochre": "!"}.get(limit_tone(point.limits, reading.value), "")


def _value_tone(point: Point, reading: Reading) -> str:
    if reading.quality is not Quality.GOOD:
        return DEAD_TONES[reading.quality]
    return limit_tone(point.limits, reading.value) or "ink"


def limit_tone(limits: Limits, value: object) -> str:
    """terracotta beyond an alarm limit, ochre beyond a warning, else nothing."""
    if not isinstance(value, int | float):
        return ""
    for low, high, tone in (
        (limits.alarm_low, limits.alarm_high, "terracotta"),
        (limits.warn_low, limits.warn_high, "ochre"),
    ):
        if (low is not None and value <= low) or (high is not None and value >= high):
            return tone
    return ""


def _split(point: Point, reading: Reading) -> tuple[str, str]:
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


def _overflow(reading: Reading, text: str, width: int) -> int:
    """Cells that a number needs beyond its column: its digits are never cut."""
    return max(len(text) - width, 0) if isinstance(reading.value, int | float) else 0


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


def _short(number: float) -> str:
    if number == floor(number) and abs(number) < 1e6:
        return str(int(number))
    digits = max(0, 3 - floor(log10(abs(number)))) if number else 0
    return f"{number:.{min(digits, 3)}f}".rstrip("0").rstrip(".")[:6]


def _scale(cells: Cells, limits: Limits, value: float, is_fresh: bool, width: int) -> None:
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
    tone = (limit_tone(limits, value) or "verdigris") if is_fresh else "dim"
    for column in range(width):
        if column in marks:
            cells.put("┃", marks[column])
        elif column <= filled and value > low:
            cells.put("━", tone)
        else:
            # the cursor's ground has the colour of the rules
            cells.put("─", "rules" if cells.ground != "rules" else "dim")
