"""The simulated devices of a whole site, and the servers of those lines at which they stand in."""

from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.servedunits import Units
from kanaleto.serving.admission import OnClient
from kanaleto.serving.network import CannotServe, DatagramServer, NetworkServer
from kanaleto.serving.servers import Server, server_for
from kanaleto.site.links.link import FramingKind, Link
from kanaleto.site.model import Line, Site


class StandIn(Struct, frozen=True):
    """Where devices of a line are stood in for: at which link, its own where none is named; and which of them, all of
    them where none are named."""

    line: str
    link: Link | None = None
    devices: tuple[str, ...] = ()


class SiteServer:
    """A server for each line of `stands`; all lines at their own links where none are named. `listen` is the address to
    listen on instead of a link's own. Raises CannotServe."""

    def __init__(
        self, site: Site, listen: str | None = None, on_client: OnClient | None = None, seed: int = 0,
        stands: Sequence[StandIn] | None = None, clients: Sequence[str] = (),
    ) -> None:  # fmt: skip
        self.units: list[Units] = [_units_of(line, seed) for line in site.lines]
        self.stands = list(stands) if stands is not None else [StandIn(line.name) for line in site.lines]
        self._listen, self._on_client, self._seed, self._clients = listen, on_client, seed, tuple(clients)
        self._servers: dict[str, Server] = {}
        for stand in self.stands:
            self._servers[stand.line] = self._made(stand)
            self.units_of(stand.line).serve_only(stand.devices)
            self._admit(self.units_of(stand.line))

    def units_of(self, line: str) -> Units:
        """Raises CannotServe where there is no such line."""
        for units in self.units:
            if units.line.name == line:
                return units
        raise CannotServe(f"{line} is no line of the site any more")

    def server_of(self, line: str) -> Server:
        """Raises KeyError where it is not served."""
        return self._servers[line]

    def stand_of(self, line: str) -> StandIn | None:
        return next((stand for stand in self.stands if stand.line == line and line in self._servers), None)

    def link_of(self, stand: StandIn) -> Link:
        """Where masters find it."""
        return stand.link or self.units_of(stand.line).line.link

    async def start(self) -> None:
        """Bind and open all. Raises CannotServe; then nothing is left open."""
        started: list[Server] = []
        try:
            for server in self._servers.values():
                await server.start()
                started.append(server)
        except CannotServe:
            for server in started:
                await server.stop()
            raise

    async def serve(self, stand: StandIn) -> None:
        """From now on; where the line is served at that link already, these devices of it. Raises CannotServe."""
        units, before = self.units_of(stand.line), self.stand_of(stand.line)
        if before is None or self.link_of(before) != self.link_of(stand):
            server = self._made(stand)
            await self.end(stand.line)
            try:
                await server.start()
            except CannotServe:
                if before is not None:  # it goes on where it was
                    await self.serve(before)
                raise
            self._servers[stand.line] = server
        units.serve_only(stand.devices)
        self.stands = [one for one in self.stands if one.line != stand.line] + [stand]
        self._admit(units)

    async def end(self, line: str) -> None:
        """Nobody is answered there any more."""
        server = self._servers.pop(line, None)
        if server is not None:
            await server.stop()
            self.stands = [stand for stand in self.stands if stand.line != line]

    def _made(self, stand: StandIn) -> Server:
        units, link = self.units_of(stand.line), self.link_of(stand)
        line = replace(units.line, link=link)
        server = server_for(line, units, self._listen)
        if isinstance(server, NetworkServer | DatagramServer):
            server.admission.on_client = self._on_client
            server.admission.let_in_only(self._clients)
        return server

    def _admit(self, units: Units) -> None:
        """So many connections as its devices bear."""
        server = self._servers.get(units.line.name)
        if isinstance(server, NetworkServer):
            behaves = [simulated.device.simulated.behaves for simulated in units.served]
            limits = [behaviour for behaviour in behaves if behaviour.connections is not None]
            server.admission.limit = min((limit.connections or 0 for limit in limits), default=None)
            server.admission.lets_go = any(limit.with_more == "oldest" for limit in limits)

    async def take_over(self, site: Site, made: Mapping[str, SimulatedDevice]) -> list[str]:
        """An edit: the lines as they are now, with the devices that were made again; what could not go on, in words."""
        before = {units.line.name: units for units in self.units}
        messages: list[str] = []
        fresh: list[Units] = []
        for line in site.lines:
            units = before.pop(line.name, None)
            if units is None or units.is_serial is not is_as_serial(line):
                if units is not None:
                    await self.end(line.name)
                    messages.append(f"{line.name} has another framing now: nobody stands in there any more")
                units = _units_of(line, self._seed)
                units.devices = [made.get(simulated.device.name, simulated) for simulated in units.devices]
                units.take_over(line, {simulated.device.name: simulated for simulated in units.devices})
            else:
                units.take_over(line, made)
            fresh.append(units)
        for name in before:
            if name in self._servers:
                messages.append(f"{name} is no line of the site any more: nobody stands in there")
            await self.end(name)
        self.units = fresh
        for units in fresh:
            self._admit(units)
        return messages

    def drop_idle(self) -> None:
        """Connections without a request for longer than a device of theirs bears are closed."""
        for units in self.units:
            server = self._servers.get(units.line.name)
            idle_s = [idle for one in units.served if (idle := one.device.simulated.behaves.idle_s) is not None]
            if idle_s and isinstance(server, NetworkServer):
                server.admission.drop_idle(min(idle_s))

    def device(self, name: str) -> SimulatedDevice:
        """The simulated device of that name. Raises KeyError."""
        for units in self.units:
            for simulated in units.devices:
                if simulated.device.name == name:
                    return simulated
        raise KeyError(name)

    async def stop(self) -> None:
        for server in list(self._servers.values()):
            await server.stop()
        self._servers.clear()


def is_as_serial(line: Line) -> bool:
    """Whether its devices answer as those of a serial line do."""
    return line.link.framing is not FramingKind.TCP


def _units_of(line: Line, seed: int) -> Units:
    return Units(line, is_as_serial(line), seed)
