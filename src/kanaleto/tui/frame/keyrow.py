"""The key row: the keys that matter here and now, with verbs."""

from typing import Protocol, cast

from textual.strip import Strip

from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn


class _Speaks(Protocol):
    notice: str

    def keys_here(self) -> list[Key]: ...


class KeyRow(Drawn):
    DEFAULT_CSS = "KeyRow { height: 1; }"

    def draw_line(self, y: int) -> Strip:
        width, app = self.size.width, cast(_Speaks, self.app)
        cells = Cells(self.palette, "panel")
        if app.notice:
            return cells.put(" ").put(app.notice, "ochre", max(width - 2, 1)).strip(width)
        keys = app.keys_here()
        last = keys[-1]
        for key, verb in keys:
            need = len(key) + len(verb) + 4
            if (key, verb) != last and cells.width + need + len(last[0]) + len(last[1]) + 4 > width:
                continue
            cells.put(f" {key}", "ochre", bold=True).put(f" {verb}  ", "ink")
        return cells.strip(width)
