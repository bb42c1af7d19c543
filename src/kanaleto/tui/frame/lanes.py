"""The lanes: one row a line, its water over the last minute, how busy it is, and one phrase on its health."""

from textual.geometry import Size
from textual.scroll_view import ScrollView
from textual.strip import Strip

from kanaleto.polling.health import SLICE_S, Worst
from kanaleto.polling.snapshot import LineStatus, Snapshot
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
        cells = Cells(self.palette).put(" ").put(line.line.name, width=name_width)
        water_width = width - cells.width - phrase_width - (25 if width >= 100 else 11)
        _put_water(cells, line.levels, max(water_width, 8))
        cells.put(f"{100 * line.busy:5.0f} %").put(" busy" if width >= 100 else "", "muted")
        if width >= 100:
            cells.put(f"{_rate(line.exchanges_per_s):>8}/s", "muted")
        return cells.put("  ").put(phrase, tone, width=phrase_width)


def _says(snapshot: Snapshot) -> list[tuple[str, str]]:
    return [line_phrase(line, snapshot.is_held) for line in snapshot.lines]


def _rate(per_s: float) -> str:
    return f"{per_s:.1f}" if per_s < 100 else f"{per_s:.0f}"


def _put_water(cells: Cells, levels: tuple[tuple[float, Worst], ...], width: int) -> None:
    """The last minute in `width` cells, oldest first: mean level and worst outcome of the slices that share a cell."""
    count = len(levels)
    width = min(width, count)
    for column in range(width):
        part = levels[column * count // width : max((column + 1) * count // width, column * count // width + 1)]
        busy = sum(level for level, _ in part) / len(part)
        worst = max(worst for _, worst in part)
        if worst in _MARKS and busy < 0.12:
            cells.put(_MARKS[worst], WORST_TONES[worst])
            continue
        height = 0 if worst is Worst.NOTHING and busy == 0 else max(1, min(8, round(busy * 8)))
        cells.put(_WATER[height], WORST_TONES[worst], on="panel")
