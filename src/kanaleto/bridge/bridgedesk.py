"""Bridges of the open site, run on the engine's loop beside its polling: begun, ended and tested by hand; an edit is
taken over without cutting off who is connected."""

import asyncio
import concurrent.futures
from collections.abc import Callable, Sequence

from kanaleto.bridge.bridging import Bridging, MasterAsked, Tested
from kanaleto.bridge.watch import BridgeState, BridgeWatch
from kanaleto.control.holders import Holders
from kanaleto.events.log import EventKind
from kanaleto.files.origins import Serves, ServingMark
from kanaleto.polling.engine import Engine
from kanaleto.serving.network import CannotServe
from kanaleto.site.bridges import Bridge, Pass
from kanaleto.site.model import Site
from kanaleto.site.origin import Origin
from kanaleto.supervision.owned import owned_task

_PUBLISH_S = 0.25


class BridgeDesk:
    """`state` may be read from any thread, None while nothing is passed on; the rest is for the interface's thread.
    `may_pass` says on the engine's thread whether values may be passed on to a device by themselves now, `holders` who
    of ours holds which register: a master's write to it is answered busy."""

    def __init__(self, engine: Engine, only_reads: bool, may_pass: Callable[[str], bool], holders: Holders) -> None:
        self._holders = holders
        self.state: BridgeState | None = None
        self.trouble = ""
        self.tests: dict[tuple[str, int], Tested] = {}
        self._engine, self._only_reads, self._may_pass = engine, only_reads, may_pass
        self._bridging: Bridging | None = None
        self._watch = BridgeWatch()
        self._over: asyncio.Future[None] | None = None
        self._done: concurrent.futures.Future[None] | None = None

    @property
    def is_running(self) -> bool:
        return self._done is not None and not self._done.done()

    def begin(self, site: Site) -> "concurrent.futures.Future[None]":
        """Open all ways in, and pass on until `end`. The future ends with the bridges; CannotServe is its failure where
        they cannot be begun."""
        self.trouble = ""
        self._done = self._engine.run(self._run(site))
        return self._done

    def end(self) -> None:
        over = self._over
        if over is not None:
            self._engine.do(lambda session: over.set_result(None) if not over.done() else None)

    def follow(self, site: Site) -> None:
        """The site was edited."""
        bridging = self._bridging
        if bridging is not None and site.bridges != bridging.bridges:
            self._engine.run(self._take_over(bridging, site.bridges))

    def turn_pass(self, bridge: str, pass_: Pass) -> None:
        """Stop a pass, or let it go on."""

        def turn(session: object) -> None:
            for passes in self._bridging.passes if self._bridging is not None else ():
                for state in passes.states:
                    if (passes.bridge, state.pass_) == (bridge, pass_):
                        passes.stop(state, not state.is_stopped)

        self._engine.do(turn)

    def test(self, site: Site) -> "concurrent.futures.Future[list[Tested]]":
        """Ask every routed unit one read."""

        async def work() -> list[Tested]:
            bridging = self._bridging or Bridging(self._engine.session, site.bridges)
            found = await bridging.test()
            self.tests = {(one.bridge, one.unit_id): one for one in found}
            return found

        return self._engine.run(work())

    async def _take_over(self, bridging: Bridging, bridges: Sequence[Bridge]) -> None:
        try:
            await bridging.take_over(bridges)
        except CannotServe as error:
            self.trouble = str(error)

    async def _run(self, site: Site) -> None:
        session, loop = self._engine.session, asyncio.get_running_loop()

        def asked(one: MasterAsked) -> None:
            self._watch.asked(one, loop.time())

        def client(text: str) -> None:
            session.events.note(EventKind.CLIENT, "", "", text)

        bridging = Bridging(session, site.bridges, self._only_reads, client, asked, self._may_pass, self._holders)
        await bridging.start()
        mark = ServingMark(site.path)
        mark.say(Serves(bridge.name, link, Origin.BRIDGE) for bridge, link in bridging.places)
        self._bridging, self._over = bridging, loop.create_future()
        passing = owned_task("passing on", bridging.run())
        try:
            while not self._over.done():
                self.state = self._watch.state(bridging, loop.time())
                await asyncio.wait([self._over], timeout=_PUBLISH_S)
        finally:
            self._bridging, self.state = None, None
            passing.cancel()
            await asyncio.gather(passing, return_exceptions=True)
            await bridging.stop()
            mark.leave()
