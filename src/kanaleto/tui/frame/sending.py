"""What views ask of each other, done by the application; and the one moment that all of them may be at."""

from typing import TYPE_CHECKING, Protocol, TypeVar

from textual.widget import Widget

from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.frame.opened import OpenedSite
from kanaleto.tui.shared.views import BRIDGE, FIND, LIVE, MAP, WIRE
from kanaleto.tui.shared.wishes import (
    ImportFor,
    LookAtDevice,
    OpenSite,
    PointsToBridge,
    ReadAgain,
    Request,
    ShowExchange,
    ShowMoment,
    ShowPoint,
    ShowView,
)
from kanaleto.tui.shared.words import clock_text

if TYPE_CHECKING:
    from kanaleto.tui.bridge_view.view import BridgeView
    from kanaleto.tui.find.view import FindView
    from kanaleto.tui.live.view import LiveView
    from kanaleto.tui.map.view import MapView
    from kanaleto.tui.wire_view.view import WireView

WidgetT = TypeVar("WidgetT", bound=Widget)


class _SendingHost(Protocol):
    opened: OpenedSite
    current_digit: str

    def tell(self, notice: str) -> None: ...

    def tick(self) -> None: ...

    def action_view(self, digit: str) -> None: ...

    def query_one(self, selector: type[WidgetT], /) -> WidgetT: ...


class Sending:
    """`moment` is in wall seconds, None while all is live."""

    def __init__(self, app: _SendingHost) -> None:
        self._app = app
        self.moment: float | None = None

    # by now they are loaded

    @property
    def _map(self) -> "MapView":
        from kanaleto.tui.map.view import MapView

        return self._app.query_one(MapView)

    @property
    def _live(self) -> "LiveView":
        from kanaleto.tui.live.view import LiveView

        return self._app.query_one(LiveView)

    @property
    def _wire(self) -> "WireView":
        from kanaleto.tui.wire_view.view import WireView

        return self._app.query_one(WireView)

    def do(self, request: Request) -> None:
        app = self._app
        match request:
            case ShowView(digit):
                app.action_view(digit or app.current_digit)
            case OpenSite(path):
                app.opened.open_site(path)
            case LookAtDevice(link, unit_id):
                self._map.show_device(link, unit_id)
                app.action_view(MAP)
            case ImportFor(link, unit_id):
                app.action_view(MAP)
                self._map.ask_import(link, unit_id)
            case ShowExchange():
                app.action_view(WIRE)
                self._wire.show_exchange(request)
            case ShowPoint(identity):
                app.action_view(LIVE)
                self._live.go_to(identity)
            case PointsToBridge(points):
                app.action_view(BRIDGE)
                self._bridge.take_points(points)
            case ReadAgain(link, question):
                app.action_view(FIND)
                self._find.read_again(link, question)

    @property
    def _bridge(self) -> "BridgeView":
        from kanaleto.tui.bridge_view.view import BridgeView

        return self._app.query_one(BridgeView)

    @property
    def _find(self) -> "FindView":
        from kanaleto.tui.find.view import FindView

        return self._app.query_one(FindView)

    async def show(self, request: ShowMoment) -> None:
        """All views at that moment."""
        app, moment = self._app, request.wall_s
        self.moment = moment
        live, wire = self._live, self._wire
        live.look_at(moment, request.identity)
        app.query_one(Lanes).look_at(moment)
        app.action_view(request.digit)
        wire.stand_at(moment)
        if request.digit == LIVE:
            await live.action_part("trend")
        app.tell(f"all views are at {clock_text(moment)[:8]}; g goes live again")
        app.tick()

    async def open_part(self, name: str) -> None:
        """A part of Live, from everywhere."""
        self._app.action_view(LIVE)
        await self._live.action_part(name)

    def go_live(self) -> None:
        app = self._app
        self.moment = None
        self._live.go_live()
        self._wire.follow()
        app.query_one(Lanes).go_live()
        app.tick()
