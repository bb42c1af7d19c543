"""Live: the list, the point opened beside it, the trend of what is pinned below."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.cells import cell_len
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.widgets import Input

from kanaleto.planning.plan import AnyPlace, Place
from kanaleto.polling.snapshot import Snapshot
from kanaleto.tui.live.detail import PointDetail
from kanaleto.tui.live.rows import DerivedRow, DeviceRow, LiveRow, LiveRows, PointRow
from kanaleto.tui.live.trend import MOST_PINS, TrendHead
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.view import View

if TYPE_CHECKING:
    from kanaleto.tui.live.plot import Trend

_TONES = ("ground", "muted", "verdigris", "ochre", "sky", "violet", "terracotta")


class LiveView(View, Vertical):
    digit, title, about = "3", "Live", "go to all points by device"
    actions = (
        Action("p", "pin", "pin to trend", "pin the point to the trend, or take it off"),
        Action("enter", "open", "open point", "open the point: from its words to its value"),
    )

    def compose(self) -> ComposeResult:
        with Horizontal(id="live-body"):
            yield LiveRows()
            yield PointDetail()
        yield Filter(self._leave_filter)
        with Vertical(id="live-trend"):
            yield TrendHead()

    def on_mount(self) -> None:
        self._list, self._filter = self.query_one(LiveRows), self.query_one(Filter)
        self._detail, self._head = self.query_one(PointDetail), self.query_one(TrendHead)
        self._trend: Trend | None = None  # once something is pinned
        self._version = -1
        self._list.when_moved = self._moved

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        if self._version != snapshot.version:
            self._version = snapshot.version
            self._let_go()
            self._fill()
        self._list.show(snapshot)
        self._detail.place = self._current
        if self._detail.display:
            self._detail.redraw()
        if self._trend is not None and self._trend.pinned:
            palette = self.palette
            self._trend.draw(snapshot, {tone: _rgb(getattr(palette, tone)) for tone in _TONES})
            self._head.redraw()

    def _let_go(self) -> None:
        """The plan has changed: the same points stand elsewhere now, or are no more."""
        gone = [pin for pin in self._list.pinned if self.snapshot.place_of(pin) is None]
        if gone:
            self._list.pinned = [pin for pin in self._list.pinned if pin not in gone]
            self.context.tell(f"{gone[0][1]} is no more, and was taken off the trend")
        self._show_pins()

    def _fill(self) -> None:
        """The rows that the filter leaves; a device's row stands before its points."""
        plan = self.snapshot.plan
        self._list.longest = max((cell_len(name) for _, name in plan.identities), default=14)
        rows: list[LiveRow] = []
        last = ""
        for place in plan.places:
            if not self._filter.matches(f"{place.line.name} {place.device.name} {place.point.name} {place.point.unit}"):
                continue
            if place.device.name != last or not rows:
                rows += [None] if rows else []
                rows.append(DeviceRow(place.line, place.device))
                last = place.device.name
            rows.append(PointRow(place))
        derived = [
            place for place in plan.derived if self._filter.matches(f"derived {place.own.name} {place.own.unit}")
        ]
        if derived:
            rows += [*([None] if rows else []), DerivedRow(), *(PointRow(place) for place in derived)]
        self._list.empty_text = self._filter.told or "this site has no points yet"
        self._list.set_rows(rows)

    @property
    def _current(self) -> AnyPlace | None:
        row = self._list.current
        return row.place if isinstance(row, PointRow) else None

    def about_here(self) -> Iterator[tuple[str, str]]:
        place = self._current
        if isinstance(place, Place):
            yield place.identity

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        place = self._current
        is_pinned = place is not None and place.identity in self._list.pinned
        opened = "close point" if self._detail.display else "open point"
        return [
            *self.keys_of("open", "pin", open=opened, pin="unpin" if is_pinned else "pin to trend"),
            ("/", "filter"),
        ]

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

    def _leave_filter(self) -> None:
        self._fill()
        self.focus_rows()

    def _moved(self) -> None:
        self._detail.place = self._current
        self._detail.refresh()

    def action_open(self) -> None:
        self._detail.display = not self._detail.display
        self._detail.place = self._current
        self.context.redraw()

    def action_pin(self) -> None:
        place, pinned = self._current, self._list.pinned
        if place is None:
            return
        if place.identity in pinned:
            self._list.pinned = [pin for pin in pinned if pin != place.identity]
        elif not isinstance(place, Place) or place.block is None:
            self.context.tell(f"{place.point.name} is not polled, so there is nothing to draw")
        elif len(pinned) >= MOST_PINS:
            self.context.tell(f"{MOST_PINS} points are pinned, as many as can be told apart; take one off first")
        else:
            self._list.pinned = [*pinned, place.identity]
        self._show_pins()
        self.context.redraw()

    def _show_pins(self) -> None:
        places = [place for pin in self._list.pinned if (place := self.snapshot.place_of(pin)) is not None]
        self._head.pinned = places
        if places and self._trend is None:
            from kanaleto.tui.live.plot import Trend

            self._trend = Trend()
            self.query_one("#live-trend").mount(self._trend)
        if self._trend is not None:
            self._trend.pinned = places
        self.query_one("#live-trend").display = bool(places) and self.size.height >= 24


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
