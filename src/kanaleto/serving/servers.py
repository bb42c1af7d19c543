"""From a line to the server that is its far end. A kind of link that is served in a new way has a row in `_SERVERS`."""

from collections.abc import Callable
from typing import Any

from kanaleto.lines.opening import framing_of
from kanaleto.serving.answerer import Answerer
from kanaleto.serving.network import CannotServe, DatagramServer, NetworkServer
from kanaleto.serving.port import PortServer
from kanaleto.serving.portlink import PortLink
from kanaleto.serving.terminal import TerminalServer
from kanaleto.site.links.link import Link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.links.udp import UdpLink
from kanaleto.site.model import Line

Server = NetworkServer | DatagramServer | TerminalServer | PortServer


def server_for(line: Line, answerer: Answerer, listen: str | None) -> Server:
    """`listen` is the address to listen on instead of the link's own host. Raises CannotServe."""
    make = next(_SERVERS[kind] for kind in type(line.link).__mro__ if kind in _SERVERS)
    return make(line, line.link, answerer, listen)


def _stream(line: Line, link: TcpLink, answerer: Answerer, listen: str | None) -> Server:
    files = line.tls_serving if link.tls is not None else None
    if link.tls is not None and files is None:
        raise CannotServe(f"{line.name}: serving tls:// needs serve_cert and serve_key in the site file")
    offers_required = link.tls is not None and link.tls.offers_required
    return NetworkServer(answerer, framing_of(link), listen or link.host, link.port, files, offers_required)


def _datagrams(line: Line, link: UdpLink, answerer: Answerer, listen: str | None) -> Server:
    return DatagramServer(answerer, framing_of(link), listen or link.host, link.port)


def _port(line: Line, link: SerialLink, answerer: Answerer, listen: str | None) -> Server:
    if link.is_remote or "/" not in link.port or PortLink(link.port, line.name).is_port_of_others():
        return PortServer(answerer, framing_of(link), link)
    return TerminalServer(answerer, framing_of(link), link)


_SERVERS: dict[type[Link], Callable[[Line, Any, Answerer, str | None], Server]] = {
    TcpLink: _stream,
    UdpLink: _datagrams,
    SerialLink: _port,
}
