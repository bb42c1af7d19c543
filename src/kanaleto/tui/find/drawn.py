"""The plain drawn parts of Find: the middle, and the head of what was found."""

from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn, Row, put_row


class Field(Drawn):
    """Draws what `rows_of` says."""

    DEFAULT_CSS = "Field { height: auto; padding: 0; }"
    rows: list[Row] = []

    def render_line(self, y: int) -> Strip:
        cells = Cells(self.palette).put(" ")
        put_row(cells, self.rows[y] if y < len(self.rows) else [])
        return cells.strip(self.size.width)


class FoundHead(Drawn):
    DEFAULT_CSS = "FoundHead { height: 3; background: $panel; }"

    def render_line(self, y: int) -> Strip:
        cells = Cells(self.palette, "panel")
        return (cells.put(" FOUND", "muted", bold=True) if y == 1 else cells).strip(self.size.width)
