"""The parts of Live that are made when they are first wanted, and what is pinned: the view itself knows none of them.
What they need costs a start too much."""

from typing import TYPE_CHECKING, Any, Protocol

from textual.geometry import Size
from textual.widget import Widget

from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, Identity, Place
from kanaleto.tui.parts import PARTS
from kanaleto.tui.parts.part import Doors, Part, PartKind
from kanaleto.tui.shared.context import Context

if TYPE_CHECKING:
    from kanaleto.tui.live.strip import Strip
    from kanaleto.tui.parts.trend.data import TrendData

_STRIP_FROM = 24


def kind_of(name: str) -> PartKind:
    return next(kind for kind in PARTS if kind.name == name)


class Host(Protocol):
    """The view, as its parts need it."""

    @property
    def context(self) -> Context: ...

    @property
    def snapshot(self) -> Snapshot: ...

    @property
    def size(self) -> Size: ...

    @property
    def device_here(self) -> str: ...

    def mount(self, *widgets: Widget) -> Any: ...

    def list_of(self) -> Widget: ...

    def pins_changed(self, pins: list[Identity]) -> None: ...

    def list_again(self) -> None: ...

    def go_to(self, identity: Identity) -> None: ...


class Parts:
    """`current` stands in the list's place."""

    def __init__(self, view: Host) -> None:
        self._view = view
        self._parts: dict[str, Part] = {}
        self._data: TrendData | None = None
        self._strip: Strip | None = None
        self.current: Part | None = None

    @property
    def data(self) -> "TrendData":
        """What is pinned; made when it is first wanted."""
        if self._data is None:
            from kanaleto.tui.parts.trend.data import TrendData

            self._data = TrendData(self._view.context)
        return self._data

    @property
    def name(self) -> str:
        """Of what stands in the list's place; empty where nothing does."""
        return self.current.kind.name if self.current is not None else ""

    def show(self, snapshot: Snapshot) -> bool:
        """Whether a part was shown in the list's place."""
        if self._data is not None and self._data.pins:
            self._data.ask(snapshot)
        if self.current is not None:
            self.current.show(snapshot)
            return True
        if self._strip is not None and self._strip.display:
            self._strip.show(snapshot)
        return False

    def close(self) -> None:
        """The application ends."""
        if self._data is not None:
            self._data.stop()

    def drop_gone(self, snapshot: Snapshot) -> None:
        """The plan is another."""
        if self._data is None:
            return
        gone = self._data.drop_gone(snapshot)
        if gone:
            self._view.context.tell(f"{gone[0][1]} is no more, and was taken off the trend")
        self._show_pins()

    async def open(self, name: str) -> Part:
        """Let a part take the list's place."""
        view, part = self._view, self._parts.get(name)
        if part is None:
            doors = Doors(
                self.data, self.leave, view.go_to, lambda one: self.pin([one]), self.unpin, lambda: view.device_here
            )  # fmt: skip
            part = self._parts[name] = kind_of(name).make(doors)
            await view.mount(part)  # keys that are typed ahead wait for it
        for other in self._parts.values():
            other.display = other is part
        view.list_of().display = False
        self.current = part
        view.context.redraw()
        view.context.refocus()
        return part

    async def begin(self, name: str, device: str, marked: list[Identity]) -> None:
        """The same, with what the cursor was on and what is marked."""
        (await self.open(name)).begin(device, marked)
        self._view.context.redraw()

    def perform(self, name: str, action: str) -> object:
        return self.current.perform(action) if self.current is not None and self.name == name else None

    def leave(self) -> None:
        """The list has its place again."""
        part, self.current = self.current, None
        if part is None:
            return
        part.display = False
        view = self._view
        view.list_of().display = True
        view.list_again()
        self._show_pins()
        view.context.redraw()
        view.context.refocus()

    # What is pinned

    def pin(self, identities: list[Identity]) -> None:
        view = self._view
        for identity in identities:
            place = view.snapshot.place_of(identity)
            if isinstance(place, Place) and place.block is None:
                view.context.tell(f"{place.point.name} is not polled, so there is nothing to draw")
                return
        refused = self.data.pin(identities)
        if refused:
            view.context.tell(refused)
        else:
            self._show_pins()

    def unpin(self, identity: Identity) -> None:
        self.data.unpin(identity)
        self._show_pins()
        if not self.data.pins and self.name == "trend":
            self.leave()

    def _show_pins(self) -> None:
        if self._data is None:
            return
        pins = list(self._data.pins)
        self._view.pins_changed(pins)
        if pins and self._strip is None:
            from kanaleto.tui.live.strip import Strip

            self._strip = Strip(self._data)
            self._view.list_of().mount(self._strip)
        self.fit()

    def fit(self) -> None:
        """The strip stands where there is something to draw, and room."""
        if self._strip is not None and self._data is not None:
            self._strip.display = bool(self._data.pins) and self._view.size.height >= _STRIP_FROM

    def forget_point(self) -> None:
        """No point is open beside the list."""
        if self._data is not None:
            self._data.open(None)

    async def open_trend(self, place: AnyPlace | None) -> None:
        if not self.data.pins and place is not None:
            self.pin([place.identity])
        if self.data.pins:
            await self.open("trend")
        elif place is None:
            self._view.context.tell("pin a point first: p")

    def look_at(self, moment: float, identity: Identity | None) -> None:
        data, snapshot = self.data, self._view.context.snapshot
        place = snapshot.place_of(identity) if identity is not None else None
        can_be_drawn = place is not None and not (isinstance(place, Place) and place.block is None)
        if identity is not None and can_be_drawn and identity not in data.pins:
            if data.pin([identity]):  # there is no room: the last gives way
                data.unpin(data.pins[-1])
                data.pin([identity])
            self._show_pins()
        data.state.look_at(moment, data.now)
        if identity in data.pins:
            data.state.chosen = data.pins.index(identity)

    def go_live(self) -> None:
        if self._data is not None:
            self._data.state.go_live()
