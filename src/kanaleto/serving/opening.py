"""From a line to the server that is its far end."""

from kanaleto.lines.opening import framing_of
from kanaleto.serving.answerer import Answerer
from kanaleto.serving.network import CannotServe, DatagramServer, NetworkServer
from kanaleto.serving.port import PortServer
from kanaleto.serving.portlink import PortLink
from kanaleto.serving.terminal import TerminalServer
from kanaleto.site.link import TcpLink, UdpLink
from kanaleto.site.model import Line

Server = NetworkServer | DatagramServer | TerminalServer | PortServer


def server_for(line: Line, answerer: Answerer, listen: str | None) -> Server:
    link = line.link
    if isinstance(link, TcpLink):
        if link.tls is not None and line.tls_serving is None:
            raise CannotServe(f"{line.name}: serving tls:// needs serve_cert and serve_key in the site file")
        return NetworkServer(
            answerer,
            framing_of(link),
            listen or link.host,
            link.port,
            line.tls_serving if link.tls is not None else None,
            link.tls is not None and link.tls.offers_required,
        )
    if isinstance(link, UdpLink):
        return DatagramServer(answerer, framing_of(link), listen or link.host, link.port)
    if link.is_remote or "/" not in link.port or PortLink(link.port, line.name).is_port_of_others():
        return PortServer(answerer, framing_of(link), link)
    return TerminalServer(answerer, framing_of(link), link)
