"""Live: the list, the point opened beside it, the trend of what is pinned below."""

from rich.cells import cell_len
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import Input

from kanaleto.polling.plan import Place
from kanaleto.tui.live.detail import PointDetail
from kanaleto.tui.live.rows import DeviceRow, LiveRow, LiveRows, PointRow
from kanaleto.tui.live.trend import MOST_PINS, Trend, TrendHead
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.rows import Rows


class LiveView(Drawn, Vertical):
    BINDINGS = [
        Binding("p", "pin", show=False),
        Binding("enter", "open", show=False),
    ]
    DEFAULT_CSS = """
    #live-trend { height: 13; border-top: solid $rules; display: none; }
    #live-body { height: 1fr; }
    """

    def compose(self) -> ComposeResult:
        with Horizontal(id="live-body"):
            yield LiveRows()
            yield PointDetail()
        yield Filter()
        with Vertical(id="live-trend"):
            yield TrendHead()
            yield Trend()

    def on_mount(self) -> None:
        self._list = self.query_one(LiveRows)
        self._filter = self.query_one(Filter)
        self._detail = self.query_one(PointDetail)
        self._version = self.kanaleto.engine.session.version
        self._fill()

    def _fill(self) -> None:
        """The rows that the filter leaves; a device's row stands before its points."""
        places = self.kanaleto.engine.session.plan.places
        self._list.longest = max((cell_len(place.point.name) for place in places), default=14)
        rows: list[LiveRow] = []
        last: object = None
        for place in places:
            if not self._filter.matches(f"{place.line.name} {place.device.name} {place.point.name} {place.point.unit}"):
                continue
            if place.device is not last:
                rows += [None] if rows else []
                rows.append(DeviceRow(place.line, place.device))
                last = place.device
            rows.append(PointRow(place))
        self._list.empty_text = "no point matches the filter" if self._filter.words else "this site has no points yet"
        self._list.set_rows(rows)

    @property
    def current_place(self) -> Place | None:
        """The point that the cursor is on."""
        return self._current

    @property
    def _current(self) -> Place | None:
        row = self._list.current
        return row.place if isinstance(row, PointRow) else None

    def _follow_plan(self) -> None:
        """The plan has changed: the same points stand in other blocks now, or other points are there."""
        places = {(place.device.name, place.point.name): place for place in self.kanaleto.engine.session.plan.places}
        kept = [places.get((pin.device.name, pin.point.name)) for pin in self._list.pinned]
        self._list.pinned[:] = [place for place in kept if place is not None]
        self._show_pins()
        self._fill()

    def tick(self) -> None:
        if self._version != self.kanaleto.engine.session.version:
            self._version = self.kanaleto.engine.session.version
            self._follow_plan()
        self._list.refresh()
        self._detail.place = self._current
        if self._detail.display:
            self._detail.refresh()
        trend = self.query_one(Trend)
        if trend.pinned:
            palette = self.palette
            tones = ("ground", "muted", "verdigris", "ochre", "sky", "violet", "terracotta")
            colours = {tone: _rgb(getattr(palette, tone)) for tone in tones}
            trend.tick(self.kanaleto.engine.session.board.traces, self.kanaleto.moment.now_s, colours)
            self.query_one(TrendHead).refresh()

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[tuple[str, str]]:
        opened = "close point" if self._detail.display else "open point"
        is_pinned = any(pin is self._current for pin in self._list.pinned)
        return [("enter", opened), ("p", "unpin" if is_pinned else "pin to trend"), ("/", "filter")]

    def open_filter(self) -> None:
        self._filter.open()

    def back(self) -> None:
        if self._detail.display:
            self._detail.display = False
        elif self._filter.value:
            self._filter.clear_filter()
            self._fill()
        self.focus_rows()

    def on_input_changed(self, event: Input.Changed) -> None:
        self._fill()

    def on_filter_left(self, event: Filter.Left) -> None:
        self._filter.display = bool(self._filter.value)
        self.focus_rows()

    def on_rows_moved(self, event: Rows.Moved) -> None:
        self._detail.place = self._current
        self._detail.refresh()

    def action_open(self) -> None:
        self._detail.display = not self._detail.display
        self._detail.place = self._current
        self.kanaleto.tick()

    def action_pin(self) -> None:
        place, pinned = self._current, self._list.pinned
        if place is None:
            return
        if any(pin is place for pin in pinned):
            pinned[:] = [pin for pin in pinned if pin is not place]
        elif place.block is None:
            self.kanaleto.tell(f"{place.point.name} is not polled, so there is nothing to draw")
        elif len(pinned) >= MOST_PINS:
            self.kanaleto.tell(f"{MOST_PINS} points are pinned, as many as can be told apart; take one off first")
        else:
            pinned.append(place)
        self._show_pins()
        self.kanaleto.tick()

    def _show_pins(self) -> None:
        pinned = self._list.pinned
        self.query_one(Trend).pinned = self.query_one(TrendHead).pinned = list(pinned)
        self.query_one("#live-trend").display = bool(pinned) and self.size.height >= 24


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
