"""The lanes: one row a line, its water over the last minute, how busy it is, and one phrase on its health."""

from functools import cached_property
from itertools import groupby
from operator import itemgetter

from textual.geometry import Size
from textual.scroll_view import ScrollView
from textual.strip import Strip

from kanaleto.board.health import SLICE_S, Worst
from kanaleto.board.snapshot import LineStatus, Snapshot
from kanaleto.tui.frame.minutes import LaneMinutes
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import WORST_TONES
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.words import line_phrase

_WATER = " ▁▂▃▄▅▆▇█"
_MOST = 5
_MARKS = {Worst.EXCEPTION: "◐", Worst.GARBLED: "◇", Worst.SILENT: "✕"}


class Lanes(Drawn, ScrollView):
    """Up to five rows, then it scrolls."""

    DEFAULT_CSS = "Lanes { height: auto; border-top: solid $rules; scrollbar-size: 1 1; background: $background; }"

    can_focus = False

    def __init__(self) -> None:
        super().__init__()
        self._second = 0

    @cached_property
    def minutes(self) -> LaneMinutes:
        """What is shown by the minute, and whether it is."""
        return LaneMinutes(self.context)

    def look_at(self, moment: float) -> None:
        """The minutes round a moment."""
        self.minutes.look_at(moment, self._cells, self._now)
        self.refresh()

    def go_live(self) -> None:
        self.minutes.go_live()
        self.refresh()

    def step(self, step: int) -> None:
        """Earlier, or later."""
        text = self.minutes.step(step, self._cells, self._now)
        if text:
            self.context.tell(text)
        self.refresh()

    @property
    def _now(self) -> float:
        return self.context.engine.session.clock.at(self.snapshot.now_s)

    @property
    def _cells(self) -> int:
        """Of a lane's water."""
        width = self.size.width
        name_width = min(max((len(status.line.name) for status in self.snapshot.lines), default=4), 16) + 2
        phrase_width = 46 if width >= 150 else 28 if width >= 100 else 20
        return max(width - 1 - name_width - phrase_width - (25 if width >= 100 else 11), 8)

    def show(self, snapshot: Snapshot) -> None:
        before, self.shown = self.shown, snapshot
        count = len(snapshot.lines)
        if before is None or len(before.lines) != count:
            self.styles.height = min(max(count, 1), _MOST) + 1
            self.virtual_size = Size(self.size.width, count)
        if (
            before is None
            or int(before.now_s / SLICE_S) != int(snapshot.now_s / SLICE_S)
            or _says(before) != _says(snapshot)
            or (self.minutes.last is not None and int(before.now_s) != int(snapshot.now_s))
        ):
            self.redraw()

    def draw_line(self, y: int) -> Strip:
        width, lines = self.size.width, self.snapshot.lines
        index = y + self.scroll_offset.y
        if not lines and y == 0:
            return Cells(self.palette).put(" this site has no lines yet", "muted").strip(width)
        if index >= len(lines):
            return Cells(self.palette).strip(width)
        return self._lane(lines[index], width).strip(width)

    def _lane(self, line: LineStatus, width: int) -> Cells:
        name_width = min(max(len(status.line.name) for status in self.snapshot.lines), 16 if width >= 100 else 10) + 2
        phrase, tone = line_phrase(line, self.snapshot.is_held)
        phrase_width = 46 if width >= 150 else 28 if width >= 100 else 20
        tone = "ochre" if line.line.led_from is not None else "ink"
        cells = Cells(self.palette).put(" ").put(line.line.name, tone, name_width)
        water_width = max(width - cells.width - phrase_width - (25 if width >= 100 else 11), 8)
        if self.minutes.last is not None:
            return self._lane_by_minute(cells, line, water_width, width)
        _put_water(cells, line.levels, water_width)
        cells.put(f"{100 * line.busy:5.0f} %").put(" busy" if width >= 100 else "", "muted")
        if width >= 100:
            cells.put(f"{_rate(line.exchanges_per_s):>8}/s", "muted")
        return cells.put("  ").put(phrase, tone, width=phrase_width)

    def _lane_by_minute(self, cells: Cells, line: LineStatus, water_width: int, width: int) -> Cells:
        """A cell a minute; what is known of none is blank."""
        minutes = self.minutes
        levels = minutes.levels(self.snapshot, line.line.name, water_width)
        marked = (
            water_width - 1 - (minutes.last - minutes.marked)
            if minutes.marked is not None and minutes.last is not None
            else -1
        )
        for column, level in enumerate(levels):
            if column == marked:
                cells.put("│", "ink", on="panel")
            elif level is None:
                cells.put(" ", on="panel")
            else:
                _put_level(cells, level.busy, level.worst)
        return cells.put("  ").put(minutes.text(water_width), "ochre", max(width - cells.width - 2, 1))


def _says(snapshot: Snapshot) -> list[tuple[str, str]]:
    return [line_phrase(line, snapshot.is_held) for line in snapshot.lines]


def _rate(per_s: float) -> str:
    return f"{per_s:.1f}" if per_s < 100 else f"{per_s:.0f}"


def _put_water(cells: Cells, levels: tuple[tuple[float, Worst], ...], width: int) -> None:
    """The last minute in `width` cells, oldest first: mean level and worst outcome of the slices that share a cell."""
    count = len(levels)
    width = min(width, count)
    columns = []
    for column in range(width):
        part = levels[column * count // width : max((column + 1) * count // width, column * count // width + 1)]
        busy = sum(level for level, _ in part) / len(part)
        columns.append(_level(busy, max(worst for _, worst in part)))
    for (tone, on), run in groupby(columns, key=itemgetter(1, 2)):
        cells.put("".join([shape for shape, _, _ in run]), tone, on=on)


def _put_level(cells: Cells, busy: float, worst: Worst) -> None:
    shape, tone, on = _level(busy, worst)
    cells.put(shape, tone, on=on)


def _level(busy: float, worst: Worst) -> tuple[str, str, str]:
    """Its shape, its tone, and on what."""
    if worst in _MARKS and busy < 0.12:
        return _MARKS[worst], WORST_TONES[worst], ""
    height = 0 if worst is Worst.NOTHING and busy == 0 else max(1, min(8, round(busy * 8)))
    return _WATER[height], WORST_TONES[worst], "panel"
