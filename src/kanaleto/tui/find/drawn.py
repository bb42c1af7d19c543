"""The plain drawn parts of Find: the middle, and the head of what was found."""

from collections.abc import Callable

from textual import events
from textual.strip import Strip

from kanaleto.finding.desk import Desk, FindPlace
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn, Row, put_row


class FindField(Drawn):
    """Draws what `rows_of` says, which depends on how wide it is: it tells when that changes."""

    DEFAULT_CSS = "FindField { height: auto; padding: 0; }"
    rows: list[Row] = []
    _width = 0

    def __init__(self, when_width_changed: Callable[[], None]) -> None:
        super().__init__()
        self._when_width_changed = when_width_changed

    def on_resize(self, event: events.Resize) -> None:
        if event.size.width != self._width:
            self._width = event.size.width
            self._when_width_changed()

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette).put(" ")
        put_row(cells, self.rows[y] if y < len(self.rows) else [])
        return cells.strip(self.size.width)


class FoundHead(Drawn):
    DEFAULT_CSS = "FoundHead { height: 3; background: $panel; }"

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette, "panel")
        return (cells.put(" FOUND", "muted", bold=True) if y == 1 else cells).strip(self.size.width)


class ScratchHead(Drawn):
    """One line above the fields: what is read where, and how it goes."""

    DEFAULT_CSS = "ScratchHead { height: 1; }"
    row: Row = []

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        put_row(cells, self.row)
        return cells.strip(self.size.width)


def scratch_head(desk: Desk, place: FindPlace | None) -> Row:
    """What a scratch reading is about, and how it goes."""
    reader = desk.scratch
    where = reader.link.place if reader is not None else place.title if place is not None else "choose a place first"
    row: Row = [(" Scratch reading", "ink!"), (f"  {where}", "muted")]
    state = reader.state if reader is not None else None
    if state is not None and state.error:
        row.append((f"  {state.error}", "terracotta"))
        if desk.is_reading:
            row.append((" · asking again", "muted"))
    elif desk.is_reading and state is not None and not state.reads:
        row.append(("  asking …", "ochre"))
    elif state is not None and state.reads:
        going = f"{state.reads} times" if desk.is_reading else "stopped"
        row.append((f"  read {going}, {1000 * state.took_s:.1f} ms", "verdigris"))
    return row
