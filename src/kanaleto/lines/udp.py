"""UDP as a channel: one TCP frame a datagram. Each datagram is delivered whole and stands for itself."""

import asyncio

from kanaleto.lines.channel import Cause, OnData, OnLost, Unreachable
from kanaleto.lines.readable import Readable
from kanaleto.site.links.udp import UdpLink

_LARGEST = 65536  # bytes of a datagram


class UdpChannel:
    """There is no connection: opening only looks the name up."""

    character_s = 0.0
    gap_s = 0.0
    keeps_time = False
    is_datagram = True

    def __init__(self, link: UdpLink, connect_timeout_s: float) -> None:
        self._link = link
        self._connect_timeout_s = connect_timeout_s
        self._loop: asyncio.AbstractEventLoop | None = None
        self._transport: asyncio.DatagramTransport | None = None
        self._receiver: _DatagramReceiver | None = None
        self._readable: Readable | None = None

    @property
    def is_open(self) -> bool:
        return self._transport is not None and not self._transport.is_closing()

    async def open(self, on_data: OnData, on_lost: OnLost) -> None:
        self._loop = loop = asyncio.get_running_loop()
        source = (self._link.source, 0) if self._link.source else None
        try:
            async with asyncio.timeout(self._connect_timeout_s):
                transport, self._receiver = await loop.create_datagram_endpoint(
                    lambda: _DatagramReceiver(loop, on_data),
                    remote_addr=(self._link.host, self._link.port),
                    local_addr=source,
                )
        except (TimeoutError, OSError) as error:
            raise Unreachable(
                f"{self._link.place} cannot be reached: {error or 'its name is not known'}", Cause.NO_NAME
            ) from None
        self._transport = transport
        self._readable = Readable(transport)

    def empty(self) -> None:
        readable = self._readable
        while readable and self._readable is readable and self._receiver is not None:
            data = readable.read(_LARGEST)
            if not data:
                return
            self._receiver.datagram_received(data, ("", 0))

    def write(self, data: bytes, not_before: float) -> float:
        if self._transport is None or self._loop is None:
            raise RuntimeError("write on a channel that is not open")
        if not_before and not_before > self._loop.time():
            self._loop.call_at(not_before, self._send, data)
            return not_before
        self._send(data)
        return not_before

    def _send(self, data: bytes) -> None:
        if self._transport is not None:
            self._transport.sendto(data)

    def drop(self) -> None:
        """Nothing waits here: bytes are on the wire, or lost."""

    def counted(self) -> None:
        """There is no port."""

    def close(self) -> None:
        self._readable = None
        if self._transport is not None:
            self._transport.abort()
            self._transport = None


class _DatagramReceiver(asyncio.DatagramProtocol):
    """A port that nobody listens on shows as silence: the timeout tells it."""

    def __init__(self, loop: asyncio.AbstractEventLoop, on_data: OnData) -> None:
        self._now, self._on_data = loop.time, on_data

    def datagram_received(self, data: bytes, addr: tuple[str | int, ...]) -> None:
        self._on_data(data, self._now())
