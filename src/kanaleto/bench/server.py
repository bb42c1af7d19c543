"""Serves a whole site: the far end of every line of it."""

from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.network import CannotServe, DatagramServer, NetworkServer, OnClient
from kanaleto.bench.port import PortServer
from kanaleto.bench.portlink import PortLink
from kanaleto.bench.terminal import TerminalServer
from kanaleto.bench.units import Units
from kanaleto.lines.opening import framing_of
from kanaleto.site.link import FramingKind, TcpLink, UdpLink
from kanaleto.site.model import Line, Site

Server = NetworkServer | DatagramServer | TerminalServer | PortServer


class SiteServer:
    """A server a line. `listen` replaces the host of network lines. Raises CannotServe."""

    def __init__(self, site: Site, listen: str | None = None, on_client: OnClient | None = None) -> None:
        self.units: list[Units] = []
        self._servers: list[Server] = []
        for line in site.lines:
            units = Units(line, line.link.framing is not FramingKind.TCP)
            self.units.append(units)
            server = _server_for(line, units, listen)
            if isinstance(server, NetworkServer):
                server.on_client = on_client
            self._servers.append(server)

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


def _server_for(line: Line, units: Units, listen: str | None) -> Server:
    link = line.link
    if isinstance(link, TcpLink):
        if link.tls is not None and line.tls_serving is None:
            raise CannotServe(f"{line.name}: serving tls:// needs serve_cert and serve_key in the site file")
        return NetworkServer(units, framing_of(link), listen or link.host, link.port, line.tls_serving if link.tls is not None else None)
    if isinstance(link, UdpLink):
        return DatagramServer(units, framing_of(link), listen or link.host, link.port)
    if link.is_remote or "/" not in link.port or PortLink(link.port, line.name).is_port_of_others():
        return PortServer(units, framing_of(link), link)
    return TerminalServer(units, framing_of(link), link)
