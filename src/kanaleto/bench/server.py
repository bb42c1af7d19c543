"""Serves a whole site: the far end of every line of it."""

from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.units import Units
from kanaleto.serving.admission import OnClient
from kanaleto.serving.network import CannotServe, NetworkServer
from kanaleto.serving.opening import Server, server_for
from kanaleto.site.links.link import FramingKind
from kanaleto.site.model import Site


class SiteServer:
    """A server a line. `listen` replaces the host of network lines. Raises CannotServe."""

    def __init__(self, site: Site, listen: str | None = None, on_client: OnClient | None = None, seed: int = 0) -> None:
        self.units: list[Units] = []
        self._servers: list[Server] = []
        for line in site.lines:
            units = Units(line, line.link.framing is not FramingKind.TCP, seed)
            self.units.append(units)
            server = server_for(line, units, listen)
            if isinstance(server, NetworkServer):
                server.admission.on_client = on_client
                behaves = [device.simulated.behaves for device in line.devices]
                limits = [own for own in behaves if own.connections is not None]
                server.admission.limit = min((own.connections or 0 for own in limits), default=None)
                server.admission.lets_go = any(own.with_more == "oldest" for own in limits)
            self._servers.append(server)

    def drop_idle(self) -> None:
        """Connections without a request for longer than a device of theirs bears are closed."""
        for units, server in zip(self.units, self._servers, strict=True):
            idle_s = [own for one in units.devices if (own := one.device.simulated.behaves.idle_s) is not None]
            if idle_s and isinstance(server, NetworkServer):
                server.admission.drop_idle(min(idle_s))

    def server_of(self, line: str) -> Server:
        """Raises KeyError."""
        for units, server in zip(self.units, self._servers, strict=True):
            if units.line.name == line:
                return server
        raise KeyError(line)

    def device(self, name: str) -> SimulatedDevice:
        """The simulated device of that name. Raises KeyError."""
        for units in self.units:
            for simulated in units.devices:
                if simulated.device.name == name:
                    return simulated
        raise KeyError(name)

    async def start(self) -> None:
        """Bind and open all. Raises CannotServe; then nothing is left open."""
        started: list[Server] = []
        try:
            for server in self._servers:
                await server.start()
                started.append(server)
        except CannotServe:
            for server in started:
                await server.stop()
            raise

    async def stop(self) -> None:
        for server in self._servers:
            await server.stop()
