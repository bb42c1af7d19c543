"""The bridges of the open site, as the interface begins, ends and tests them."""

from collections.abc import Callable
from concurrent.futures import Future
from typing import TYPE_CHECKING, Protocol

from kanaleto.board.snapshot import Snapshot
from kanaleto.polling.engine import Engine
from kanaleto.site.model import Site
from kanaleto.tui.shared.bench import AppBench
from kanaleto.tui.shared.through import AppThrough

if TYPE_CHECKING:
    from kanaleto.bridge.bridgedesk import BridgeDesk
    from kanaleto.bridge.bridging import Tested
    from kanaleto.bridge.watch import BridgeState
    from kanaleto.control.control import Control
    from kanaleto.site.bridges import Pass


class _BridgingHost(Protocol):
    """What it needs of the application."""

    engine: Engine
    bench: AppBench

    @property
    def snapshot(self) -> Snapshot: ...

    @property
    def control(self) -> "Control": ...

    def tell(self, notice: str, gives_way: bool = False) -> None: ...

    def trouble(self, kind: str, text: str) -> None: ...

    def later(self, what: Callable[[], object]) -> None: ...

    def redraw(self) -> None: ...


class AppBridging:
    """For the interface's thread. What runs them is loaded when they are first wanted."""

    def __init__(self, context: _BridgingHost, is_read_only: bool) -> None:
        self._context, self._is_read_only = context, is_read_only
        self.through = AppThrough(context)
        self._desk: BridgeDesk | None = None
        self._site: Site | None = None
        self.is_testing = False

    def _made(self) -> "BridgeDesk":
        if self._desk is None:
            from kanaleto.bridge.bridgedesk import BridgeDesk  # most sites have no bridge

            control = self._context.control
            self._desk = BridgeDesk(
                self._context.engine, self._is_read_only, control.lock.is_unlocked, control.orders.holders
            )
        return self._desk

    @property
    def state(self) -> "BridgeState | None":
        return self._desk.state if self._desk is not None else None

    @property
    def trouble(self) -> str:
        return self._desk.trouble if self._desk is not None else ""

    @property
    def is_running(self) -> bool:
        return self._desk is not None and self._desk.is_running

    @property
    def tests(self) -> "dict[tuple[str, int], Tested]":
        return self._desk.tests if self._desk is not None else {}

    def turn(self, site: Site) -> None:
        """Begin to pass on, or end it."""
        desk = self._made()
        if desk.is_running:
            desk.end()
            self._context.tell("nothing is passed on any more")
            return
        names = ", ".join(bridge.name for bridge in site.bridges)
        self._site = site
        done = desk.begin(site)
        self._context.tell(f"passing on: {names}")
        done.add_done_callback(lambda done: self._context.later(lambda: self._ended(done)))

    def _ended(self, done: "Future[None]") -> None:
        error = done.exception() if not done.cancelled() else None
        if error is not None:
            self._context.trouble("bridge", str(error))
        self._context.redraw()

    def turn_pass(self, bridge: str, pass_: "Pass") -> None:
        """Stop a pass, or let it go on."""
        if self._desk is not None:
            self._desk.turn_pass(bridge, pass_)

    def test(self, site: Site) -> None:
        """One read for each routed unit."""
        if self.is_testing:
            return
        self.is_testing = True
        done = self._made().test(site)

        def came() -> None:
            self.is_testing = False
            error = done.exception() if not done.cancelled() else None
            if error is not None:
                self._context.tell(str(error))
            else:
                found = done.result()
                silent = sum(one.outcome not in ("good", "exception") for one in found)
                self._context.tell(f"{len(found) - silent} of {len(found)} routed units answer")
            self._context.redraw()

        done.add_done_callback(lambda _: self._context.later(came))

    def follow(self, snapshot: Snapshot) -> None:
        """The site that is open was edited, or is another; or a line can be read through a service. At each tick."""
        self.through.look(snapshot)
        desk, site = self._desk, snapshot.site
        if desk is None or not desk.is_running or site is self._site:
            return
        is_another = self._site is None or site.path != self._site.path
        self._site = site
        if is_another:
            desk.end()
        else:
            desk.follow(site)
