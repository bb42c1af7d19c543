"""The rows of Live: a device, then its points: value, bar in its range, the last minute, words, age. In any other order
than the site's each row says whose it is. What there is no room for is left out, the number never."""

from collections.abc import Hashable

from msgspec import Struct

from kanaleto.board.board import Quality, Reading
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, Identity, Place
from kanaleto.site.leading import led_words
from kanaleto.site.model import Device, Line
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import SHAPES, TONES
from kanaleto.tui.shared.readings import (
    DEAD_TONES,
    bits_words,
    is_guess,
    overflow,
    put_scale,
    shape_of,
    short_number,
    spark_of,
    split_value,
    value_tone,
    words_text,
)
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import age_text, device_phrase, device_state
from kanaleto.values.types import Kind

_MOST_SPARKS = 500
_TURNS = 4  # looks a second


class DeviceRow(Struct, frozen=True):
    """`hidden` counts the points that are folded away; the cursor rests on it only where there are some."""

    line: Line
    device: Device
    hidden: int = 0


class DerivedRow(Struct, frozen=True):
    """The heading of the derived points."""

    hidden: int = 0


class PointRow(Struct, frozen=True, gc=False):
    place: AnyPlace


LiveRow = DeviceRow | DerivedRow | PointRow | None


class LiveColumns(Struct, frozen=True):
    """Widths that fit the screen; 0 leaves a column out."""

    name: int
    value: int
    unit: int
    bar: int
    spark: int
    words: int

    @classmethod
    def fit(cls, width: int, longest: int, is_flat: bool = False) -> "LiveColumns":
        spark = 16 if width >= 120 else 0
        words = 20 if width >= 96 else 0
        value, unit = 16, 6
        name = max(min(longest + (22 if is_flat else 1), width // (3 if is_flat else 4)), 14)
        bar = width - 3 - name - value - unit - 9 - (spark + 2 if spark else 0) - (words + 2 if words else 0)
        return cls(name, value, unit, max(min(bar, 70), 0) if bar >= 16 else 0, spark, words)


class LiveRows(Rows[LiveRow]):
    """See the head of this file."""

    are_kept = True

    def __init__(self) -> None:
        super().__init__()
        self.pinned: list[Identity] = []
        self.marked: set[Identity] = set()
        self.is_flat = False  # in another order than the site's
        self.longest = 14  # cells of the longest name
        self._sparks: dict[Identity, tuple[tuple[int, int, int], str]] = {}
        self._looked_s = 0.0

    def show(self, snapshot: Snapshot) -> None:
        self._looked_s = snapshot.now_s
        self.redraw()

    def begin_drawing(self) -> None:
        super().begin_drawing()
        self._drawn = self.snapshot  # once for all rows

    def _second_of(self, place: AnyPlace) -> int:
        """When it changes, or the value does, a row is drawn: its age and its last minute. The blocks take turns, so
        that a look draws few rows and a key waits for little; what came by one request has one age."""
        turn = place.block.index % _TURNS if isinstance(place, Place) and place.block is not None else 0
        return int(self._looked_s + turn / _TURNS)

    def redraw_key(self, row: LiveRow) -> Hashable:
        if not isinstance(row, PointRow):
            return None
        place, snapshot = row.place, self._drawn
        is_pinned = place.identity in self.pinned
        look = (is_pinned, place.identity in self.marked, self.is_flat)
        return snapshot.version, self._second_of(place), self.longest, look, snapshot.state_of(place)

    def may_rest(self, row: LiveRow) -> bool:
        return isinstance(row, PointRow) or (isinstance(row, DeviceRow | DerivedRow) and row.hidden > 0)

    def identity(self, row: LiveRow) -> Hashable:
        if isinstance(row, PointRow):
            return row.place.identity
        return row.device.name if isinstance(row, DeviceRow) else "" if isinstance(row, DerivedRow) else None

    def draw(self, row: LiveRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground)
        if isinstance(row, DeviceRow):
            self._device(cells, row, width)
        elif isinstance(row, DerivedRow):
            columns = LiveColumns.fit(width, self.longest)
            cells.put("   ").put("Derived", width=columns.name + 7, bold=True).put("  ").put(
                _folded(row.hidden) or "formulas over points of this site", "muted"
            )
        elif isinstance(row, PointRow):
            self._point(cells, row.place, LiveColumns.fit(width, self.longest, self.is_flat))
        return cells

    def _device(self, cells: Cells, row: DeviceRow, width: int) -> None:
        columns = LiveColumns.fit(width, self.longest)
        found = self._drawn.status_of(row.device.name)
        if found is None:
            return
        line, status = found
        state = device_state(line, status)
        cells.put(f" {SHAPES[state]} ", TONES[state]).put(row.device.name, width=columns.name + 7, bold=True).put("  ")
        text = device_phrase(line, status)
        tone = "muted" if state in ("good", "idle") else TONES[state]
        if row.hidden:
            cells.put(f"{_folded(row.hidden)} · ", "ochre")
        if row.line.led_from is not None:
            cells.put(f"◇ {led_words(row.line)} · ", "ochre")
        cells.put(f"{row.line.name} · unit {row.device.unit_id}", "muted").put(f" · {text}" if text else "", tone)

    def _point(self, cells: Cells, place: AnyPlace, columns: LiveColumns) -> None:
        point = place.point
        reading = self._drawn.reading(place)
        is_pinned = place.identity in self.pinned
        tone = value_tone(point, reading)
        shape = shape_of(point, reading)
        cells.put(shape or " ", tone if shape != "◐" else "ochre")
        mark = "◆ " if place.identity in self.marked else "▸ " if is_pinned else "  "
        cells.put(mark, "ochre").put(self._name_in(place, columns.name), width=columns.name)
        whole, fraction = split_value(point, reading)
        is_good = reading.quality is Quality.GOOD and not is_guess(point)
        more = overflow(reading, whole + fraction, columns.value)
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
                self._spark(place, columns.spark)[-width:] if width else "",
                "verdigris" if reading.quality is Quality.GOOD else "dim",
            )
        if columns.words:
            cells.put("  ").put(
                words_text(place, reading), "sky" if reading.quality is Quality.GOOD else "dim", columns.words
            )
        late = reading.quality is Quality.STALE
        cells.put(age_text(reading.age_s), "ochre" if late else "muted", 7, right=True)

    def _spark(self, place: AnyPlace, width: int) -> str:
        """The last minute, made once a second."""
        key, of = place.identity, (self._second_of(place), self._drawn.version, width)
        made = self._sparks.get(key)
        if made is None or made[0] != of:
            if len(self._sparks) > _MOST_SPARKS:
                self._sparks.clear()
            made = self._sparks[key] = of, spark_of(self._drawn, place, width)
        return made[1]

    def _name_in(self, place: AnyPlace, width: int) -> str:
        device, name = place.identity
        if not self.is_flat or not device:
            return name
        return f"{name} · {device}"

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
            cells.put(
                bits_words(self._drawn.plan, place, value),
                "sky" if reading.quality is Quality.GOOD else "dim",
                width - 1,
            )
        elif low is not None and high is not None and high > low and isinstance(value, int | float) and width > 17:
            cells.put(short_number(low), "dim", 6, right=True).put(" ")
            put_scale(cells, point, float(value), reading.quality is Quality.GOOD, width - 15)
            cells.put(" ").put(short_number(high), "dim", 6)
        cells.at(end)


def _folded(hidden: int) -> str:
    return f"{hidden} point{'s' if hidden != 1 else ''} folded" if hidden else ""
