"""Serves simulated devices on a network: TCP (any framing on the stream, inside TLS where the site says so) and UDP.

A client can cost others nothing: connections are counted (`serving.admission`), handshakes too; a client that asks and
does not read is dropped.
"""

import asyncio
import errno
import ssl
from collections.abc import Awaitable, Callable, Generator
from typing import Any, cast

from msgspec import Struct

from kanaleto.lines.tls import role_in, server_context
from kanaleto.serving.admission import HANDSHAKE_S, Admission, host_of
from kanaleto.serving.answerer import NOBODY, Answer, Answerer, AnyAnswer, Master, Pieces, ShapedAnswer, is_later
from kanaleto.serving.hearing import Heard, Hearing
from kanaleto.site.bridges import TlsServing
from kanaleto.supervision.owned import report
from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.frames import Event, Frame, Framing, Garbled, Role
from kanaleto.wire.pdu import Refused

_MOST_UNSENT = 64 * 1024
_MOST_AT_ONCE, _FEW_BYTES, _SLOWED_S = 32, 480, 0.03  # such answers of one reading; else so many bytes, so often
_MOST_LATER = 256  # answers of one connection that are waited for; then it is not read on
_BUFFER_BYTES = 16 * 1024
_MOST_NOISE, _PIECE = 4096, 512
_QUIET_S = 0.03  # on a bare stream: what is no frame by its length is settled after this much silence


class CannotServe(Exception):
    """One sentence: what cannot be bound or opened, and what to try."""


class PlaceTaken(CannotServe):
    """Somebody else has that place."""


def cannot_bind(name: str, host: str, port: int, error: OSError) -> CannotServe:
    """Why a port cannot be bound, in words."""
    place = f"{host}:{port}"
    if error.errno == errno.EADDRINUSE:
        return PlaceTaken(f"{name}: {place} is in use by another program; stop it or change the port")
    if error.errno in (errno.EACCES, errno.EPERM):
        return CannotServe(f"{name}: {place} may not be bound by you; ports below 1024 need rights, take one above")
    if error.errno == errno.EADDRNOTAVAIL:
        return CannotServe(f"{name}: {host} is no address of this machine; --listen 127.0.0.1 serves it here")
    return CannotServe(f"{name}: {place} cannot be bound: {error.strerror or error}")


