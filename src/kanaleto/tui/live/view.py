"""Live: the list, the point opened beside it, the strip of what is pinned below; and the parts that take its place:
the trend, what moved, comparisons, what is past a limit."""

from collections.abc import Callable, Hashable, Iterator, Sequence
from functools import wraps
from inspect import isawaitable
from threading import Thread

from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.strip import Strip
from textual.widgets import Input

from kanaleto.analysis.arranging import Only, SortOrder
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, Identity, Place
from kanaleto.tui.live.detail import PointDetail
from kanaleto.tui.live.listing import Listing, longest_name
from kanaleto.tui.live.parts import Parts, kind_of
from kanaleto.tui.live.rows import DerivedRow, DeviceRow, LiveRow, LiveRows, PointRow
from kanaleto.tui.parts import PARTS
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.wishes import PointsToBridge, ShowExchange
from kanaleto.tui.write.points import ask_writable, write_points

ACTIONS = (
    Action("enter", "open", "open point", "open the point: its chain, its figures, its limits, what brought it"),
    Action("w", "write", "write", "write the point, or all that are marked; on a device: its pad"),
    *(kind.opens for kind in PARTS),
    Action("p", "pin", "pin to trend", "pin the point, or all that are marked, to the trend, or take it off"),
    Action("s", "sort", "sort", "sort: by device, name, how much it moves, age, how near its limit"),
    Action("o", "only", "only", "only what changed, only what is bad, only what is past a limit"),
    Action("f", "fold", "fold device", "fold the points of a device away, or open them"),
    Action("F", "fold_all", "fold all devices", "fold all devices, or open them"),
    Action("A", "writable", "make writable", "make the point, or all that are marked, writable: asked once"),
    Action("v", "mark", "mark", "mark points: to pin, compare, or lay across"),
    Action("V", "mark_device", "mark all of a device", "mark all points of a device"),
    Action("z", "figures", "figures from now on", "least, most, mean, slope and noise of the open point from now on"),
    Action("i", "exchange", "its exchange", "the exchange that brought the point, in Wire"),
    Action("B", "to_bridge", "into a bridge", "the point, or all that are marked, into registers of a bridge's device"),
    Action("x", "export", "export", "export what is shown, for paper: trend, values, comparison"),
)


def part_actions() -> Iterator[Action]:
    """For the palette: they go to the part first. Their keys work there alone."""
    for kind in PARTS:
        for action in kind.actions:
            if action.is_found:
                do = f"in_part('{kind.name}', '{action.do}')"
                yield Action("", do, f"{kind.title}: {action.verb}", shown=action.key)


_ARRANGE_EVERY_S, _SPREAD_EVERY_S = 2.0, 5.0
_NOTHING = (
    "Live shows every point: its value, the words that it came in, and how old they are.\n"
    "this site has no points yet: 1 finds devices, 2 gives them points"
)


class Told(Drawn):
    """Above the list: in which order it is, what of it is shown, how many are marked. Nothing where all is usual."""

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


def _in_list(action: "Callable[[LiveView], None]") -> "Callable[[LiveView], None]":
    """What is only done while the list is in sight: a part that has taken its place does not have it."""

    @wraps(action)
    def do(view: "LiveView") -> None:
        if view.parts.current is None:
            action(view)

    return do


