"""What every drawn widget is made of: the context, the colours, and the snapshot that its view was shown last."""

from typing import TYPE_CHECKING, cast

from textual.geometry import Region
from textual.strip import Strip
from textual.widget import Widget

from kanaleto.polling.snapshot import Snapshot
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.keyed import Keyed
from kanaleto.tui.shared.look import Palette

if TYPE_CHECKING:
    from kanaleto.tui.shared.context import Context


class Drawn(Keyed, Widget):
    """Mix-in for widgets that draw rows themselves."""

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
