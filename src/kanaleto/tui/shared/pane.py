"""What every drawn widget has: the context, the colours, the snapshot that its view was shown last, and lines of
which only those that differ from what stands on the screen go there."""

from functools import cached_property
from typing import TYPE_CHECKING, cast

from rich.cells import cell_len
from rich.segment import Segment
from textual.geometry import Region
from textual.strip import Strip
from textual.widget import Widget

from kanaleto.board.snapshot import Snapshot
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.keyed import Keyed
from kanaleto.tui.shared.look import Palette

if TYPE_CHECKING:
    from typing import Self

    from kanaleto.tui.shared.context import Context


class Drawn(Keyed, Widget):
    """Mix-in for widgets that draw lines themselves (`draw_line`). `refresh` draws all of them again; `redraw`, what is
    done at each tick, looks which differ."""

    shown: Snapshot | None = None
    """What this widget was shown last, where it is one that is shown snapshots; others draw what theirs holds."""

    @property
    def context(self) -> "Context":
        return cast("Context", self.app)

    @property
    def palette(self) -> Palette:
        return self.context.palette

    @property
    def snapshot(self) -> Snapshot:
        """What is drawn here, and nowhere else, may look its places up in this one."""
        for node in self.ancestors_with_self:
            if isinstance(node, Drawn) and node.shown is not None:
                return node.shown
        return self.context.snapshot

    def draw_line(self, y: int) -> Strip:
        """A line of the widget, y from the top; of what holds others, as the toolkit has it."""
        return super().render_line(y)

    def begin_drawing(self) -> None:
        """Before lines are drawn: what they have in common."""

    @cached_property
    def _on_screen(self) -> dict[int, Strip]:
        return {}

    def strip_of(self, y: int, cells: Cells, width: int) -> Strip:
        """Line y from its cells: the strip of last time, where it is the same."""
        segments = cells.segments(width)
        last = self._last.get(y)
        if last is not None and last[0] == segments:
            return last[1]
        strip = Strip(segments, width)
        self._last[y] = (segments, strip)
        return strip

    @cached_property
    def _last(self) -> dict[int, tuple[list[Segment], Strip]]:
        return {}

    def redraw(self) -> None:
        """Draw what differs from what was drawn last."""
        if not self.size or not self._on_screen:
            self.refresh()
            return
        self.begin_drawing()
        regions: list[Region] = []
        for y in range(self.size.height):
            new, old = self.draw_line(y), self._on_screen.get(y)
            if new is not old and new != old:
                self._on_screen[y] = new
                regions.append(Region(0, y, _differs_up_to(old, new), 1))
        if regions:
            super().refresh(*regions)

    def refresh(self, *regions: Region, repaint: bool = True, layout: bool = False, recompose: bool = False) -> "Self":
        self._on_screen.clear()
        return super().refresh(*regions, repaint=repaint, layout=layout, recompose=recompose)

    def render_lines(self, crop: Region) -> list[Strip]:
        """The lines as they were drawn: the toolkit makes new ones of them each time, for borders and tints that only
        few of ours have, and what is cut and encoded once in a line is cut and encoded again then."""
        drawn, (width, height) = self._on_screen, self.size
        if not all(y in drawn and drawn[y].cell_length == width for y in range(crop.y, crop.bottom)):
            self.begin_drawing()
        if self.styles.gutter or crop.bottom > height:
            return super().render_lines(crop)
        lines = [self._drawn_line(y, width) for y in range(crop.y, crop.bottom)]
        for line_filter in self.get_line_filters():
            lines = [line.apply_filter(line_filter, self.background_colors[1]) for line in lines]
        if crop.x > 0 or crop.right < width:
            lines = [line.crop(crop.x, crop.right) for line in lines]
        return lines

    def render_line(self, y: int) -> Strip:
        return self._drawn_line(y, self.size.width)

    def _drawn_line(self, y: int, width: int) -> Strip:
        drawn = self._on_screen.get(y)
        if drawn is None or drawn.cell_length != width:
            drawn = self.draw_line(y)
            if drawn.cell_length != width:  # lines of the toolkit end where their text does
                drawn = drawn.adjust_cell_length(width, self.rich_style)
            self._on_screen[y] = drawn
        return drawn


def _differs_up_to(old: Strip | None, new: Strip) -> int:
    """Cells from the left up to the last that differs."""
    if old is None or old.cell_length != new.cell_length:
        return new.cell_length
    same = 0
    for before, after in zip(reversed(list(old)), reversed(list(new)), strict=False):
        if before != after:
            if before.style == after.style:
                same += _same_end(before.text, after.text)
            break
        same += cell_len(after.text)
    return new.cell_length - same


def _same_end(before: str, after: str) -> int:
    """Cells at the end that are the same in both."""
    count = 0
    for one, other in zip(reversed(before), reversed(after), strict=False):
        if one != other:
            break
        count += cell_len(one)
    return count


Row = list[tuple[str, str]]
"""Pieces of text with their tones; a tone that ends in ! is bold."""


class Panel(Drawn):
    """Draws rows of text, a blank one first; subclasses say which."""

    _made: object = None

    def text_rows(self) -> list[Row]:
        raise NotImplementedError

    def redraw_key(self) -> object:
        """All that the rows depend on, beside the size and the colours; None where they are made at each look."""
        return None

    def redraw(self) -> None:
        redraw_key = self.redraw_key()
        if redraw_key is None or redraw_key != self._made or not self._on_screen:
            self._made = redraw_key
            super().redraw()

    def begin_drawing(self) -> None:
        self._drawn = self.text_rows()  # once for all lines
        self._look = self.size.width, self.palette

    def draw_line(self, y: int) -> Strip:
        row = self._drawn[y - 1] if 0 < y <= len(self._drawn) else []
        made = self._lines.get(y)
        if made is None or made[0] != row or made[1] != self._look:
            width, palette = self._look
            cells = Cells(palette, "panel").put("  ")
            put_row(cells, row)
            made = self._lines[y] = row, self._look, cells.strip(width)
        return made[2]

    @cached_property
    def _lines(self) -> dict[int, tuple[Row, tuple[int, Palette], Strip]]:
        return {}


def put_row(cells: Cells, row: Row) -> None:
    for text, tone in row:
        cells.put(text, tone.removesuffix("!"), bold=tone.endswith("!"))
