"""LINK text: how a line is reached, written as one URL, and the same as values."""

import os
from enum import Enum

from msgspec import Struct

from kanaleto.site.faults import suggestion
from kanaleto.values.digits import whole
from kanaleto.wire.ascii import LINE_FEED, may_end


class Transport(Enum):
    TCP = "tcp"
    UDP = "udp"
    TLS = "tls"
    SERIAL = "serial"
    RFC2217 = "rfc2217"


class FramingKind(Enum):
    RTU = "rtu"
    ASCII = "ascii"
    TCP = "tcp"


class Parity(Enum):
    NONE = "none"
    EVEN = "even"
    ODD = "odd"


class SerialSettings(Struct, frozen=True):
    """Baud in bits a second, data and stop bits, parity."""

    baud: int = 19200
    parity: Parity = Parity.EVEN
    stop: int = 1
    data: int = 8

    @property
    def character_bits(self) -> int:
        """Bits on the wire for one character, start bit included."""
        return 1 + self.data + (self.parity is not Parity.NONE) + self.stop

    @property
    def character_s(self) -> float:
        return self.character_bits / self.baud

    @property
    def gap_s(self) -> float:
        """Silence between frames: 3.5 characters, fixed at 1.75 ms above 19 200 baud (serial line 1.02, 2.5.1.1)."""
        return 0.00175 if self.baud > 19200 else 3.5 * self.character_s

    def __str__(self) -> str:
        return f"{self.baud} {self.data}{self.parity.value[0].upper()}{self.stop}"


class TlsFiles(Struct, frozen=True):
    """Paths: the authority that the server must be signed by, and the client's own certificate and key; whether the
    suite is offered that the standard requires of every TLS 1.2 device, TLS_RSA_WITH_AES_128_CBC_SHA256."""

    ca: str | None = None
    cert: str | None = None
    key: str | None = None
    offers_required: bool = False

    def items(self) -> list[tuple[str, str | None]]:
        return [("ca", self.ca), ("cert", self.cert), ("key", self.key)]


class TcpLink(Struct, frozen=True):
    """A TCP connection; framing is TCP, or RTU or ASCII on the bare stream. With `tls`, TCP framing inside TLS.
    `delimiter` ends requests in ASCII."""

    host: str
    port: int
    framing: FramingKind = FramingKind.TCP
    source: str | None = None
    tls: TlsFiles | None = None
    delimiter: int = LINE_FEED

    @property
    def place(self) -> str:
        """What a person calls it."""
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"

    def __str__(self) -> str:
        scheme = "tls" if self.tls else "tcp" if self.framing is FramingKind.TCP else f"{self.framing.value}+tcp"
        options = [("source", self.source), *(self.tls.items() if self.tls else [])]
        if self.tls and self.tls.offers_required:
            options.append(("suite", _REQUIRED))
        if self.delimiter != LINE_FEED:
            options.append(("delimiter", f"0x{self.delimiter:02X}"))
        query = "&".join(f"{key}={value}" for key, value in options if value)
        return f"{scheme}://{self.place}" + (f"?{query}" if query else "")


class UdpLink(Struct, frozen=True):
    """TCP frames, one a datagram."""

    host: str
    port: int
    source: str | None = None

    @property
    def framing(self) -> FramingKind:
        return FramingKind.TCP

    @property
    def delimiter(self) -> int:
        return LINE_FEED

    @property
    def place(self) -> str:
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"

    def __str__(self) -> str:
        return f"udp://{self.place}" + (f"?source={self.source}" if self.source else "")


class SerialLink(Struct, frozen=True):
    """A serial port by its path or name. `delimiter` ends requests in ASCII. `has_echo` tells whether its adapter
    repeats what it sends; None where nobody has said so, and it is found out by reads."""

    port: str
    settings: SerialSettings = SerialSettings()
    framing: FramingKind = FramingKind.RTU
    has_echo: bool | None = None
    latency_ms: float | None = None
    sets_rts: bool = False
    uses_rtscts: bool = False
    delimiter: int = LINE_FEED

    @property
    def is_remote(self) -> bool:
        """Whether the port is another machine's, reached by RFC 2217; then `port` is HOST:PORT."""
        return self.port.startswith("rfc2217://")

    @property
    def place(self) -> str:
        return self.port

    def __str__(self) -> str:
        settings = self.settings
        scheme = f"{self.framing.value}+" if self.is_remote else f"{self.framing.value}://"
        text = f"{scheme}{self.port}?baud={settings.baud}&parity={settings.parity.value}&stop={settings.stop}"
        if settings.data != _default_data(self.framing):
            text += f"&data={settings.data}"
        if self.has_echo is not None:
            text += f"&echo={'yes' if self.has_echo else 'no'}"
        if self.sets_rts:
            text += "&direction=rts"
        if self.uses_rtscts:
            text += "&handshake=rtscts"
        if self.delimiter != LINE_FEED:
            text += f"&delimiter=0x{self.delimiter:02X}"
        return text + (f"&latency_ms={self.latency_ms:g}" if self.latency_ms is not None else "")