class NetworkServer:
    """Listens on `host`:`port` for `answerer`."""

    def __init__(
        self,
        answerer: Answerer,
        framing: Framing,
        host: str,
        port: int,
        tls: TlsServing | None = None,
        offers_required: bool = False,
    ) -> None:
        self.answerer = answerer
        self.framing = framing
        self.host, self.port = host, port
        self.admission = Admission(answerer.name)
        self._tls = tls
        self._offers_required = offers_required
        self._context: ssl.SSLContext | None = None
        self._roles = dict(tls.roles) if tls is not None else {}
        self._server: asyncio.Server | None = None
        self._handshakes: set[asyncio.Task[None]] = set()

    async def start(self) -> None:
        """Bind. Raises CannotServe."""
        if self._tls is not None:
            try:
                self._context = server_context(self._tls.cert, self._tls.key, self._tls.ca, self._offers_required)
            except OSError as error:
                raise CannotServe(
                    f"{self.answerer.name}: the certificate files cannot be used: {error.strerror or error}"
                ) from None
        try:
            self._server = await asyncio.get_running_loop().create_server(
                lambda: _Connection(self) if self._context is None else _ServerHandshake(self),
                self.host,
                self.port,
                backlog=512,
            )
        except OSError as error:
            raise cannot_bind(self.answerer.name, self.host, self.port, error) from None
        self.port = self._server.sockets[0].getsockname()[1]

    def let_nobody_in(self, cuts_off: bool = False) -> None:
        """From now on connections are refused; who is in stays, or is cut off too."""
        if self._server is not None:
            self._server.close()
        for transport in self.admission.connections if cuts_off else ():
            self.admission.forget(transport)
            transport.abort()

    async def let_in_again(self) -> None:
        """Raises CannotServe where the port is gone meanwhile."""
        await self.start()

    async def stop(self) -> None:
        if self._server is not None:
            self._server.close()
        for task in self._handshakes:
            task.cancel()
        for transport in self.admission.connections:
            transport.abort()

    def shake_hands(self, transport: asyncio.Transport) -> None:
        """Go on inside TLS, if the far end does so in time."""
        task = asyncio.get_running_loop().create_task(self._shake_hands(transport))
        self._handshakes.add(task)
        task.add_done_callback(self._handshakes.discard)

    async def _shake_hands(self, transport: asyncio.Transport) -> None:
        assert self._context is not None
        who, connection = host_of(transport), _Connection(self)
        try:
            secured = await asyncio.get_running_loop().start_tls(
                transport, connection, self._context, server_side=True, ssl_handshake_timeout=HANDSHAKE_S
            )
        except TimeoutError:
            self.admission.tell(who, f"was cut off: no secure connection within {HANDSHAKE_S:g} s")
        except OSError as error:  # of TLS too
            reason = error.reason if isinstance(error, ssl.SSLError) and error.reason else "it went away"
            words = reason.lower().replace("_", " ")
            self.admission.tell(who, f"was cut off: no secure connection came about ({words})")
        except Exception as error:  # an internal error costs this handshake only
            report(f"{self.answerer.name}: {who} was cut off", error)
        else:
            if secured is not None:
                self.admission.forget(transport)
                connection.connection_made(secured)
                return
        self.admission.forget(transport)
        transport.abort()

    def functions_of(self, transport: asyncio.Transport, master: Master) -> frozenset[int] | None:
        """The functions that this client's role may use; None for all. `master` receives its role."""
        ssl_object = transport.get_extra_info("ssl_object")
        certificate = ssl_object.getpeercert(True) if ssl_object is not None else None
        if not certificate:
            return None if not self._roles else frozenset()
        role = role_in(certificate)
        master.role = role or ""
        functions = frozenset(self._roles.get(role or "", ())) if self._roles else None
        may = ", which may ask nothing here" if functions is not None and not functions else ""
        self.admission.tell(
            host_of(transport), f"connected with a certificate of {f'the role {role!r}' if role else 'no role'}{may}"
        )
        return functions


class _ServerHandshake(asyncio.Protocol):
    """A connection before it is secure: nothing is read of it here."""

    def __init__(self, server: NetworkServer) -> None:
        self._server = server

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        transport.pause_reading()
        self._server.admission.begin_handshake(transport)
        self._server.shake_hands(transport)

    def connection_lost(self, exc: Exception | None) -> None:
        self._server.admission.forget(self._transport)


