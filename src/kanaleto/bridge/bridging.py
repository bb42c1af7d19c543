"""All bridges of a site: their ways in, their ways out, and what is between."""

import asyncio
from collections.abc import Callable, Coroutine, Sequence
from typing import Any, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.bridge.composing import ComposedUnit, Send, is_for_composed, is_read
from kanaleto.bridge.masterturns import refused
from kanaleto.bridge.passes import Passes, PassState, SendOfPass
from kanaleto.bridge.passing import refusal
from kanaleto.bridge.wayout import WayOut
from kanaleto.control.holders import Holders
from kanaleto.control.permission import permission_of_pdu
from kanaleto.events.log import EventKind
from kanaleto.files.bridgetables import is_open
from kanaleto.files.origins import Serves
from kanaleto.polling.session import Session
from kanaleto.serving.admission import OnClient
from kanaleto.serving.answerer import NOBODY, Answer, Answerer, AnyAnswer, Master, is_later
from kanaleto.serving.network import CannotServe, DatagramServer, NetworkServer
from kanaleto.serving.servers import Server, server_for
from kanaleto.site.bridges import Bridge, BridgeTarget, Route, RouteAccess
from kanaleto.site.links.link import LOOPBACK, FramingKind, Link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Device, Line, Site
from kanaleto.site.origin import Origin
from kanaleto.supervision.owned import owned_task
from kanaleto.wire.codes import ExceptionCode, Table
from kanaleto.wire.pdu import Read
from kanaleto.wire.reach import only_reads, written_by

_T = TypeVar("_T")


class MasterAsked(Struct):
    """One request of a master, and what it was answered: `pdu` None is silence. `why` says whose refusal it is where
    the bridge itself refused."""

    bridge: Bridge
    master: Master
    unit_id: int
    request: bytes
    pdu: bytes | None
    target: BridgeTarget | None
    took_s: float
    waited_s: float = 0.0
    is_shared: bool = False
    why: str = ""
    gave_up: bool = False
    """Its master did not wait any longer: the connection is gone, or it has asked again."""


class RouteCount(Struct):
    """What came of one unit of a bridge so far. Times are loop times; `last_good` None before the first."""

    bridge: str
    unit_id: int
    target: BridgeTarget
    asked: int = 0
    failed: int = 0
    last_good: bool | None = None
    took_s: float = 0.0


class Tested(Struct):
    """One routed unit that was asked one read."""

    bridge: str
    unit_id: int
    target: BridgeTarget
    took_s: float
    outcome: str
    code: int | None
    reason: str = ""


OnAsked = Callable[[MasterAsked], None]


def reading_through(site: Site) -> tuple[Bridge, ...]:
    """A way in on loopback, at a port of the system's choice, for each serial line: whoever cannot have the port reads
    through it."""
    units = tuple(range(1, 248))
    return tuple(
        Bridge(
            line.name, (TcpLink(LOOPBACK, 0),),
            (Route(units, tuple(BridgeTarget(line.name, unit) for unit in units)),),
        )
        for line in site.lines
        if line.link.local_port is not None
    )  # fmt: skip


def through_places(through: "Bridging") -> list[Serves]:
    """Where the lines of `reading_through` are read, with the ports that this program holds for them."""
    ports = {line.name: line.link.local_port or "" for line in through.site.lines}
    return [Serves(bridge.name, link, Origin.BRIDGE, ports.get(bridge.name, "")) for bridge, link in through.places]


