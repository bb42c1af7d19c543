"""The heading of Wire's list, with the ruler of its time column."""

from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.wire_view.rows import WireColumns


class WireHead(Drawn):
    DEFAULT_CSS = "WireHead { height: 1; }"
    scale_ms = 50
    note = ""

    def draw_line(self, y: int) -> Strip:
        width = self.size.width
        columns = WireColumns.fit(width)
        cells = Cells(self.palette).put(" at", "muted", 15)
        if columns.line:
            cells.put("line", "muted", columns.line)
        cells.put("device", "muted", columns.device).put("asked", "muted", columns.asked)
        if columns.times:
            start = cells.width
            parts = 4 if columns.times >= 32 else 2 if columns.times >= 16 else 1
            for part in range(parts):
                cells.at(start + round(part / parts * (columns.times - 1)))
                number = self.scale_ms * part / parts
                cells.put(f"{number:g}" if part else "0 ms", "dim")
            cells.at(start + columns.times)
        cells.put("  ").put(self.note or "outcome", "ochre" if self.note else "muted", columns.outcome)
        return cells.strip(width)
