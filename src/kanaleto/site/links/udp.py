"""TCP frames, one a datagram."""

from kanaleto.site.links.link import LOOPBACK, Link, network_place, network_where
from kanaleto.site.links.written import Written

SCHEMES = ("udp",)


class UdpLink(Link, frozen=True):
    host: str
    port: int
    source: str | None = None

    @property
    def scheme(self) -> str:
        return "udp"

    @property
    def place(self) -> str:
        return network_place(self.host, self.port)

    @property
    def where(self) -> tuple[str, ...]:
        return network_where(self.host, self.port)

    @property
    def address(self) -> tuple[str, int]:
        return self.host, self.port

    def at_home(self, port_path: str, port: int, is_secured: bool) -> "UdpLink":
        return UdpLink(LOOPBACK, port)

    def __str__(self) -> str:
        return f"udp://{self.place}" + (f"?source={self.source}" if self.source else "")


def read(written: Written) -> UdpLink:
    written.only("source")
    return UdpLink(*written.host_and_port(502), written.options.get("source"))
