"""Connections and serial ports in memory, for one loop: whoever serves there is found by whoever connects."""

import asyncio
from collections.abc import Callable
from itertools import count
from types import SimpleNamespace
from typing import Any

from kanaleto.files import origins
from kanaleto.lines import opening as lines_opening
from kanaleto.lines.channel import Cause, OnData, OnLost, Unreachable
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.probing.ports import PortInfo
from kanaleto.serving import servers as serving_opening
from kanaleto.serving.answerer import Answerer, Master, ShapedAnswer, is_later
from kanaleto.serving.terminal import TerminalServer
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Line
from kanaleto.tui.find import view
from kanaleto.wire.frames import Frame, Framing, Role
from scripts.shots.clock import StagedLoop

_LATENCY_S = 0.00035
_THINKS_S = 0.004
_ports: dict[str, "_Port"] = {}


class _Stream(asyncio.Transport):
    """One end of a connection; `other` is set once both are there."""

    def __init__(self, loop: asyncio.AbstractEventLoop, protocol: Any, peer: tuple[str, int]) -> None:
        super().__init__({"peername": peer, "socket": None})
        self._loop, self._protocol = loop, protocol
        self.other: _Stream | None = None
        self._is_closing = self._is_paused = False
        self._held: list[bytes] = []

    def write(self, data: Any) -> None:
        other = self.other
        if other is not None and not self._is_closing and data:
            self._loop.call_later(_LATENCY_S, other._take, bytes(data))

    def _take(self, data: bytes) -> None:
        if self._is_closing:
            return
        if self._is_paused:
            self._held.append(data)
        elif isinstance(self._protocol, asyncio.BufferedProtocol):
            while data:
                buffer = memoryview(self._protocol.get_buffer(-1))
                size = min(len(buffer), len(data))
                buffer[:size] = data[:size]
                self._protocol.buffer_updated(size)
                data = data[size:]
        else:
            self._protocol.data_received(data)

    def pause_reading(self) -> None:
        self._is_paused = True

    def resume_reading(self) -> None:
        self._is_paused, held, self._held = False, self._held, []
        for data in held:
            self._take(data)

    def set_write_buffer_limits(self, high: int | None = None, low: int | None = None) -> None:
        return

    def get_write_buffer_size(self) -> int:
        return 0

    def is_closing(self) -> bool:
        return self._is_closing

    def abort(self) -> None:
        self.close()

    def close(self) -> None:
        if not self._is_closing:
            self._is_closing = True
            self._loop.call_soon(self._protocol.connection_lost, None)
            if self.other is not None:
                self._loop.call_later(_LATENCY_S, self.other.close)


class _Listening:
    """As asyncio's server, as far as it is used here."""

    def __init__(self, loop: "WiredLoop", place: tuple[str, int], make: Callable[[], Any]) -> None:
        self._loop, self._place, self.make = loop, place, make
        self.sockets = [SimpleNamespace(getsockname=lambda: place)]

    def close(self) -> None:
        if self._loop.listening.get(self._place) is self:
            del self._loop.listening[self._place]


class WiredLoop(StagedLoop):
    """Connects to nobody but to what it serves itself."""

    def __init__(self) -> None:
        super().__init__()
        self.listening: dict[tuple[str, int], _Listening] = {}
        self._numbers = count(40001)

    async def create_server(  # type: ignore[override]
        self, make: Callable[[], Any], host: str, port: int, **more: Any
    ) -> _Listening:
        place = (host, port or next(self._numbers))
        if place in self.listening:
            raise OSError(98, "in use")
        self.listening[place] = _Listening(self, place, make)
        return self.listening[place]

    async def create_connection(  # type: ignore[override]
        self, make: Callable[[], Any], host: str, port: int, **more: Any
    ) -> tuple[_Stream, Any]:
        await asyncio.sleep(_LATENCY_S)
        server = self.listening.get((host, port))
        if server is None:
            raise ConnectionRefusedError(111, "refused")
        near, far = make(), server.make()
        here, there = _Stream(self, near, (host, port)), _Stream(self, far, ("127.0.0.1", next(self._numbers)))
        here.other, there.other = there, here
        near.connection_made(here)
        far.connection_made(there)
        return here, near


class _Port(TerminalServer):
    """Serves at a port that only this process has."""

    async def start(self) -> None:
        _ports[self._link.port] = self

    async def stop(self) -> None:
        if _ports.get(self._link.port) is self:
            del _ports[self._link.port]


class _Cable(MemoryChannel):
    """To whoever serves at a port; at other settings than the line's nothing is understood."""

    def __init__(self, link: SerialLink) -> None:
        super().__init__(self._ask, link.settings.character_s, link.settings.gap_s)
        self._link = link
        self._framing: Framing = lines_opening.framing_of(link)
        self._decoder = self._framing.decoder(Role.REQUESTS)
        self._master = Master(link.port, link.port)

    async def open(self, on_data: OnData, on_lost: OnLost) -> None:
        if self._link.port not in _ports:
            raise Unreachable(f"there is no port {self._link.port}", Cause.NO_PORT)
        await super().open(on_data, on_lost)

    def _ask(self, data: bytes, at: float) -> list[tuple[float, bytes]]:
        server = _ports.get(self._link.port)
        if server is None or (server._link.settings, server._link.framing) != (self._link.settings, self._link.framing):
            return []
        pieces: list[tuple[float, bytes]] = []
        for event in self._decoder.feed(data):
            answer = (
                server.answerer.answer(event.unit_id, event.pdu, self._master) if isinstance(event, Frame) else None
            )
            assert not is_later(answer) and isinstance(event, Frame), event
            if isinstance(answer, bytes):
                answer = ShapedAnswer(event.unit_id, answer)
            if isinstance(answer, ShapedAnswer):
                for after_s, raw in answer.pieces(self._framing.encode):
                    begin_s = at + self.gap_s + _THINKS_S + after_s
                    pieces.append((begin_s + len(raw) * self.character_s, raw))
        return pieces


def use_memory() -> None:
    """From now on each serial link is one of those here, and no other port is there."""

    def cable(link: SerialLink, connect_timeout_s: float, preferred: str) -> _Cable:
        return _Cable(link)

    def port(line: Line, link: SerialLink, answerer: Answerer, listen: str | None) -> _Port:
        return _Port(answerer, lines_opening.framing_of(link), link)

    lines_opening._CHANNELS[SerialLink] = cable
    serving_opening._SERVERS[SerialLink] = port
    setattr(origins, "_is_pseudo_terminal", lambda port: True)  # noqa: B010
    setattr(view, "list_serial_ports", list)  # noqa: B010
    setattr(view, "describe_port", PortInfo)  # noqa: B010