class LiveView(View, Vertical):
    digit, title, about = "3", "Live", "go to all points by device"
    actions = (*ACTIONS, *part_actions())
    more_keys = tuple(kind.page for kind in PARTS)

    def compose(self) -> ComposeResult:
        with Vertical(id="live-list"):
            yield Told()
            with Horizontal(id="live-body"):
                yield LiveRows()
                yield PointDetail()
            yield Filter(self._leave_filter)

    def on_mount(self) -> None:
        self._eye_on: Hashable = None
        """What the cursor was on before a filter left it out; nobody has moved the cursor since."""
        self._list, self._filter = self.query_one(LiveRows), self.query_one(Filter)
        self._detail, self._note = self.query_one(PointDetail), self.query_one(Told)
        self._listing = Listing()
        self.parts = Parts(self)
        self._version = -1
        self._arranged_s = self._spread_s = -1e9
        self._fills = 0
        self._since: float | None = None
        self._list.when_moved = self._moved

    def close(self) -> None:
        self.parts.close()

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        self.take(snapshot)
        if self.parts.show(snapshot):
            return
        self._list.show(snapshot)
        self._look_at_point()
        if self._detail.display:
            self._detail.redraw()

    def take(self, snapshot: Snapshot) -> None:
        """Follow the plan, and the order in which points are wanted."""
        is_new = self._version != snapshot.version
        if is_new:
            self._version = snapshot.version
            self._drop_gone(snapshot)
        if self.parts.current is None and is_new:
            self._fill()
        elif self.parts.current is None and self._is_due(snapshot):
            self._arranged_s = snapshot.now_s
            Thread(target=self._arrange_again, args=(snapshot, self._fills), name="arrange", daemon=True).start()

    def _is_due(self, snapshot: Snapshot) -> bool:
        listing = self._listing
        if listing.needs_spread and snapshot.now_s - self._spread_s >= _SPREAD_EVERY_S:
            self._spread_s = snapshot.now_s
            Thread(target=self._reckon_spread, args=(snapshot,), name="spread", daemon=True).start()
        return listing.changes_by_itself and snapshot.now_s - self._arranged_s >= _ARRANGE_EVERY_S

    def _reckon_spread(self, snapshot: Snapshot) -> None:
        from kanaleto.analysis.movement import spreads

        found = spreads(snapshot)

        def take() -> None:
            is_first = not self._listing.spread
            self._listing.spread = found
            if is_first:
                self._fill()

        self.context.later(take)

    def _arrange_again(self, snapshot: Snapshot, fills: int) -> None:
        """What is shown changes by itself: on a thread, thousands of points take their time."""
        rows = self._listing.rows(snapshot, self._filter.narrows)

        def take() -> None:
            if fills == self._fills and self.parts.current is None:
                self._show_rows(rows)

        self.context.later(take)

    def _drop_gone(self, snapshot: Snapshot) -> None:
        """The plan has changed: the same points stand elsewhere now, or are no more."""
        self._list.marked = {one for one in self._list.marked if snapshot.place_of(one) is not None}
        self.parts.drop_gone(snapshot)

    def _fill(self) -> None:
        """The rows that filter, order and kind leave."""
        self._arranged_s = self.snapshot.now_s
        self._list.longest = longest_name(self.snapshot.plan)
        self._list.is_flat = self._listing.order is not SortOrder.DEVICE
        self._show_rows(self._listing.rows(self.snapshot, self._filter.narrows))

    def _show_rows(self, rows: Sequence[LiveRow]) -> None:
        self._fills += 1
        nothing = f"nothing to show: {self._listing.only.value}" if self._listing.only is not Only.ALL else ""
        self._list.empty_text = self._filter.text or nothing or _NOTHING
        self._list.set_rows(rows)
        at = self._list.find(self._eye_on) if self._eye_on is not None else None
        if at is not None and at != self._list.cursor:  # it is listed again
            self._list.place_cursor(at)
        self._note.take(self._listing.text, len(self._list.marked))

    # The point that the cursor is on

    @property
    def _current(self) -> AnyPlace | None:
        row = self._list.current
        return row.place if isinstance(row, PointRow) else None

    @property
    def device_here(self) -> str:
        if self.parts.current is not None and self.parts.current.device_here:
            return self.parts.current.device_here
        row = self._list.current
        if isinstance(row, DeviceRow):
            return row.device.name
        place = self._current
        return place.identity[0] if place is not None else ""

    def _look_at_point(self) -> None:
        """What stands beside the list, as it is now."""
        place = self._current
        self._detail.place = place
        if not self._detail.display or place is None:
            self.parts.forget_point()
            return
        data = self.parts.data
        if data.opened != place.identity:
            data.open(place.identity)
            self._since = None
        from kanaleto.history.curves import figures

        curve = data.curves.curve(place.identity)
        if self._since is None and len(curve):
            self._since = float(curve.at[0])
        self._detail.since = self._since
        self._detail.figures = figures(curve, self._since, data.now) if self._since is not None else None

    def about_here(self) -> Iterator[tuple[str, str]]:
        place = self._current
        if isinstance(place, Place):
            yield place.identity

    def go_to(self, identity: Identity) -> None:
        """Put the cursor on a point, whatever is filtered or folded away."""
        self._eye_on = None
        self.parts.leave()
        at = self._list.find(identity)
        if at is None:
            self._listing.only = Only.ALL
            self._listing.folded.discard(identity[0])
            self._filter.clear_filter()
            self._fill()
            at = self._list.find(identity)
        if at is not None:
            self._list.place_cursor(at)
        self.context.redraw()

    def focus_rows(self) -> None:
        if self.parts.current is not None:
            self.parts.current.focus_rows()
        else:
            self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        if self.parts.current is not None:
            return self.parts.current.keys_here()
        row = self._list.current
        if isinstance(row, DeviceRow | DerivedRow):
            return [*self.keys_of("fold", fold="open device"), *self.keys_of("fold_all", "sort", "only")]
        place = self._current
        is_pinned = place is not None and place.identity in self._list.pinned
        opened = "close point" if self._detail.display else "open point"
        marked = len(self._list.marked)
        pin = f"pin {marked} marked" if marked else "unpin" if is_pinned else "pin to trend"
        write = f"write {marked} marked" if marked else "write"
        more = self.keys_of("figures", "exchange") if self._detail.display else []
        return [
            *self.keys_of("open", "write", "pad", "pin", open=opened, pin=pin, write=write), *more,
            *self.keys_of("moved", "trend", "compare", "across", "past", "sort", "only", "fold", "mark"),
            ("/", "filter"),
        ]  # fmt: skip

    def open_filter(self) -> None:
        if self.parts.current is not None:
            self.parts.current.open_filter()
        else:
            self._filter.open()

    def back(self) -> None:
        if self.parts.current is not None:
            self.parts.current.back()
        elif self._detail.display:
            self._detail.display = False
        elif self._filter.value:
            self._filter.clear_filter()
            self._fill()
        elif self._list.marked:
            self._list.marked = set()
            self._note.take(self._listing.text, 0)
        elif self._listing.order is not SortOrder.DEVICE or self._listing.only is not Only.ALL:
            self._listing.order, self._listing.only = SortOrder.DEVICE, Only.ALL
            self._fill()
        self.focus_rows()

    def on_input_changed(self, event: Input.Changed) -> None:
        self._fill()

    def _leave_filter(self) -> None:
        self._fill()
        self.focus_rows()

    def _moved(self) -> None:
        self._eye_on = None
        self._look_at_point()
        self._detail.refresh()

    # Actions on the list

    @_in_list
    def action_open(self) -> None:
        row = self._list.current
        if isinstance(row, DeviceRow | DerivedRow):
            self.action_fold()
            return
        self._detail.display = not self._detail.display
        self.context.redraw()

    @_in_list
    def action_figures(self) -> None:
        self._since = self.parts.data.now
        self.context.redraw()

    @_in_list
    def action_exchange(self) -> None:
        place = self._current
        if not isinstance(place, Place) or place.block is None:
            self.context.tell("no exchange brings it: it is not polled")
            return
        request = place.block.request
        self.context.send(ShowExchange(place.device.name, request.table.read_function, request.address, request.count))

    def action_sort(self) -> None:
        self._listing.order = self._listing.order.next
        self._arrange(f"sorted: {self._listing.order.value}")

    def action_only(self) -> None:
        self._listing.only = self._listing.only.next
        wanted = self._eye_on if self._eye_on is not None else self._here()
        self._arrange(self._listing.only.value, wanted)
        self._eye_on = wanted

    def _here(self) -> Hashable:
        current = self._list.current
        return self._list.identity(current) if current is not None else None

    def _arrange(self, text: str, stays_on: Hashable = None) -> None:
        """The cursor goes to the top, or stays on what it was on where that is still listed."""
        self.parts.leave()
        self._spread_s = -1e9 if not self._listing.spread else self._spread_s
        self._fill()
        self._list.place_cursor((self._list.find(stays_on) if stays_on is not None else None) or 0)
        self.context.tell(text)
        self.context.redraw()

    @_in_list
    def action_fold(self) -> None:
        name = self.device_here
        folded = self._listing.folded
        folded.symmetric_difference_update({name})
        self._fill()
        at = self._list.find(name) if name in folded else None
        if at is not None:
            self._list.place_cursor(at)
        self.context.redraw()

    @_in_list
    def action_fold_all(self) -> None:
        names = {part.device.name for part in self.snapshot.plan.parts} | {""}
        self._listing.folded = set() if self._listing.folded >= names else names
        self._fill()
        self.context.redraw()

    @_in_list
    def action_to_bridge(self) -> None:
        marked, place = self._in_order(self._list.marked), self._current
        points = marked or ([place.identity] if place is not None else [])
        if points:
            self.context.send(PointsToBridge(tuple(points)))

    def action_mark(self) -> None:
        place = self._current
        if place is not None:
            self._list.marked.symmetric_difference_update({place.identity})
            self._list.action_move(1)
        self._note.take(self._listing.text, len(self._list.marked))
        self.context.redraw()

    @_in_list
    def action_mark_device(self) -> None:
        part = self.snapshot.plan.part_of(self.device_here)
        names = {place.identity for place in part.places} if part is not None else set()
        marked = self._list.marked
        self._list.marked = marked - names if names <= marked else marked | names
        self._note.take(self._listing.text, len(self._list.marked))
        self.context.redraw()

    # The parts

    def action_pin(self) -> None:
        marked, place = self._in_order(self._list.marked), self._current
        if self.parts.current is not None:  # there it has a meaning of its own
            return
        if marked:
            self.parts.pin(marked)
        elif place is not None and place.identity in self._list.pinned:
            self.parts.unpin(place.identity)
        elif place is not None:
            self.parts.pin([place.identity])
        self.context.redraw()

    def _in_order(self, identities: set[Identity]) -> list[Identity]:
        return [one for one in self.snapshot.plan.identities if one in identities]

    def pins_changed(self, pins: list[Identity]) -> None:
        """Other points are pinned."""
        self._list.pinned = pins
        self._list.marked -= set(pins)
        self._note.take(self._listing.text, len(self._list.marked))

    def list_of(self) -> Vertical:
        """What the parts take the place of."""
        return self.query_one("#live-list", Vertical)

    def list_again(self) -> None:
        """A part has been left."""
        self._fill()

    async def action_part(self, name: str) -> None:
        """Let a part take the list's place, with what the cursor is on and what is marked."""
        if name == "trend":
            await self.parts.open_trend(self._current)
        elif kind_of(name).needs_device and not self.device_here:
            self.context.tell("put the cursor on a device, or a point of one")
        else:
            await self.parts.begin(name, self.device_here, self._in_order(self._list.marked))

    async def action_write(self) -> None:
        if self.parts.current is not None:
            came = self.parts.perform(self.parts.name, "write")
            if isawaitable(came):
                await came
        elif isinstance(self._list.current, DeviceRow) and not self._list.marked:
            await self.action_part("pad")
        else:
            write_points(self.context, self._in_order(self._list.marked), self._current)

    def action_writable(self) -> None:
        ask_writable(self.context, self._in_order(self._list.marked), self._current)

    async def action_in_part(self, name: str, action: str) -> None:
        """Do what a part can do, in the part."""
        if self.parts.name != name:
            await self.action_part(name)
        came = self.parts.perform(name, action)
        if isawaitable(came):
            await came

    def action_export(self) -> None:
        from kanaleto.tui.live.exporting import ask_export

        ask_export(self.context, self.parts, self.chosen_points)

    def look_at(self, moment: float, identity: Identity | None) -> None:
        """The trend at a moment, of that point too."""
        self.parts.look_at(moment, identity)

    def go_live(self) -> None:
        self.parts.go_live()

    @property
    def chosen_points(self) -> list[Identity]:
        """Those that are marked, or all that are listed."""
        marked = self._in_order(self._list.marked)
        return marked or [row.place.identity for row in self._list.rows if isinstance(row, PointRow)]