Link = TcpLink | UdpLink | SerialLink
_THIS_MACHINE = ("localhost", "127.0.0.1", "::1", "0.0.0.0")


def is_same_place(one: Link, other: Link) -> bool:
    """Whether both lead to the same port of a host, or the same serial port, whatever else they say."""
    if isinstance(one, SerialLink) or isinstance(other, SerialLink):
        return isinstance(one, SerialLink) and isinstance(other, SerialLink) and _port_of(one) == _port_of(other)
    return _host_of(one) == _host_of(other) and one.port == other.port


def _port_of(link: SerialLink) -> str:
    return link.port if link.is_remote else os.path.realpath(link.port)


def _host_of(link: TcpLink | UdpLink) -> str:
    host = link.host.lower().rstrip(".")
    return _THIS_MACHINE[0] if host in _THIS_MACHINE else host


_SCHEMES = {
    "tcp": (Transport.TCP, FramingKind.TCP),
    "udp": (Transport.UDP, FramingKind.TCP),
    "tls": (Transport.TLS, FramingKind.TCP),
    "rtu+tcp": (Transport.TCP, FramingKind.RTU),
    "ascii+tcp": (Transport.TCP, FramingKind.ASCII),
    "rtu": (Transport.SERIAL, FramingKind.RTU),
    "ascii": (Transport.SERIAL, FramingKind.ASCII),
    "rtu+rfc2217": (Transport.RFC2217, FramingKind.RTU),
    "ascii+rfc2217": (Transport.RFC2217, FramingKind.ASCII),
}
_DEFAULT_PORT = {"tcp": 502, "udp": 502, "tls": 802}
_SERIAL_KEYS = ["baud", "parity", "stop", "data", "echo", "latency_ms", "direction", "handshake"]
_KEYS = {
    Transport.TCP: ["source"],
    Transport.UDP: ["source"],
    Transport.TLS: ["ca", "cert", "key", "suite", "source"],
    Transport.SERIAL: _SERIAL_KEYS,
    Transport.RFC2217: _SERIAL_KEYS,
}


_REQUIRED = "required"


def _default_data(framing: FramingKind) -> int:
    return 7 if framing is FramingKind.ASCII else 8


def parse_link(text: str) -> Link:
    """A link from its text. Raises ValueError with one sentence that says what would be right."""
    scheme, separator, rest = text.strip().partition("://")
    if not separator:
        raise ValueError(
            f"link {text!r} has no scheme; write tcp://HOST, or rtu:///dev/ttyUSB0?baud=19200&parity=even&stop=1"
        )
    known = _SCHEMES.get(scheme.lower())
    if known is None:
        raise ValueError(
            f"link {text!r}: scheme {scheme!r} is not known{suggestion(scheme, list(_SCHEMES))}; "
            f"there are {', '.join(_SCHEMES)}"
        )
    transport, framing = known
    place, _, query = rest.partition("?")
    try:
        pairs = _pairs(query) if query else []
    except ValueError:
        raise ValueError(f"link {text!r}: what follows '?' must read key=value&key=value") from None
    options = dict(pairs)
    allowed = [*_KEYS[transport], "delimiter"] if framing is FramingKind.ASCII else _KEYS[transport]
    for key in options:
        if key not in allowed:
            raise ValueError(
                f"link {text!r}: {key!r} is not known here{suggestion(key, allowed)}; there are {', '.join(allowed)}"
            )
    if len(options) != len(pairs):
        raise ValueError(f"link {text!r} says the same key twice")
    if transport is Transport.SERIAL:
        return _serial_link(text, unquote(place), framing, options)
    host, port = _host_and_port(text, place.rstrip("/"), _DEFAULT_PORT.get(scheme.lower()))
    if transport is Transport.RFC2217:
        return _serial_link(text, f"rfc2217://{place.rstrip('/')}", framing, options)
    source = options.get("source")
    if transport is Transport.UDP:
        return UdpLink(host, port, source)
    if transport is Transport.TCP:
        return TcpLink(host, port, framing, source, delimiter=_delimiter(text, options))
    if ("cert" in options) != ("key" in options):
        raise ValueError(f"link {text!r}: a client's certificate needs both cert= and key=")
    return TcpLink(
        host,
        port,
        framing,
        source,
        TlsFiles(
            _path(options, "ca"),
            _path(options, "cert"),
            _path(options, "key"),
            _one_of(text, "suite", options.get("suite", "usual"), ("usual", _REQUIRED)),
        ),
    )


