"""What every drawn widget can reach: the application's palette and its latest moment."""

from typing import TYPE_CHECKING, cast

from textual.geometry import Region
from textual.strip import Strip
from textual.widget import Widget

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import Palette

if TYPE_CHECKING:
    from kanaleto.tui.app import KanaletoApp


class Drawn(Widget):
    """Mix-in for widgets that draw rows themselves."""

    @property
    def kanaleto(self) -> "KanaletoApp":
        return cast("KanaletoApp", self.app)

    @property
    def palette(self) -> Palette:
        return self.kanaleto.palette


Row = list[tuple[str, str]]
"""Pieces of text with their tones; a tone that ends in ! is bold."""


class Panel(Drawn):
    """Draws rows of text, a blank one first; subclasses say which."""

    def text_rows(self) -> list[Row]:
        raise NotImplementedError

    def render_lines(self, crop: Region) -> list[Strip]:
        self._drawn = self.text_rows()  # once for all lines
        return super().render_lines(crop)

    def render_line(self, y: int) -> Strip:
        cells = Cells(self.palette, "panel").put("  ")
        if 0 < y <= len(self._drawn):
            put_row(cells, self._drawn[y - 1])
        return cells.strip(self.size.width)


def put_row(cells: Cells, row: Row) -> None:
    for text, tone in row:
        cells.put(text, tone.removesuffix("!"), bold=tone.endswith("!"))