class Bridging:
    """`bridges` of the site that `session` polls; `start`, then `run` until it is cancelled, then `stop`. `on_asked`
    hears of each request of a master, `on_client` of clients in sentences."""

    def __init__(
        self, session: Session, bridges: Sequence[Bridge], only_reads: bool = False,
        on_client: OnClient | None = None, on_asked: OnAsked | None = None,
        may_pass: Callable[[str], bool] = lambda device: True, holders: Holders | None = None,
    ) -> None:  # fmt: skip
        self.session = session
        self.only_reads = only_reads
        self.on_asked = on_asked
        self._on_client, self._may_pass = on_client, may_pass
        self._holders = holders if holders is not None else Holders()
        self.bridges: tuple[Bridge, ...] = ()
        self.states: dict[tuple[str, int], RouteCount] = {}
        self._composed: dict[tuple[str, int], ComposedUnit] = {}
        self.ways_out: dict[str, WayOut] = {}
        self.passes: list[Passes] = []
        self._tasks: dict[object, asyncio.Task[None]] = {}
        self._is_running = False
        self._servers: list[_Way] = []
        self._have(bridges)
        for bridge in bridges:
            self._servers += [self._way(bridge, link) for link in bridge.listen]

    def _have(self, bridges: Sequence[Bridge]) -> None:
        """These bridges from now on, but for their ways in."""
        session = self.session
        self.bridges = tuple(bridges)
        before = self.states
        self.states = {
            (bridge.name, unit): RouteCount(bridge.name, unit, target)
            for bridge in bridges
            for route in bridge.routes
            for unit, target in zip(route.units, route.targets, strict=True)
        }
        for key, count in before.items():
            if key in self.states and self.states[key].target == count.target:
                self.states[key] = count
        self._composed = {
            (bridge.name, device.unit_id): ComposedUnit(device, session)
            for bridge in bridges
            for device in bridge.devices
        }
        passed_before = {(passes.bridge, state.pass_): state for passes in self.passes for state in passes.states}
        self.passes = [
            Passes(
                bridge.name, bridge.passes, session, self._sender_of_pass(bridge), self._note_pass, self._may_pass,
                self._holders, passed_before,
            )
            for bridge in bridges
            if bridge.passes and not self.only_reads
        ]  # fmt: skip
        routed = [name for bridge in bridges for name in bridge.lines]
        for name in dict.fromkeys([*routed, *_lines_of_sources(self.site, bridges)]):
            if name not in self.ways_out:
                self.ways_out[name] = WayOut(session, name, self._may_write_on(name))

    def _way(self, bridge: Bridge, link: Link) -> "_Way":
        answerer = WayIn(self, bridge, link)
        server = server_for(Line(bridge.name, link, (), tls_serving=bridge.tls_serving), answerer, None)
        if isinstance(server, NetworkServer | DatagramServer):
            server.admission.on_client = self._on_client
            server.admission.let_in_only(bridge.clients)
        return _Way(bridge, link, server, answerer)

    async def take_over(self, bridges: Sequence[Bridge]) -> None:
        """Other bridges, or the same edited: who is connected where nothing of the way in differs stays. Raises
        CannotServe where a new way in cannot be had; the others go on."""
        before, self._servers = self._servers, []
        self._have(bridges)
        fresh: list[_Way] = []
        for bridge in self.bridges:
            for link in bridge.listen:
                kept = next((way for way in before if _is_same_way(way, bridge, link)), None)
                if kept is None:
                    fresh.append(self._way(bridge, link))
                    continue
                before.remove(kept)
                kept.bridge = kept.answerer.bridge = bridge
                if isinstance(kept.server, NetworkServer | DatagramServer):
                    kept.server.admission.let_in_only(bridge.clients)
                self._servers.append(kept)
        for way in before:
            await way.server.stop()
        self._begin_tasks()
        for way in fresh:
            await way.server.start()
            self._servers.append(way)

    def _begin_tasks(self) -> None:
        """A task for each way out and all passes; those of passes that are no more end."""
        if not self._is_running:
            return
        wanted: dict[object, Callable[[], Coroutine[Any, Any, None]]] = {
            name: way.run for name, way in self.ways_out.items()
        }
        wanted |= {one_pass: one_pass.run for one_pass in self.passes}
        for key in [key for key in self._tasks if key not in wanted]:
            self._tasks.pop(key).cancel()
        for key, work in wanted.items():
            if key not in self._tasks:
                name = f"bridge to {key}" if isinstance(key, str) else "passes"
                self._tasks[key] = owned_task(name, work())

    @property
    def site(self) -> Site:
        return self.session.site

    @property
    def places(self) -> list[tuple[Bridge, Link]]:
        """Where masters find which bridge."""
        return [(way.bridge, way.link) for way in self._servers]

    def clients_of(self, bridge: Bridge) -> int:
        """How many are connected to it."""
        return sum(
            len(way.server.admission.connections)
            for way in self._servers
            if way.bridge is bridge and isinstance(way.server, NetworkServer)
        )

    async def start(self) -> None:
        """Bind and open all ways in. Raises CannotServe; then nothing is left open."""
        started: list[Server] = []
        try:
            for way in self._servers:
                await way.server.start()
                started.append(way.server)
                if isinstance(way.link, TcpLink) and isinstance(way.server, NetworkServer):
                    way.link = replace(way.link, port=way.server.port)  # which the system may have chosen
        except CannotServe:
            for server in started:
                await server.stop()
            raise

    async def run(self) -> None:
        """Pass on until cancelled."""
        self._is_running = True
        self._begin_tasks()
        try:
            await asyncio.get_running_loop().create_future()
        finally:
            self._is_running = False
            tasks, self._tasks = list(self._tasks.values()), {}
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)

    async def stop(self) -> None:
        for way in self._servers:
            await way.server.stop()

    def _may_write_on(self, line_name: str) -> Callable[[int, bytes], str]:
        def why_not(unit_id: int, pdu: bytes) -> str:
            line = next((line for line in self.site.lines if line.name == line_name), None)
            if line is None:
                return f"there is no line {line_name!r} any more"
            return permission_of_pdu(self.site.lines, line, unit_id, pdu).never

        return why_not

    # One request of a master

    async def ask(self, bridge: Bridge, unit_id: int, pdu: bytes, master: Master, is_serial: bool) -> Answer:
        """What it is answered; None for silence, as on a serial way in where nothing can be said."""
        answer = self.begin(bridge, unit_id, pdu, master, is_serial)
        return await answer if is_later(answer) else answer  # type: ignore[return-value]

    def begin(self, bridge: Bridge, unit_id: int, pdu: bytes, master: Master, is_serial: bool) -> AnyAnswer:
        """The same: what can be said at once, or what passes on already. For the loop's thread."""
        if (unit := self._composed.get((bridge.name, unit_id))) is not None:
            return self._ask_composed(unit, bridge, unit_id, pdu, master, is_serial)
        found = bridge.route_of(unit_id)
        if found is None:
            if unit_id == 0 and bridge.broadcast and not only_reads(pdu):
                self._to_all(bridge, pdu, master)
                return None
            answer = None if is_serial else refused(pdu, ExceptionCode.GATEWAY_PATH_UNAVAILABLE)
            self._tell(MasterAsked(bridge, master, unit_id, pdu, answer, None, 0.0, why="no route"))
            return answer
        route, target = found
        code = self._refusal(bridge, route, target, pdu)
        if code is not None:
            answer = refused(pdu, code)
            held = self._held_by(target.line, target.unit_id, pdu)
            why = f"held by {held}" if held else "not passed"
            self._tell(MasterAsked(bridge, master, unit_id, pdu, answer, target, 0.0, why=why))
            return answer
        came: Passing[Answer] = Passing()

        def ended(answer: bytes | None, is_shared: bool, took_s: float) -> None:
            self._count(bridge, unit_id, answer, took_s)
            self._tell(MasterAsked(bridge, master, unit_id, pdu, answer, target, took_s, is_shared=is_shared))
            is_own = answer is not None and answer[1:] == bytes((ExceptionCode.GATEWAY_TARGET_FAILED,))
            is_silence = is_serial and is_own and answer is not None and answer[0] & 0x80
            came.set_result(None if is_silence else answer)

        self._pass(came, bridge, unit_id, route, target, pdu, master, ended)
        return came

    async def _ask_composed(
        self, unit: ComposedUnit, bridge: Bridge, unit_id: int, pdu: bytes, master: Master, is_serial: bool
    ) -> Answer:
        """Out of what was polled; a write goes through to its sources."""
        loop = asyncio.get_running_loop()
        began_s = loop.time()

        send = self._sender(bridge, master)
        if not is_for_composed(pdu):
            answer = refused(pdu, ExceptionCode.ILLEGAL_FUNCTION)
        elif is_read(pdu):
            answer = unit.read(pdu, began_s)
        elif self.only_reads or is_open(bridge):
            answer = refused(pdu, ExceptionCode.ILLEGAL_FUNCTION)
        else:
            answer = await unit.write(pdu, send)
        self._tell(MasterAsked(bridge, master, unit_id, pdu, answer, None, loop.time() - began_s))
        is_gone = bool(answer[0] & 0x80) and answer[1] == ExceptionCode.GATEWAY_TARGET_FAILED
        return None if is_serial and is_gone else answer

    def _held_by(self, line: str, unit_id: int, pdu: bytes, owner: str = "bridge") -> str:
        """Who of ours, other than `owner`, holds a register that this writes; nothing where nobody does."""
        for items in written_by(pdu) or ():
            hold = self._holders.who(line, unit_id, items.table, items.first, items.end, owner)
            if hold is not None:
                return hold.name
        return ""

    def _sender_of_pass(self, bridge: Bridge) -> SendOfPass:
        """What asks a device in a pass's turn; the pass itself holds what it writes."""
        master = Master("pass", bridge.name)
        return lambda owner, line, device, request: self._sender(bridge, master, owner)(line, device, request)

    def _sender(self, bridge: Bridge, master: Master, owner: str = "bridge") -> Send:
        """What asks a device in its turn, for somebody who has no route."""

        async def send(line: Line, device: Device, request: bytes) -> bytes | None:
            if self._held_by(line.name, device.unit_id, request, owner):
                return refused(request, ExceptionCode.SERVER_DEVICE_BUSY)
            if self._may_write_on(line.name)(device.unit_id, request):
                return refused(request, ExceptionCode.ILLEGAL_FUNCTION)
            target = BridgeTarget(line.name, device.unit_id)
            came: Passing[bytes | None] = Passing()
            self._pass(
                came, bridge, device.unit_id, _THROUGH, target, request, master,
                lambda answer, is_shared, took_s: came.set_result(answer),
            )  # fmt: skip
            return await came

        return send

    def _note_pass(self, state: PassState, trouble: str) -> None:
        """One event for all that a pass writes, with how often; one for each thing that goes wrong."""
        pass_ = state.pass_
        source = f"{pass_.device}/{pass_.point}" if pass_.device else pass_.point
        text = f"passed on: {source} to {pass_.title}" + (f": {trouble}" if trouble else "")
        key = ("pass", pass_.to_device, pass_.to_point, trouble)
        line = next((line.name for line, device in self.site.devices() if device.name == pass_.to_device), "")
        self.session.events.note(
            EventKind.BRIDGED, line, pass_.to_device, text, going_on=key, is_spell=True, point=pass_.to_point
        )

    def _pass(
        self, came: "Passing[Any]", bridge: Bridge, unit_id: int, route: Route, target: BridgeTarget, pdu: bytes,
        master: Master, then: Callable[[bytes | None, bool, float], None],
    ) -> None:  # fmt: skip
        """Ask the target in its turn; `then` receives its answer, whether another master's request brought it, and how
        long that took, unless nobody waits for `came` any more."""
        loop = asyncio.get_running_loop()
        began_s = loop.time()

        def ended(answer: bytes | None, is_shared: bool) -> None:
            if came.done():
                return
            try:
                then(answer, is_shared, loop.time() - began_s)
            except Exception as error:  # an internal error costs this request
                came.set_exception(error)

        def gave_up() -> None:
            """Its connection is gone, or it has asked again."""
            waiter.is_over = True
            took_s = loop.time() - began_s
            self._tell(MasterAsked(bridge, master, unit_id, pdu, None, target, took_s, gave_up=True))

        who = (bridge.name, master.name)  # of datagrams each has a master of its own, by the same name
        waiter = self.ways_out[target.line].ask(bridge, route, target, pdu, who, ended)
        came.when_cancelled = gave_up

    def _refusal(self, bridge: Bridge, route: Route, target: BridgeTarget, pdu: bytes) -> ExceptionCode | None:
        code = refusal(route, pdu, self.only_reads or is_open(bridge))
        if code is not None:
            return code
        if self._held_by(target.line, target.unit_id, pdu):
            return ExceptionCode.SERVER_DEVICE_BUSY
        if not self._may_write_on(target.line)(target.unit_id, pdu):
            return None
        return ExceptionCode.ILLEGAL_DATA_ADDRESS if only_reads(pdu) else ExceptionCode.ILLEGAL_FUNCTION

    def _to_all(self, bridge: Bridge, pdu: bytes, master: Master) -> None:
        """A write to unit 0 goes to every line that a route for writing leads to; nobody answers one."""
        if self.only_reads or is_open(bridge):
            return
        lines: dict[str, Route] = {}
        for route in bridge.routes:
            if refusal(route, pdu) is None:
                lines |= {target.line: route for target in route.targets}
        for name, route in lines.items():
            if not self._may_write_on(name)(0, pdu):
                self.ways_out[name].ask(bridge, route, BridgeTarget(name, 0), pdu, master, lambda pdu, is_shared: None)

    def _count(self, bridge: Bridge, unit_id: int, answer: bytes | None, took_s: float) -> None:
        state = self.states[bridge.name, unit_id]
        state.asked += 1
        is_failed = answer is None or (bool(answer[0] & 0x80) and answer[1] in _FAILED)
        state.failed += is_failed
        state.last_good, state.took_s = not is_failed, took_s

    def _tell(self, asked: MasterAsked) -> None:
        if self.on_asked is not None:
            self.on_asked(asked)

    # One read for each routed unit

    async def test(self) -> list[Tested]:
        """Ask every routed unit once, one after the other on each line."""
        found: list[Tested] = []
        for bridge in self.bridges:
            for route in bridge.routes:
                for unit, target in zip(route.units, route.targets, strict=True):
                    found.append(await self._tested(bridge, route, unit, target))
        return found

    async def _tested(self, bridge: Bridge, route: Route, unit: int, target: BridgeTarget) -> Tested:
        poller = self.session.named(target.line)
        question = self._first_question(target)
        device = next((one for one in poller.line.devices if one.unit_id == target.unit_id), None)
        timeout_s = device.timeout_s if device is not None else poller.line.timeout_s
        outcome = await poller.ask(target.unit_id, question, timeout_s, device)
        is_there = outcome.is_answer
        state = self.states[bridge.name, unit]
        state.last_good, state.took_s = is_there, outcome.took_s
        return Tested(bridge.name, unit, target, outcome.took_s, outcome.kind.value, outcome.code, outcome.reason)

    def _first_question(self, target: BridgeTarget) -> Read:
        """Of a device that the site knows something that it has; else the first register."""
        for part in self.session.plan.parts:
            if part.line.name == target.line and part.device.unit_id == target.unit_id and part.blocks:
                request = part.blocks[0].request
                return Read(request.table, request.address, request.count)
        return Read(Table.HOLDING, 0, 1)


