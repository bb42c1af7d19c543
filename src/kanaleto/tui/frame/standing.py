"""What still matters after the key row has shown it: a refused edit, a file that was not taken over, somebody else at
the same site."""

from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.words import wrapped

_MOST_ROWS = 4


class Standing(Drawn):
    """As many rows as the text takes, none where all is well. `escape` dismisses what was seen."""

    DEFAULT_CSS = "Standing { height: auto; display: none; }"

    def __init__(self) -> None:
        super().__init__()
        self._texts: tuple[str, ...] = ()

    def take(self, texts: tuple[str, ...]) -> None:
        self._texts = texts
        self._lay_out()

    def on_resize(self) -> None:
        self._lay_out()

    def _lay_out(self) -> None:
        rows = self._rows()
        self.display = bool(rows)
        self.styles.height = max(len(rows), 1)
        self.refresh()

    def _rows(self) -> list[tuple[str, str]]:
        width = max(self.app.size.width - 4, 20)
        rows = []
        for text in self._texts:
            rows += [("✕" if not at else " ", part) for at, part in enumerate(wrapped(text, width))]
        if len(rows) > _MOST_ROWS:
            rows = [*rows[: _MOST_ROWS - 1], (" ", rows[_MOST_ROWS - 1][1] + " …")]
        return rows

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette, "panel")
        rows = self._rows()
        if y < len(rows):
            mark, text = rows[y]
            cells.put(f" {mark} ", "terracotta", bold=True).put(text, "ochre", max(self.size.width - 4, 1))
        return cells.strip(self.size.width)
