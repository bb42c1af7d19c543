"""A TCP connection; framing is TCP, or RTU or ASCII on the bare stream; with certificates, TCP framing inside TLS."""

from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.site.links.link import LOOPBACK, FramingKind, Link, network_place, network_where
from kanaleto.site.links.written import Written
from kanaleto.wire.ascii import LINE_FEED

SCHEMES = ("tcp", "tls", "rtu+tcp", "ascii+tcp")
_REQUIRED = "required"


class TlsFiles(Struct, frozen=True):
    """Paths: the authority that the server must be signed by, and the client's own certificate and key; whether the
    suite is offered that the standard requires of every TLS 1.2 device, TLS_RSA_WITH_AES_128_CBC_SHA256."""

    ca: str | None = None
    cert: str | None = None
    key: str | None = None
    offers_required: bool = False

    def items(self) -> list[tuple[str, str | None]]:
        return [("ca", self.ca), ("cert", self.cert), ("key", self.key)]


class TcpLink(Link, frozen=True):
    host: str
    port: int
    framing: FramingKind = FramingKind.TCP
    source: str | None = None
    tls: TlsFiles | None = None
    delimiter: int = LINE_FEED

    @property
    def scheme(self) -> str:
        return "tls" if self.tls else "tcp" if self.framing is FramingKind.TCP else f"{self.framing.value}+tcp"

    @property
    def place(self) -> str:
        return network_place(self.host, self.port)

    @property
    def where(self) -> tuple[str, ...]:
        return network_where(self.host, self.port)

    @property
    def address(self) -> tuple[str, int]:
        return self.host, self.port

    @property
    def has_transactions(self) -> bool:
        return self.framing is FramingKind.TCP

    @property
    def may_repeat_units(self) -> bool:
        return True

    def at_home(self, port_path: str, port: int, is_secured: bool) -> "TcpLink":
        return replace(self, host=LOOPBACK, port=port, source=None, tls=self.tls if is_secured else None)

    def beside(self, folder: Path) -> Link:
        if self.tls is None:
            return self
        ca, cert, key = (str((folder / path).absolute()) if path else path for _, path in self.tls.items())
        return replace(self, tls=replace(self.tls, ca=ca, cert=cert, key=key))

    def __str__(self) -> str:
        options = [("source", self.source), *(self.tls.items() if self.tls else [])]
        if self.tls and self.tls.offers_required:
            options.append(("suite", _REQUIRED))
        if self.delimiter != LINE_FEED:
            options.append(("delimiter", f"0x{self.delimiter:02X}"))
        query = "&".join(f"{key}={value}" for key, value in options if value)
        return f"{self.scheme}://{self.place}" + (f"?{query}" if query else "")


def read(written: Written) -> TcpLink:
    options = written.options
    source = options.get("source")
    if written.scheme == "tls":
        written.only("ca", "cert", "key", "suite", "source")
        host, port = written.host_and_port(802)
        if ("cert" in options) != ("key" in options):
            raise ValueError(f"link {written.text!r}: a client's certificate needs both cert= and key=")
        files = TlsFiles(
            written.path("ca"), written.path("cert"), written.path("key"), written.is_on("suite", "usual", _REQUIRED)
        )
        return TcpLink(host, port, FramingKind.TCP, source, files)
    if written.scheme == "tcp":
        written.only("source")
        return TcpLink(*written.host_and_port(502), FramingKind.TCP, source)
    framing = FramingKind(written.scheme.removesuffix("+tcp"))
    written.only("source", *(["delimiter"] if framing is FramingKind.ASCII else []))
    return TcpLink(*written.host_and_port(), framing, source, delimiter=written.delimiter())
