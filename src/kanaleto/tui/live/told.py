"""Above the list: in which order it is, what of it is shown, how many are marked. Nothing where all is usual."""

from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn


class Told(Drawn):
    DEFAULT_CSS = "Told { height: 1; display: none; }"
    _text = ""

    def take(self, arranged: str, marked: int) -> None:
        parts = [arranged] if arranged else []
        parts += [f"{marked} marked: p pins them, c compares them, a lays them across"] if marked else []
        self._text = " · ".join(parts)
        self.display = bool(self._text)
        self.refresh()

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette, "panel").put(f" {self._text}", "ochre", self.size.width - 24)
        return cells.put("  escape: as always", "muted").strip(self.size.width)