def _lines_of_sources(site: Site, bridges: Sequence[Bridge]) -> list[str]:
    """The lines of devices of which a composed one has values."""
    names = {name for bridge in bridges for composed in bridge.devices for name in composed.sources}
    names |= {one_pass.to_device for bridge in bridges for one_pass in bridge.passes}
    return [line.name for line in site.lines if any(device.name in names for device in line.devices)]


_THROUGH = Route((), (), RouteAccess.WRITE)
"""Of a write to a composed device, which has no route of its own."""
_FAILED = (ExceptionCode.GATEWAY_TARGET_FAILED, ExceptionCode.GATEWAY_PATH_UNAVAILABLE)


class _Way(Struct, eq=False):
    """A way in of a bridge, with what serves it."""

    bridge: Bridge
    link: Link
    server: Server
    answerer: "WayIn"


def _is_same_way(way: _Way, bridge: Bridge, link: Link) -> bool:
    return (way.bridge.name, way.link, way.bridge.tls_serving) == (bridge.name, link, bridge.tls_serving)


class Passing(asyncio.Future[_T]):
    """What a target will answer; whoever gives up waiting tells `when_cancelled`."""

    when_cancelled: Callable[[], None] | None = None

    def cancel(self, msg: Any | None = None) -> bool:
        was_waiting = super().cancel(msg)
        if was_waiting and self.when_cancelled is not None:
            self.when_cancelled()
        return was_waiting


class WayIn(Answerer):
    """One link at which masters of a bridge are heard."""

    def __init__(self, bridging: Bridging, bridge: Bridge, link: Link) -> None:
        self._bridging, self.bridge = bridging, bridge
        self._is_serial = link.framing is not FramingKind.TCP

    @property
    def name(self) -> str:
        return self.bridge.name

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> AnyAnswer:
        is_ours = self.bridge.route_of(unit_id) is not None or self.bridge.composed(unit_id) is not None
        if self._is_serial and unit_id != 0 and not is_ours:
            return None  # somebody else's on that bus
        return self._asked(unit_id, pdu, master)

    def _asked(self, unit_id: int, pdu: bytes, master: Master) -> AnyAnswer:
        ask = self._bridging.ask if self._is_serial else self._bridging.begin  # another thread may hear a serial way
        return ask(self.bridge, unit_id, pdu, master, self._is_serial)

    def note_garbled(self) -> None:
        return
