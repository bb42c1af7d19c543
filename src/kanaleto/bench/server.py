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
            self._servers.append(server)

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