class _Connection(asyncio.BufferedProtocol):
    """Takes bytes in a buffer of its own: asyncio would make one of 256 KiB for every request. Where frames tell their
    length they are taken as they come; else a `Hearing` says where they end."""

    def __init__(self, server: NetworkServer) -> None:
        self._server = server
        self._buffer = memoryview(bytearray(_BUFFER_BYTES))
        self._hearing: Hearing | None = None
        if server.framing.has_transactions:
            self._decoder = server.framing.decoder(Role.REQUESTS)
        else:
            self._hearing = Hearing(server.answerer, server.framing, _QUIET_S)
        self._functions: frozenset[int] | None = None
        self._master = NOBODY
        self._timer: asyncio.TimerHandle | None = None
        self._line: asyncio.Task[None] | None = None
        self._most_bytes, self._is_slowed = _BUFFER_BYTES, False
        self._later: set[asyncio.Future[Any]] = set()  # answers that somebody is asked for
        self._noise = 0  # bytes since the last frame
        self._early: bytes | None = b""  # what came inside TLS before we knew that it is made

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        early, self._early = self._early, None
        if self._server.admission.admit(transport):
            self._master = Master(host_of(transport), self._server.answerer.name)
            self._functions = self._server.functions_of(transport, self._master)
            if early:
                self._guarded(lambda: self._receive(early))

    def connection_lost(self, exc: Exception | None) -> None:
        if self._early is None:
            self._server.admission.forget(self._transport)
        if self._line is not None:
            self._line.cancel()
        self._drop_later()
        if self._timer is not None:
            self._timer.cancel()

    def get_buffer(self, sizehint: int) -> memoryview:
        return self._buffer[: self._most_bytes]

    def buffer_updated(self, nbytes: int) -> None:
        self._guarded(lambda: self._receive(bytes(self._buffer[:nbytes])))

    def _guarded(self, work: Callable[[], None]) -> None:
        """An internal error costs this connection, is reported, and whoever asks may connect again."""
        try:
            work()
        except Exception as error:
            self._break_at(error)

    def _break_at(self, error: BaseException) -> None:
        server = self._server
        server.admission.forget(self._transport)
        report(f"{server.answerer.name}: {host_of(self._transport)} was cut off", error)
        self._transport.abort()

    def _receive(self, data: bytes) -> None:
        if self._early is not None:
            self._early += data
            return
        hearing, server = self._hearing, self._server
        if hearing is None:
            events = self._decoder.feed(data)
            answers, has_broken = answers_to(server.answerer, server.framing, events, self._functions, self._master)
            self._send(answers, has_broken)
            return
        for at in range(0, len(data), _PIECE):  # what is much is mostly noise
            if self._transport.is_closing():
                return
            self._take(hearing, hearing.take(data[at : at + _PIECE]))
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        patience_s = hearing.patience_s
        if patience_s is not None:
            loop = asyncio.get_running_loop()
            self._timer = loop.call_later(
                patience_s, lambda: self._guarded(lambda: self._take(hearing, hearing.settle()))
            )

    def _take(self, hearing: Hearing, heard: list[Heard]) -> None:
        server = self._server
        answers: list[Framed] = []
        has_broken = False
        while heard:
            events = [event for event, _ in heard]
            self._note_noise(events)
            if any(isinstance(event, Frame) for event in events):
                self._drop_later()  # without a transaction nobody could tell whose answer it is
            more, is_broken = answers_to(server.answerer, server.framing, events, self._functions, self._master)
            answers += more
            has_broken = has_broken or is_broken
            heard = hearing.again()
        self._send(answers, has_broken)

    def _note_noise(self, events: list[Event]) -> None:
        for event in events:
            self._noise = self._noise + len(event.raw) if isinstance(event, Garbled) else 0
        if self._noise > _MOST_NOISE and not self._transport.is_closing():
            framing = self._server.framing.name.upper()
            self._server.admission.drop(self._transport, f"{self._noise} bytes came that are no {framing} framing")

    def _send(self, answers: "list[Framed]", has_broken: bool) -> None:
        server = self._server
        if answers:
            server.admission.note_use(self._transport)
        now: list[bytes | Outgoing] = []
        for answer in answers:
            if isinstance(answer, bytes | Outgoing):
                now.append(answer)
            else:
                self._send_when_there(answer)
        self._slow_down(len(answers) - len(now))
        if now and self._line is None and all(type(answer) is bytes for answer in now):
            self._write(b"".join(now))  # type: ignore[arg-type]
        elif now:
            self._put_in_line(now)
        if has_broken and not self._transport.is_closing():
            server.admission.tell(
                host_of(self._transport), f"was cut off: what it sends is no {server.framing.name.upper()} framing"
            )
            self._transport.close()

    def _slow_down(self, count: int) -> None:
        """Whoever asks so much at once that others would wait for it is read a little at a time, with pauses."""
        if count <= _MOST_AT_ONCE:
            self._most_bytes = _BUFFER_BYTES
        elif not self._transport.is_closing():
            self._most_bytes = _FEW_BYTES
            self._is_slowed = True
            self._transport.pause_reading()
            asyncio.get_running_loop().call_later(_SLOWED_S, self._read_on)

    def _read_on(self) -> None:
        self._is_slowed = False
        if self._line is None and len(self._later) < _MOST_LATER and not self._transport.is_closing():
            self._transport.resume_reading()

    def _send_when_there(self, answer: "Awaitable[Outgoing]") -> None:
        """It goes out when it is there, whatever was asked before or after it: its transaction tells whose it is."""
        began_s = asyncio.get_running_loop().time()
        if isinstance(answer, Coming):
            self._note_later(answer.answer, lambda future: self._end_coming(answer, began_s))
            return

        async def work() -> None:
            await self._go_out_whole(await answer, began_s)

        self._note_later(asyncio.get_running_loop().create_task(work()), self._end_later)

    async def _go_out_whole(self, sending: "Outgoing", began_s: float) -> None:
        await sending.go_out(began_s, self._go_out)
        if sending.hangs_up:
            self._transport.close()

    def _note_later(self, later: "asyncio.Future[Any]", ended: "Callable[[asyncio.Future[Any]], None]") -> None:
        self._later.add(later)
        later.add_done_callback(ended)
        if len(self._later) >= _MOST_LATER:
            self._transport.pause_reading()

    def _end_coming(self, coming: "Coming", began_s: float) -> None:
        """What goes out at once does so here: a task would cost each answer two turns of the loop."""
        self._end_later(coming.answer)
        if coming.answer.cancelled() or coming.answer.exception() is not None:
            return
        sending = coming.outgoing()
        if sending.hangs_up or any(after_s for after_s, _ in sending.pieces):
            work = self._go_out_whole(sending, began_s)
            self._note_later(asyncio.get_running_loop().create_task(work), self._end_later)
            return
        for _, data in sending.pieces:
            self._guarded(lambda data=data: self._go_out(data))  # type: ignore[misc]

    def _end_later(self, task: "asyncio.Future[Any]") -> None:
        self._later.discard(task)
        if not task.cancelled() and (error := task.exception()) is not None:
            self._break_at(error)
        if len(self._later) == _MOST_LATER - 1 and not self._is_slowed:
            self._read_on()

    def _drop_later(self) -> None:
        """Nobody waits for these answers any more."""
        for task in list(self._later):
            task.cancel()

    def _write(self, data: bytes) -> None:
        self._transport.write(data)
        if self._transport.get_write_buffer_size() > _MOST_UNSENT and not self._transport.is_closing():
            self._server.admission.drop(self._transport, "it asks and does not read the answers")

    def _put_in_line(self, answers: "list[bytes | Outgoing]") -> None:
        """Answers that take their time go out in the order of their requests; meanwhile not much more is read."""
        began_s = asyncio.get_running_loop().time()
        before = self._line

        async def work() -> None:
            if before is not None:
                await before
            for answer in answers:
                sending = Outgoing([(0.0, answer)]) if isinstance(answer, bytes) else answer
                await sending.go_out(began_s, self._go_out)
                if sending.hangs_up:
                    self._transport.close()

        self._line = line = asyncio.get_running_loop().create_task(work())
        self._transport.pause_reading()
        line.add_done_callback(self._go_on)

    def _go_out(self, data: bytes) -> None:
        if not self._transport.is_closing():
            self._write(data)

    def _go_on(self, line: asyncio.Task[None]) -> None:
        if not line.cancelled() and (error := line.exception()) is not None:
            self._break_at(error)
        if line is self._line:
            self._line = None
            if not self._is_slowed:
                self._read_on()


