"""Serves simulated devices on TCP: frames of any framing on accepted connections, each paired with its own decoder."""

import asyncio
import errno

from kanaleto.bench.units import Units
from kanaleto.wire.frames import Frame, Framing, Garbled, Role

MOST_CONNECTIONS = 500
_MOST_UNSENT = 64 * 1024  # a client that asks and never reads is dropped


class CannotServe(Exception):  # noqa: N818 - it reads as what it says
    """One sentence: what cannot be bound or opened, and what to try."""


class NetworkServer:
    """Listens on `host`:`port` for `units`."""

    def __init__(self, units: Units, framing: Framing, host: str, port: int) -> None:
        self.units = units
        self.framing = framing
        self.host, self.port = host, port
        self.connections: set[asyncio.Transport] = set()
        self._server: asyncio.Server | None = None

    async def start(self) -> None:
        """Bind. Raises CannotServe."""
        loop = asyncio.get_running_loop()
        try:
            self._server = await loop.create_server(lambda: _Connection(self), self.host, self.port, backlog=128)
        except OSError as error:
            raise CannotServe(self._sentence(error)) from None
        self.port = self._server.sockets[0].getsockname()[1]

    def _sentence(self, error: OSError) -> str:
        place = f"{self.host}:{self.port}"
        if error.errno == errno.EADDRINUSE:
            return f"{self.units.line.name}: {place} is in use by another program; stop it or change the port"
        if error.errno in (errno.EACCES, errno.EPERM):
            return f"{self.units.line.name}: {place} may not be bound by you; ports below 1024 need rights, take one above"
        if error.errno == errno.EADDRNOTAVAIL:
            return f"{self.units.line.name}: {self.host} is no address of this machine"
        return f"{self.units.line.name}: {place} cannot be bound: {error.strerror or error}"

    async def stop(self) -> None:
        if self._server is not None:
            self._server.close()
        for transport in list(self.connections):
            transport.abort()


class _Connection(asyncio.Protocol):
    def __init__(self, server: NetworkServer) -> None:
        self._server = server
        self._decoder = server.framing.decoder(Role.REQUESTS)

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        if len(self._server.connections) >= MOST_CONNECTIONS:
            transport.abort()
            return
        self._server.connections.add(transport)

    def connection_lost(self, exc: Exception | None) -> None:
        self._server.connections.discard(self._transport)

    def data_received(self, data: bytes) -> None:
        answers = []
        for event in self._decoder.feed(data):
            if isinstance(event, Garbled):
                if event.fatal:
                    self._transport.close()
                continue
            answer = self._answer(event)
            if answer is not None:
                answers.append(answer)
        if answers:
            self._transport.write(b"".join(answers))
            if self._transport.get_write_buffer_size() > _MOST_UNSENT:
                self._transport.abort()

    def _answer(self, frame: Frame) -> bytes | None:
        pdu = self._server.units.answer(frame.unit_id, frame.pdu)
        return self._server.framing.encode(frame.unit_id, pdu, frame.transaction or 0) if pdu is not None else None
