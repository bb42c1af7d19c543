"""The key row: the keys that matter here and now, with verbs."""

from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn


class KeyRow(Drawn):
    DEFAULT_CSS = "KeyRow { height: 1; }"

    def render_line(self, y: int) -> Strip:
        width = self.size.width
        cells = Cells(self.palette, "panel")
        if self.kanaleto.notice:
            return cells.put(" ").put(self.kanaleto.notice, "ochre").strip(width)
        keys = self.kanaleto.keys_here()
        last = keys[-1]
        for key, verb in keys:
            need = len(key) + len(verb) + 4
            if (key, verb) != last and cells.width + need + len(last[0]) + len(last[1]) + 4 > width:
                continue
            cells.put(f" {key}", "ochre", bold=True).put(f" {verb}  ", "ink")
        return cells.strip(width)
