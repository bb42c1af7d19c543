"""A serial port, of this machine by its path or name, or of another machine's by RFC 2217."""

import os
from pathlib import Path

from msgspec.structs import replace

from kanaleto.site.links.cost import FRAME_BYTES, THINKING_S, LineCost
from kanaleto.site.links.link import FramingKind, Link, Parity, SerialSettings
from kanaleto.site.links.written import Written, unquote
from kanaleto.wire.ascii import LINE_FEED

SCHEMES = ("rtu", "ascii", "rtu+rfc2217", "ascii+rfc2217")
_REMOTE = "rfc2217://"


class SerialLink(Link, frozen=True):
    """`delimiter` ends requests in ASCII. `has_echo` tells whether its adapter repeats what it sends."""

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
        """Whether the port is another machine's, reached by RFC 2217; then `port` is rfc2217://HOST:PORT."""
        return self.port.startswith(_REMOTE)

    @property
    def scheme(self) -> str:
        return f"{self.framing.value}+rfc2217" if self.is_remote else self.framing.value

    @property
    def place(self) -> str:
        return self.port

    @property
    def title(self) -> str:
        return self.place if self.is_remote else Path(self.port).name or self.port

    @property
    def where(self) -> tuple[str, ...]:
        return (self.port if self.is_remote else os.path.realpath(self.port),)

    @property
    def serial_port(self) -> str:
        return self.port

    @property
    def local_port(self) -> str | None:
        return None if self.is_remote else self.port

    def with_serial(self, settings: SerialSettings, framing: FramingKind) -> "SerialLink":
        return replace(self, settings=settings, framing=framing)

    def at_home(self, port_path: str, port: int, is_secured: bool) -> "SerialLink":
        return replace(self, port=port_path, has_echo=None, sets_rts=False, uses_rtscts=False, latency_ms=None)

    def beside(self, folder: Path) -> Link:
        if self.is_remote or "/" not in self.port or self.port.startswith("/"):
            return self
        return replace(self, port=str((folder / self.port).absolute()))

    @property
    def assumed_s(self) -> float:
        return THINKING_S

    def cost(self, gap_s: float = 0.0, thinking_s: float = THINKING_S) -> LineCost:
        settings = self.settings
        is_ascii = self.framing is FramingKind.ASCII
        byte_s = settings.character_s * (2 if is_ascii else 1)
        frame_s = FRAME_BYTES * byte_s + (6 * settings.character_s if is_ascii else 0.0)
        return LineCost(frame_s + max(gap_s, settings.gap_s) + settings.gap_s + thinking_s, byte_s)

    def __str__(self) -> str:
        settings = self.settings
        place = self.port.removeprefix(_REMOTE) if self.is_remote else self.port
        text = f"{self.scheme}://{place}?baud={settings.baud}&parity={settings.parity.value}&stop={settings.stop}"
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


def _default_data(framing: FramingKind) -> int:
    return 7 if framing is FramingKind.ASCII else 8


def read(written: Written) -> SerialLink:
    framing_name, _, remote = written.scheme.partition("+")
    framing = FramingKind(framing_name)
    options, text = written.options, written.text
    keys = ["baud", "parity", "stop", "data", "echo", "latency_ms", "direction", "handshake"]
    written.only(*keys, *(["delimiter"] if framing is FramingKind.ASCII else []))
    if remote:
        written.host_and_port()
        port = _REMOTE + written.place.rstrip("/")
    else:
        port = unquote(written.place)
    if not port:
        raise ValueError(f"link {text!r} names no port; write {framing.value}:///dev/ttyUSB0 or {framing.value}://COM8")
    parity_text = options.get("parity", "even").lower()
    try:
        parity = Parity(parity_text)
    except ValueError:
        raise ValueError(f"link {text!r}: parity {parity_text!r} is not known; there are none, even, odd") from None
    settings = SerialSettings(
        baud=written.number("baud", 19200, 50, 4_000_000),
        parity=parity,
        stop=written.number("stop", 1, 1, 2),
        data=written.number("data", _default_data(framing), 7, 8),
    )
    if framing is FramingKind.RTU and settings.data != 8:
        raise ValueError(f"link {text!r}: RTU needs 8 data bits")
    return SerialLink(
        port,
        settings,
        framing,
        written.is_on("echo", "no", "yes") if "echo" in options else None,
        written.milliseconds("latency_ms"),
        written.is_on("direction", "none", "rts"),
        written.is_on("handshake", "none", "rtscts"),
        written.delimiter(),
    )
