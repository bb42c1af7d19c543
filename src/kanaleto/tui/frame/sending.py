"""What views ask of each other, done by the application; and the one moment that all of them may be at."""

from typing import Protocol, TypeVar

from textual.widget import Widget

from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.live.view import LiveView
from kanaleto.tui.map.view import MapView
from kanaleto.tui.opened import OpenedSite
from kanaleto.tui.shared.requests import (
    ImportFor,
    LookAtDevice,
    OpenSite,
    Request,
    ShowExchange,
    ShowMoment,
    ShowView,
)
from kanaleto.tui.shared.words import clock_text
from kanaleto.tui.wire_view.view import WireView

WidgetT = TypeVar("WidgetT", bound=Widget)


class _Screen(Protocol):
    opened: OpenedSite
    current_digit: str

    def tell(self, notice: str) -> None: ...

    def tick(self) -> None: ...

    def action_view(self, digit: str) -> None: ...

    def query_one(self, selector: type[WidgetT], /) -> WidgetT: ...


class Sending:
    """`moment` is in wall seconds, None while all is live."""

    def __init__(self, app: _Screen) -> None:
        self._app = app
        self.moment: float | None = None

    def do(self, request: Request) -> None:
        app = self._app
        match request:
            case ShowView(digit):
                app.action_view(digit or app.current_digit)
            case OpenSite(path):
                app.opened.open_site(path)
            case LookAtDevice(link, unit_id):
                app.query_one(MapView).show_device(link, unit_id)
                app.action_view(MapView.digit)
            case ImportFor(link, unit_id):
                app.action_view(MapView.digit)
                app.query_one(MapView).ask_import(link, unit_id)
            case ShowExchange():
                app.action_view(WireView.digit)
                app.query_one(WireView).show_exchange(request)

    async def show(self, request: ShowMoment) -> None:
        """All views at that moment."""
        app, moment = self._app, request.wall_s
        self.moment = moment
        live, wire = app.query_one(LiveView), app.query_one(WireView)
        live.look_at(moment, request.identity)
        app.query_one(Lanes).look_at(moment)
        app.action_view(request.digit)
        wire.stand_at(moment)
        if request.digit == LiveView.digit:
            await live.action_trend()
        app.tell(f"all views are at {clock_text(moment)[:8]}; g goes live again")
        app.tick()

    def go_live(self) -> None:
        app = self._app
        self.moment = None
        app.query_one(LiveView).go_live()
        app.query_one(WireView).follow()
        app.query_one(Lanes).go_live()
        app.tick()
