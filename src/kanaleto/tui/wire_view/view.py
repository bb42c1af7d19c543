"""Wire: follows the newest exchange until the cursor moves; then the list stands still until one follows again."""

from operator import attrgetter

from textual import events
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.strip import Strip
from textual.widgets import Input

from kanaleto.board.listener import Exchange
from kanaleto.board.snapshot import Snapshot
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Point
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.wishes import ShowExchange, ShowMoment
from kanaleto.tui.shared.words import clock_text
from kanaleto.tui.wire_view.beside import Beside
from kanaleto.tui.wire_view.bytes import BytesPanel
from kanaleto.tui.wire_view.rows import WireColumns, WireRows, asked_words, outcome_words
from kanaleto.wire.pdu import Read, Request

_ASKED_AT = attrgetter("outcome.asked_at")


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


_MANY, _APART_S = 6, 0.45  # more rows than these are nothing that one reads while they run: drawn twice a second


class WireView(View, Vertical):
    digit, title, about = "4", "Wire", "go to the exchanges and their bytes"
    actions = (
        Action("f", "follow", "follow", "follow the newest exchange, or stand still"),
        Action("e", "failed", "only failed", "only what failed, the newest of it open"),
        Action("enter", "open", "fold or open bytes", "fold the bytes away, or open them"),
        Action("t", "then", "trend then", "all views at the moment of the exchange: the trend of what it brought"),
    )

    def compose(self) -> ComposeResult:
        yield WireHead()
        yield WireRows()
        yield Filter(self._leave_filter)
        with Horizontal(id="wire-below"):
            yield BytesPanel()
            yield Beside()

    def on_mount(self) -> None:
        self._list = self.query_one(WireRows)
        self._head = self.query_one(WireHead)
        self._filter = self.query_one(Filter)
        self._bytes = self.query_one(BytesPanel)
        self._beside = self.query_one(Beside)
        self._follows = True
        self._only_failed = False
        self._has_bytes = True
        self._frozen_at = 0
        self._drawn = (0, 0.0)  # how many exchanges there were when the list was filled last, and when that was
        self._list.when_moved = self._moved

    def on_resize(self, event: events.Resize) -> None:
        self._beside.display = event.size.width >= 118
        self._beside.styles.width = 72 if event.size.width >= 150 else 62
        self._lay_out(event.size.height)

    def _lay_out(self, height: int) -> None:
        self.query_one("#wire-below").display = self._has_bytes and height >= 12

    def _taken(self) -> list[Exchange]:
        rows = sorted(self.context.engine.session.exchanges, key=_ASKED_AT)  # they come as they end
        if self._only_failed:
            rows = [row for row in rows if row.outcome.kind is not OutcomeKind.GOOD]
        if self._filter.words:
            counts_as_wire = self.context.counts_as_wire
            rows = [row for row in rows if self._filter.matches(_text(row, counts_as_wire))]
        return rows

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        if self._follows:
            count, at_s = self._drawn
            if snapshot.exchanges - count <= _MANY or snapshot.now_s - at_s > _APART_S:
                self._refill()
        else:
            since = snapshot.exchanges - self._frozen_at
            self._head.note = f"{since} more · f follows" if since else ""
            self._list.redraw()
        self._list.fit_scale()
        self._head.scale_ms = self._list.scale_ms
        self._head.redraw()
        self._bytes.show(self._list.current)
        if self._beside.display:
            self._beside.tick()

    def _refill(self) -> None:
        rows = self._taken()
        what = "no exchange has failed" if self._only_failed else "no exchange yet"
        self._list.empty_text = self._filter.told or what
        self._list.set_rows(rows, last=True)
        self._head.note = "only what failed" if self._only_failed else ""
        self._drawn = self.snapshot.exchanges, self.snapshot.now_s

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        verbs = {
            "follow": "stand still" if self._follows else "follow",
            "failed": "all exchanges" if self._only_failed else "only failed",
            "open": "fold bytes" if self._has_bytes else "open bytes",
        }
        return [*self.keys_of("follow", "failed", **verbs), ("/", "filter"), *self.keys_of("open", "then", **verbs)]

    def open_filter(self) -> None:
        self._filter.open()

    def back(self) -> None:
        if self._filter.value:
            self._filter.clear_filter()
        elif self._only_failed:
            self._only_failed = False
        else:
            self._follows = True
        self._refill()
        self.focus_rows()

    def on_input_changed(self, event: Input.Changed) -> None:
        self._refill()

    def _leave_filter(self) -> None:
        self._refill()
        self.focus_rows()

    def _moved(self) -> None:
        if self._follows:
            self._stand_still()
        self._bytes.show(self._list.current)

    def _stand_still(self) -> None:
        self._follows = False
        self._frozen_at = self.snapshot.exchanges

    def follow(self) -> None:
        """Follow the newest again."""
        self._follows = True

    def stand_at(self, moment: float) -> None:
        """The list stands still at what was asked at a moment (wall, seconds)."""
        self._only_failed = False
        self._filter.clear_filter()
        self._refill()
        self._stand_still()
        rows = self._list.rows
        at = next((number for number, row in enumerate(rows) if row.wall_s >= moment), len(rows) - 1)
        self._list.place_cursor(max(at, 0), -1)
        if rows and rows[0].wall_s > moment + 1:
            self._head.note = f"kept here only since {clock_text(rows[0].wall_s)[:8]}"

    def show_exchange(self, wanted: ShowExchange) -> None:
        """The last exchange that brought a block; its bytes open."""
        self.stand_at(float("inf"))
        rows = self._list.rows
        for at in range(len(rows) - 1, -1, -1):
            row = rows[at]
            request = row.request
            if (
                row.device is not None and row.device.name == wanted.device and isinstance(request, Read)
                and (request.table.read_function, request.address, request.count)
                == (wanted.function, wanted.address, wanted.count)
            ):  # fmt: skip
                self._list.place_cursor(at)
                break
        else:
            self.context.tell("that exchange is not kept here any more")
        self._has_bytes = True
        self._lay_out(self.size.height)
        self.context.redraw()

    def action_follow(self) -> None:
        if self._follows:
            self._stand_still()
        else:
            self._follows = True
        self.context.redraw()

    def action_failed(self) -> None:
        self._only_failed = not self._only_failed
        self._follows = True
        self._has_bytes = True
        self._lay_out(self.size.height)
        self._refill()
        self.context.redraw()

    async def action_then(self) -> None:
        row = self._list.current
        if row is None:
            return
        device = row.device
        first = next((point for point in device.points if _is_in(row.request, point)), None) if device else None
        identity = (device.name, first.name) if device is not None and first is not None else None
        await self.context.show_moment(ShowMoment(row.wall_s, identity, "3"))

    def action_open(self) -> None:
        self._has_bytes = not self._has_bytes
        self._lay_out(self.size.height)
        self.context.redraw()


def _is_in(request: Request | None, point: Point) -> bool:
    """Whether a request reads that point."""
    if not isinstance(request, Read) or request.table is not point.table:
        return False
    return request.address <= point.address and point.end <= request.address + request.count


def _text(row: Exchange, counts_as_wire: bool) -> str:
    device = row.device.name if row.device is not None else f"unit {row.outcome.unit_id}"
    return f"{row.line.name} {device} {asked_words(row, counts_as_wire)} {outcome_words(row)}"
