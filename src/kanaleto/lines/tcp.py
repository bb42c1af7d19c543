"""A TCP connection as a channel, inside TLS where the link says so."""

import asyncio
import errno
import socket
import ssl
import struct
from contextlib import suppress

from kanaleto.lines.channel import Cause, OnData, OnLost, Unreachable
from kanaleto.lines.readable import Readable
from kanaleto.lines.tls import client_context, tls_sentence
from kanaleto.site.links.tcp import TcpLink

_BUFFER_BYTES = 4096


class TcpChannel:
    """Connects to `link` within `connect_timeout_s`."""

    character_s = 0.0
    gap_s = 0.0
    keeps_time = False
    is_datagram = False

    def __init__(self, link: TcpLink, connect_timeout_s: float) -> None:
        self._link = link
        self._connect_timeout_s = connect_timeout_s
        self._loop: asyncio.AbstractEventLoop | None = None
        self._transport: asyncio.Transport | None = None
        self._receiver: _StreamReceiver | None = None
        self._readable: Readable | None = None

    @property
    def is_open(self) -> bool:
        return self._transport is not None and not self._transport.is_closing()

    async def open(self, on_data: OnData, on_lost: OnLost) -> None:
        self._loop = loop = asyncio.get_running_loop()
        source = (self._link.source, 0) if self._link.source else None
        context = client_context(self._link.tls) if self._link.tls is not None else None
        try:
            async with asyncio.timeout(self._connect_timeout_s):
                transport, self._receiver = await loop.create_connection(
                    lambda: _StreamReceiver(loop, on_data, on_lost),
                    self._link.host,
                    self._link.port,
                    local_addr=source,
                    ssl=context,
                )
        except TimeoutError:
            raise Unreachable(
                f"{self._link.place} did not answer the connection within "
                f"{self._connect_timeout_s:g} s; is the address right?",
                Cause.NO_ANSWER,
            ) from None
        except UnicodeError:  # of a name that no host can have, such as one with two dots in a row
            raise Unreachable(f"{self._link.place}: that is no name that a host can have", Cause.NO_NAME) from None
        except OSError as error:
            has_ended = isinstance(error, ConnectionError) and not isinstance(error, ConnectionRefusedError)
            if context is not None and (has_ended or isinstance(error, ssl.SSLError)):
                raise Unreachable(f"{self._link.place}: {tls_sentence(context, error)}", Cause.TLS) from None
            raise _unreachable(self._link.place, error) from None
        self._transport = transport
        self._readable = Readable(transport)

    def empty(self) -> None:
        readable = self._readable
        while readable and self._readable is readable and self._receiver is not None:
            if self._link.tls is not None:  # which only its own end can read
                self._receiver.note_before()
                return
            data = readable.read(_BUFFER_BYTES)
            if not data:
                return
            self._receiver.take(data)

    def write(self, data: bytes, not_before: float) -> float:
        transport, loop = self._transport, self._loop
        if transport is None or loop is None:
            raise RuntimeError("write on a channel that is not open")
        if not_before and not_before > loop.time():
            loop.call_at(not_before, self._write_late, transport, data)
            return not_before
        transport.write(data)
        return not_before

    def _write_late(self, transport: asyncio.Transport, data: bytes) -> None:
        if transport is self._transport and not transport.is_closing():
            transport.write(data)

    def drop(self) -> None:
        """The connection is reset, not closed in order: the system gives its bytes up with it."""
        if self._transport is None:
            return
        inner = self._transport.get_extra_info("socket")
        if inner is not None:
            with suppress(OSError):
                inner.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))

    def counted(self) -> None:
        """There is no port."""

    def close(self) -> None:
        if self._receiver is not None:
            # asyncio tells the end of an aborted connection later, when the next may be open
            self._receiver.is_muted = True
        self._readable = None
        if self._transport is not None:
            self._transport.abort()
            self._transport = None


class _StreamReceiver(asyncio.BufferedProtocol):
    """Takes bytes in a buffer of its own: asyncio would make one of 256 KiB for every answer."""

    def __init__(self, loop: asyncio.AbstractEventLoop, on_data: OnData, on_lost: OnLost) -> None:
        self._now, self._on_data, self._on_lost = loop.time, on_data, on_lost
        self._buffer = memoryview(bytearray(_BUFFER_BYTES))
        self.is_muted = False
        self._before_s: float | None = None
        self._loop = loop

    def get_buffer(self, sizehint: int) -> memoryview:
        return self._buffer

    def buffer_updated(self, nbytes: int) -> None:
        self.take(bytes(self._buffer[:nbytes]))

    def take(self, data: bytes) -> None:
        if not self.is_muted:
            self._on_data(data, self._now() if self._before_s is None else self._before_s)

    def note_before(self) -> None:
        """What the loop reads in its next turn was there by now."""
        self._before_s = self._now()
        # a turn's own calls go before what it reads
        self._loop.call_soon(self._loop.call_soon, self._forget_before)

    def _forget_before(self) -> None:
        self._before_s = None

    def connection_lost(self, exc: Exception | None) -> None:
        if self.is_muted:
            return
        self._on_lost("the far end closed the connection" if exc is None else f"the connection broke: {exc}")


def _unreachable(place: str, error: OSError) -> Unreachable:
    if isinstance(error, socket.gaierror):
        return Unreachable(f"{place}: no host of this name is known", Cause.NO_NAME)
    if isinstance(error, ConnectionRefusedError) or "refused" in str(error).lower():
        return Unreachable(f"{place} refused the connection; nothing listens on that port", Cause.REFUSED)
    if error.errno == errno.ENETDOWN:
        return Unreachable(
            f"{place}: the network adapter of this machine is down; is its cable in?", Cause.ADAPTER_DOWN
        )
    if error.errno in (errno.ENETUNREACH, errno.EHOSTUNREACH):
        return Unreachable(f"there is no route to {place}; is the adapter in the same network?", Cause.NO_ROUTE)
    if error.errno == errno.EADDRNOTAVAIL:
        return Unreachable(
            f"{place}: the source address is not one of this machine's now; is its adapter up?", Cause.ADAPTER_DOWN
        )
    return Unreachable(f"{place} cannot be reached: {error.strerror or error}", Cause.OTHER)