class Outgoing(Struct):
    """Bytes of one answer with the seconds after its request at which they go out; whether the connection ends then."""

    pieces: Pieces
    hangs_up: bool = False

    async def go_out(self, asked_s: float, write: Callable[[bytes], None]) -> None:
        """`asked_s` is the loop time of the request."""
        loop = asyncio.get_running_loop()
        for after_s, data in self.pieces:
            if (wait_s := asked_s + after_s - loop.time()) > 0:
                await asyncio.sleep(wait_s)
            write(data)


class Coming(Struct, frozen=True):
    """An answer that is being made already: no task is needed to wait for it."""

    answer: "asyncio.Future[Answer]"
    framing: Framing
    frame: Frame

    def __await__(self) -> Generator[Any, None, Outgoing]:
        return _framed_later(self.framing, self.frame, self.answer).__await__()

    def outgoing(self) -> Outgoing:
        """Once it is there."""
        return _sending(self.framing, self.frame, self.answer.result())


Framed = bytes | Outgoing | Awaitable[Outgoing]


def answers_to(
    answerer: Answerer,
    framing: Framing,
    events: list[Event],
    functions: frozenset[int] | None = None,
    master: Master = NOBODY,
) -> tuple[list[Framed], bool]:
    """The frames that answer what came (or will), and whether the stream cannot be read on. A function that is not in
    `functions` gets 01."""
    answers: list[Framed] = []
    has_broken = False
    for event in events:
        if isinstance(event, Garbled):
            answerer.note_garbled()
            has_broken = has_broken or event.fatal
            continue
        answer = _answer(answerer, framing, event, functions, master)
        if answer is not None:
            answers.append(answer)
    return answers, has_broken


