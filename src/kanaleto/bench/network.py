"""Serves simulated devices on a network: TCP (any framing on the stream, inside TLS where the site says so) and UDP.

A client can cost others nothing: connections are counted, and when there are as many as there may be, the one that has been without a
sound request for longest is closed for the new one; a client that asks and does not read is dropped.
"""

import asyncio
import errno
import ssl
from collections.abc import Callable
from typing import cast

from kanaleto.bench.units import Units
from kanaleto.lines.tls import role_in, server_context
from kanaleto.site.model import TlsServing
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.frames import Event, Frame, Framing, Garbled, Role
from kanaleto.wire.pdu import Refused

MOST_CONNECTIONS = 400
_MOST_UNSENT = 64 * 1024
_QUIET_S = 0.03  # on a bare stream: what is no frame by its length is settled after this much silence

OnClient = Callable[[str], None]
"""Told when a client has shown a certificate: one sentence, with its role."""


class CannotServe(Exception):  # noqa: N818 - it reads as what it says
    """One sentence: what cannot be bound or opened, and what to try."""


def cannot_bind(name: str, host: str, port: int, error: OSError) -> CannotServe:
    """Why a port cannot be bound, in words."""
    place = f"{host}:{port}"
    if error.errno == errno.EADDRINUSE:
        return CannotServe(f"{name}: {place} is in use by another program; stop it or change the port")
    if error.errno in (errno.EACCES, errno.EPERM):
        return CannotServe(f"{name}: {place} may not be bound by you; ports below 1024 need rights, take one above")
    if error.errno == errno.EADDRNOTAVAIL:
        return CannotServe(f"{name}: {host} is no address of this machine")
    return CannotServe(f"{name}: {place} cannot be bound: {error.strerror or error}")


class NetworkServer:
    """Listens on `host`:`port` for `units`."""

    def __init__(self, units: Units, framing: Framing, host: str, port: int, tls: TlsServing | None = None) -> None:
        self.units = units
        self.framing = framing
        self.host, self.port = host, port
        self.connections: dict[asyncio.Transport, None] = {}  # the one longest without a sound request first
        self.on_client: OnClient | None = None
        self._tls = tls
        self._roles = dict(tls.roles) if tls is not None else {}
        self._server: asyncio.Server | None = None

    async def start(self) -> None:
        """Bind. Raises CannotServe."""
        loop = asyncio.get_running_loop()
        context: ssl.SSLContext | None = None
        if self._tls is not None:
            try:
                context = server_context(self._tls.cert, self._tls.key, self._tls.ca)
            except OSError as error:
                raise CannotServe(f"{self.units.line.name}: the certificate files cannot be used: {error.strerror or error}") from None
        try:
            self._server = await loop.create_server(lambda: _Connection(self), self.host, self.port, backlog=512, ssl=context)
        except OSError as error:
            raise cannot_bind(self.units.line.name, self.host, self.port, error) from None
        self.port = self._server.sockets[0].getsockname()[1]

    async def stop(self) -> None:
        if self._server is not None:
            self._server.close()
        for transport in list(self.connections):
            transport.abort()

    def admit(self, transport: asyncio.Transport) -> None:
        """A new connection: it takes the place of the idlest when all are taken."""
        if len(self.connections) >= MOST_CONNECTIONS:
            idlest = next(iter(self.connections))
            del self.connections[idlest]
            idlest.abort()
        self.connections[transport] = None

    def note_use(self, transport: asyncio.Transport) -> None:
        """A sound request came on it: it is the last to be closed for others now."""
        if transport in self.connections:
            del self.connections[transport]
            self.connections[transport] = None

    def functions_of(self, transport: asyncio.Transport) -> frozenset[int] | None:
        """The functions that this client's role may use; None for all."""
        ssl_object = transport.get_extra_info("ssl_object")
        certificate = ssl_object.getpeercert(True) if ssl_object is not None else None
        if not certificate:
            return None if not self._roles else frozenset()
        role = role_in(certificate)
        if self.on_client is not None:
            self.on_client(f"{self.units.line.name}: a client with {f'the role {role!r}' if role else 'no role'} connected")
        return frozenset(self._roles.get(role or "", ())) if self._roles else None


class _Connection(asyncio.Protocol):
    def __init__(self, server: NetworkServer) -> None:
        self._server = server
        self._decoder = server.framing.decoder(Role.REQUESTS)
        self._functions: frozenset[int] | None = None
        self._timer: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        self._server.admit(transport)
        self._functions = self._server.functions_of(transport)

    def connection_lost(self, exc: Exception | None) -> None:
        self._server.connections.pop(self._transport, None)
        if self._timer is not None:
            self._timer.cancel()

    def data_received(self, data: bytes) -> None:
        self._take(self._decoder.feed(data))
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._decoder.held and not self._server.framing.has_transactions:
            self._timer = asyncio.get_running_loop().call_later(_QUIET_S, lambda: self._take(self._decoder.silence()))

    def _take(self, events: list[Event]) -> None:
        server = self._server
        answers, has_broken = answers_to(server.units, server.framing, events, self._functions)
        if answers:
            server.note_use(self._transport)
            self._transport.write(b"".join(answers))
            if self._transport.get_write_buffer_size() > _MOST_UNSENT:
                self._transport.abort()
        if has_broken:
            self._transport.close()


def answers_to(units: Units, framing: Framing, events: list[Event], functions: frozenset[int] | None = None) -> tuple[list[bytes], bool]:
    """The frames that answer what came, and whether the stream cannot be read on. A function that is not in `functions` gets 01."""
    answers: list[bytes] = []
    has_broken = False
    for event in events:
        if isinstance(event, Garbled):
            units.note_garbled()
            has_broken = has_broken or event.fatal
            continue
        answer = _answer(units, framing, event, functions)
        if answer is not None:
            answers.append(answer)
    return answers, has_broken


def _answer(units: Units, framing: Framing, frame: Frame, functions: frozenset[int] | None) -> bytes | None:
    if functions is not None and frame.pdu[0] not in functions:
        pdu: bytes | None = Refused(frame.pdu[0] & 0x7F, ExceptionCode.ILLEGAL_FUNCTION).encode()
    else:
        pdu = units.answer(frame.unit_id, frame.pdu)
    return framing.encode(frame.unit_id, pdu, frame.transaction or 0) if pdu is not None else None


class DatagramServer:
    """Answers datagrams on `host`:`port`, each a frame of its own."""

    def __init__(self, units: Units, framing: Framing, host: str, port: int) -> None:
        self.units = units
        self.framing = framing
        self.host, self.port = host, port
        self._transport: asyncio.DatagramTransport | None = None

    async def start(self) -> None:
        """Bind. Raises CannotServe."""
        try:
            self._transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
                lambda: _Datagrams(self), local_addr=(self.host, self.port)
            )
        except OSError as error:
            raise cannot_bind(self.units.line.name, self.host, self.port, error) from None
        self.port = self._transport.get_extra_info("sockname")[1]

    async def stop(self) -> None:
        if self._transport is not None:
            self._transport.abort()


class _Datagrams(asyncio.DatagramProtocol):
    def __init__(self, server: DatagramServer) -> None:
        self._server = server

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.DatagramTransport, transport)  # before Python 3.12 it is none by its class

    def datagram_received(self, data: bytes, addr: tuple[str | int, ...]) -> None:
        server = self._server
        answers, _ = answers_to(server.units, server.framing, server.framing.decoder(Role.REQUESTS).feed(data))
        for answer in answers:
            self._transport.sendto(answer, addr)
