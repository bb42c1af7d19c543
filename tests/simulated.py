"""Sites in memory: simulated devices behind memory channels, with faults on demand, for a virtual clock."""

from collections.abc import Callable
from pathlib import Path

from kanaleto.bench.servedunits import Units
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.opening import framing_of
from kanaleto.site.links.link import FramingKind, Link, SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Device, Line, Site
from kanaleto.wire.codes import WRITING
from kanaleto.wire.frames import Frame, Role

Pieces = list[tuple[float, bytes]]
Fault = Callable[[Frame, float, Pieces], Pieces]
"""Given a request, when it arrived, and the pieces of the right answer: the pieces that come instead."""

_USUAL = SerialSettings()
DEFAULT_MAP = (
    "name,table,address,type\nLevel,holding,0,float32\nCount,holding,2,uint16\nLamp,coil,0,\nFar,holding,10,uint16\n"
)


def device(
    name: str,
    unit_id: int,
    map_text: str = DEFAULT_MAP,
    period_s: float = 1.0,
    timeout_s: float = 0.5,
    retries: int = 1,
) -> Device:
    points, faults = read_map(Path("map.csv"), map_text, MapDefaults(period_s=period_s))
    assert not [fault for fault in faults if not fault.is_warning], faults
    return Device(name, unit_id, points, timeout_s, retries, period_s=period_s)


class SimulatedLine:
    """A line whose far end is simulated; `fault` may spoil its answers, `delay_s` is how long devices think."""

    def __init__(self, *devices: Device, is_serial: bool = True, name: str = "Line", delay_s: float = 0.001) -> None:
        link = SerialLink("/virtual") if is_serial else TcpLink("192.0.2.1", 502)
        self.line = Line(name, link, devices)
        self.units = Units(self.line, is_serial)
        self.fault: Fault | None = None
        self.delay_s = delay_s
        self.requests: list[Frame] = []
        self.is_deaf: Callable[[int], bool] = lambda unit_id: False
        """Whether nothing of what is sent reaches that unit."""
        self.heard: list[tuple[float, Frame]] = []
        self._framing = framing_of(link)
        self._decoder = self._framing.decoder(Role.REQUESTS)
        settings = link.settings if isinstance(link, SerialLink) else None
        self._character_s = settings.character_s if settings else 0.0
        self.channel = MemoryChannel(self._far_end, self._character_s, settings.gap_s if settings else 0.0)

    @property
    def site(self) -> Site:
        return Site("Virtual", (self.line,))

    def exchanger(self, line: Line | None = None) -> Exchanger:
        return Exchanger(self.channel, self._framing)

    def _far_end(self, data: bytes, at: float) -> Pieces:
        pieces: Pieces = []
        for event in self._decoder.feed(data):
            assert isinstance(event, Frame), event
            self.requests.append(event)
            if self.is_deaf(event.unit_id):
                continue
            if event.pdu[0] in WRITING:
                self.heard.append((at, event))
            pdu = self.units.answer(event.unit_id, event.pdu)
            right: Pieces = []
            if isinstance(pdu, bytes):
                raw = self._framing.encode(event.unit_id, pdu, event.transaction or 0)
                right = [(at + self.delay_s + len(raw) * self._character_s, raw)]
            pieces += self.fault(event, at, right) if self.fault else right
        return pieces


def silent(unit_id: int) -> Fault:
    """The unit does not answer."""
    return lambda frame, at, right: [] if frame.unit_id == unit_id else right


class Wires:
    """A serial line at certain settings, reached at any: `opener` gives an exchanger for a link; what does not match
    the line's own settings is not understood, and at `noisy_at` rates garbage comes back instead of silence."""

    def __init__(
        self, *devices: Device, settings: SerialSettings = _USUAL, framing: FramingKind = FramingKind.RTU
    ) -> None:
        self.link = SerialLink("/virtual", settings, framing)
        self.units = Units(Line("Wires", self.link, devices), True)
        self.noisy_at: set[int] = set()
        self.fault: Fault | None = None
        self.delay_s = 0.005
        self.requests: list[tuple[Frame, SerialSettings]] = []
        self.channels: list[MemoryChannel] = []

    def opener(self, link: Link) -> Exchanger:
        assert isinstance(link, SerialLink)
        framing = framing_of(link)
        decoder = framing.decoder(Role.REQUESTS)
        character_s = link.settings.character_s

        def far_end(data: bytes, at: float) -> Pieces:
            if link.settings.baud != self.link.settings.baud:
                return (
                    [(at + 0.01, bytes(0x80 | byte // 2 for byte in data))]
                    if link.settings.baud in self.noisy_at
                    else []
                )
            if (link.settings, link.framing) != (self.link.settings, self.link.framing):
                return []
            pieces: Pieces = []
            for event in decoder.feed(data):
                assert isinstance(event, Frame), event
                self.requests.append((event, link.settings))
                pdu = self.units.answer(event.unit_id, event.pdu)
                raw = framing.encode(event.unit_id, pdu) if isinstance(pdu, bytes) else b""
                right = [(at + self.delay_s + len(raw) * character_s, raw)] if raw else []
                pieces += self.fault(event, at, right) if self.fault else right
            return pieces

        channel = MemoryChannel(far_end, character_s, link.settings.gap_s)
        self.channels.append(channel)
        return Exchanger(channel, framing, quarantine_s=0.0)