def _pairs(query: str) -> list[tuple[str, str]]:
    from urllib.parse import parse_qsl  # only needed where a link has options

    return parse_qsl(query, keep_blank_values=True, strict_parsing=True)


def unquote(text: str) -> str:
    """%20 and the like as what they stand for."""
    if "%" not in text:
        return text
    from urllib.parse import unquote as unquoted

    return unquoted(text)


def _path(options: dict[str, str], key: str) -> str | None:
    return unquote(options[key]) if options.get(key) else None


def _delimiter(text: str, options: dict[str, str]) -> int:
    given = options.get("delimiter", "0x0A")
    try:
        delimiter = whole(given)
    except ValueError:
        delimiter = -1
    if not may_end(delimiter):
        raise ValueError(
            f"link {text!r}: delimiter {given!r} is not the code of a character that can end a frame, as 0x0A or 59"
        )
    return delimiter


def _host_and_port(text: str, place: str, default_port: int | None) -> tuple[str, int]:
    if place.startswith("["):
        host, _, tail = place[1:].partition("]")
        port_text = tail.removeprefix(":")
    else:
        host, _, port_text = place.partition(":")
    if not host or "/" in host or ":" in port_text:
        raise ValueError(f"link {text!r} names no host; write tcp://192.0.2.7 or tcp://[2001:db8::7]:502")
    if not port_text:
        if default_port is None:
            raise ValueError(f"link {text!r} needs a port, as in {text.strip().rstrip('/')}:4001")
        return host, default_port
    return host, _number(text, "port", port_text, 1, 65535)


def _serial_link(text: str, port: str, framing: FramingKind, options: dict[str, str]) -> SerialLink:
    if not port:
        raise ValueError(f"link {text!r} names no port; write {framing.value}:///dev/ttyUSB0 or {framing.value}://COM8")
    parity_text = options.get("parity", "even").lower()
    try:
        parity = Parity(parity_text)
    except ValueError:
        raise ValueError(f"link {text!r}: parity {parity_text!r} is not known; there are none, even, odd") from None
    settings = SerialSettings(
        baud=_number(text, "baud", options.get("baud", "19200"), 50, 4_000_000),
        parity=parity,
        stop=_number(text, "stop", options.get("stop", "1"), 1, 2),
        data=_number(text, "data", options.get("data", str(_default_data(framing))), 7, 8),
    )
    if framing is FramingKind.RTU and settings.data != 8:
        raise ValueError(f"link {text!r}: RTU needs 8 data bits")
    latency = options.get("latency_ms")
    return SerialLink(
        port,
        settings,
        framing,
        _one_of(text, "echo", options["echo"], ("no", "yes")) if "echo" in options else None,
        _milliseconds(text, latency) if latency else None,
        _one_of(text, "direction", options.get("direction", "none"), ("none", "rts")),
        _one_of(text, "handshake", options.get("handshake", "none"), ("none", "rtscts")),
        _delimiter(text, options),
    )


def _number(text: str, key: str, value: str, low: int, high: int) -> int:
    if not value.isdecimal() or not low <= int(value) <= high:
        raise ValueError(f"link {text!r}: {key} {value!r} is not a whole number in {low}…{high}")
    return int(value)


def _one_of(text: str, key: str, value: str, off_and_on: tuple[str, str]) -> bool:
    if value.lower() not in off_and_on:
        raise ValueError(f"link {text!r}: {key} is {off_and_on[1]} or {off_and_on[0]}, not {value!r}")
    return value.lower() == off_and_on[1]


def _milliseconds(text: str, value: str) -> float:
    try:
        number = float(value)
    except ValueError:
        number = -1.0
    if not 0 <= number <= 1000:
        raise ValueError(f"link {text!r}: latency_ms {value!r} is not a number in 0…1000")
    return number