def _answer(
    answerer: Answerer, framing: Framing, frame: Frame, functions: frozenset[int] | None, master: Master
) -> Framed | None:
    pdu: AnyAnswer
    if functions is not None and frame.pdu[0] not in functions:
        pdu = Refused(frame.pdu[0] & 0x7F, ExceptionCode.ILLEGAL_FUNCTION).encode()
    else:
        pdu = answerer.answer(frame.unit_id, frame.pdu, master)
    if type(pdu) is bytes:
        return framing.encode(frame.unit_id, pdu, frame.transaction or 0)
    if isinstance(pdu, asyncio.Future):
        return Coming(pdu, framing, frame)
    if is_later(pdu):
        return _framed_later(framing, frame, pdu)
    return _sending(framing, frame, pdu) if isinstance(pdu, ShapedAnswer) else None


def _sending(framing: Framing, frame: Frame, answer: Answer) -> Outgoing:
    if isinstance(answer, ShapedAnswer):
        pieces = answer.pieces(lambda unit_id, pdu: framing.encode(unit_id, pdu, frame.transaction or 0))
        return Outgoing(pieces, answer.hangs_up)
    return Outgoing([(0.0, framing.encode(frame.unit_id, answer, frame.transaction or 0))] if answer else [])


async def _framed_later(framing: Framing, frame: Frame, answer: Awaitable[Answer]) -> Outgoing:
    return _sending(framing, frame, await answer)


class DatagramServer:
    """Answers datagrams on `host`:`port`, each a frame of its own."""

    def __init__(self, answerer: Answerer, framing: Framing, host: str, port: int) -> None:
        self.answerer = answerer
        self.framing = framing
        self.host, self.port = host, port
        self.admission = Admission(answerer.name)
        self._transport: asyncio.DatagramTransport | None = None

    async def start(self) -> None:
        """Bind. Raises CannotServe."""
        try:
            self._transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
                lambda: _Datagrams(self), local_addr=(self.host, self.port)
            )
        except OSError as error:
            raise cannot_bind(self.answerer.name, self.host, self.port, error) from None
        self.port = self._transport.get_extra_info("sockname")[1]

    async def stop(self) -> None:
        if self._transport is not None:
            self._transport.abort()


class _Datagrams(asyncio.DatagramProtocol):
    def __init__(self, server: DatagramServer) -> None:
        self._server = server
        self._tasks: set[asyncio.Task[None]] = set()

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.DatagramTransport, transport)  # before Python 3.12 it is none by its class

    def datagram_received(self, data: bytes, addr: tuple[str | int, ...]) -> None:
        try:
            self._take(data, addr)
        except Exception as error:  # an internal error costs this datagram only
            report(f"{self._server.answerer.name}: a datagram was thrown away", error)

    def _take(self, data: bytes, addr: tuple[str | int, ...]) -> None:
        server = self._server
        if not server.admission.may_ask(str(addr[0])):
            server.admission.tell(f"{addr[0]}:{addr[1]}", "was not answered: only those may ask that --clients names")
            return
        master = Master(f"{addr[0]}:{addr[1]}", server.answerer.name)
        events = server.framing.decoder(Role.REQUESTS).feed(data)
        answers, _ = answers_to(server.answerer, server.framing, events, None, master)
        for answer in answers:
            if not isinstance(answer, bytes):
                task = asyncio.get_running_loop().create_task(self._send_later(answer, addr))
                self._tasks.add(task)
                task.add_done_callback(self._tasks.discard)
            else:
                self._transport.sendto(answer, addr)

    async def _send_later(self, answer: "Outgoing | Awaitable[Outgoing]", addr: tuple[str | int, ...]) -> None:
        asked_s = asyncio.get_running_loop().time()
        try:
            sending = answer if isinstance(answer, Outgoing) else await answer
            await sending.go_out(asked_s, lambda data: self._transport.sendto(data, addr))
        except Exception as error:  # as above
            report(f"{self._server.answerer.name}: a datagram was thrown away", error)
