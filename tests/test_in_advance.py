"""What was there before a request is never its answer: a far end that sends answers to what it will be asked, with
values that prove when they were made."""

import asyncio
import contextlib
import os
import select
import socket
import ssl
import threading
import time
import tty
from collections.abc import Callable

from msgspec.structs import replace

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer
from tests.rawends import framed, settings_of, unframed
from tests.test_tls import WithCertificates

_AHEAD = 5


class Prophet:
    """Each answer has the number of requests that had come when it was made. Beside each it sends answers to the next
    `_AHEAD` transactions; `is_after` sends them behind it, not before."""

    def __init__(self, text: str, is_after: bool, path: str = "", context: ssl.SSLContext | None = None) -> None:
        self.kind, self._carrier = settings_of(text)
        self._is_after, self._context = is_after, context
        self.seen = 0
        self.port = 0
        self._is_over = False
        if self._carrier == "serial":
            self._near, self._far = os.openpty()
            for descriptor in (self._near, self._far):
                tty.setraw(descriptor)
            os.symlink(os.ttyname(self._far), path)
        else:
            is_udp = self._carrier == "udp"
            self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM if is_udp else socket.SOCK_STREAM)
            self._socket.bind(("127.0.0.1", 0))
            self.port = self._socket.getsockname()[1]
            if not is_udp:
                self._socket.listen()
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._is_over = True
        self._thread.join(5)
        for descriptor in (self._near, self._far) if self._carrier == "serial" else ():
            os.close(descriptor)
        if self._carrier != "serial":
            self._socket.close()

    def _frames(self, raw: bytes) -> list[bytes] | None:
        found = unframed(self.kind, raw)
        if found is None:
            return None
        transaction, unit, _ = found
        self.seen += 1
        pdu = b"\x03\x02" + self.seen.to_bytes(2)
        ahead = range(1, (_AHEAD if self.kind == "tcp" else 1) + 1)
        ahead_frames = [framed(self.kind, unit, pdu, (transaction + by) & 0xFFFF) for by in ahead]
        answer = framed(self.kind, unit, pdu, transaction)
        return [answer, *ahead_frames] if self._is_after else [*ahead_frames, answer]

    def _work(self) -> None:
        with contextlib.suppress(OSError):
            if self._carrier == "serial":
                self._talk(lambda: os.read(self._near, 1000), lambda data: os.write(self._near, data), self._near)
                return
            if self._carrier == "udp":
                while not self._is_over:
                    if select.select([self._socket], [], [], 0.05)[0]:
                        data, host = self._socket.recvfrom(1000)
                        for at, frame in enumerate(self._frames(data) or []):
                            if self._is_after and at == 1:
                                time.sleep(0.003)
                            self._socket.sendto(frame, host)
                return
            while not self._is_over:
                if select.select([self._socket], [], [], 0.05)[0]:
                    connection, _ = self._socket.accept()
                    connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)  # or it waits for the next request
                    if self._context is not None:
                        connection = self._context.wrap_socket(connection, server_side=True)
                    with connection:
                        self._talk(lambda one=connection: one.recv(1000), connection.sendall, connection)  # type: ignore[misc]

    def _talk(self, read: Callable[[], bytes], write: Callable[[bytes], object], wait_on: int | socket.socket) -> None:
        held = b""
        while not self._is_over:
            if not select.select([wait_on], [], [], 0.05)[0]:
                continue
            data = read()
            if not data:
                return
            held += data
            try:
                frames = self._frames(held)
            except ValueError:  # two requests, since an answer in advance was taken for one
                frames, held = None, b""
            if frames is not None:
                held = b""
                if self._is_after:
                    write(frames[0])
                    time.sleep(0.003)
                write(b"".join(frames[1:] if self._is_after else frames))


class InAdvance(WithCertificates):
    def _context(self) -> ssl.SSLContext:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_verify_locations(self.folder / "ca.pem")
        context.verify_mode = ssl.CERT_REQUIRED
        context.load_cert_chain(self.folder / "server.pem", self.folder / "server.key")
        return context

    async def _ask(self, exchanger: Exchanger, pause_s: float, count: int) -> list[tuple[int, Outcome]]:
        """Outcomes, each with how many requests had gone with its own."""
        outcomes = []
        await exchanger.open()
        for number in range(1, count + 1):
            outcomes.append((number, await exchanger.ask(7, Read(Table.HOLDING, 0, 1), 0.15)))
            if pause_s < 0:
                time.sleep(-pause_s)  # the loop is busy: what comes meanwhile waits in the socket
            else:
                await asyncio.sleep(pause_s)
        exchanger.close()
        return outcomes

    async def _chained(self, exchanger: Exchanger, count: int) -> list[tuple[int, Outcome]]:
        """The next request goes out of the answer's own call, as in polling."""
        outcomes: list[tuple[int, Outcome]] = []
        over = asyncio.get_running_loop().create_future()

        def done(outcome: Outcome) -> None:
            outcomes.append((len(outcomes) + 1, outcome))
            if len(outcomes) == count:
                over.set_result(None)
            else:
                exchanger.start(7, Read(Table.HOLDING, 0, 1), 0.15, None, done)

        await exchanger.open()
        exchanger.start(7, Read(Table.HOLDING, 0, 1), 0.15, None, done)
        await over
        exchanger.close()
        return outcomes

    def test_no_value_is_older_than_its_request(self) -> None:
        for text in ("tcp://h", "udp://h", "tls://h", "rtu+tcp://h", "ascii+tcp://h", "rtu:///p"):
            for is_after in (False, True):
                for how in (0.0, 0.05, -0.15, "chained"):
                    with self.subTest(text, is_after=is_after, how=how):
                        self._check(text, is_after, how)

    def _check(self, text: str, is_after: bool, how: float | str) -> None:
        kind, carrier = settings_of(text)
        path = str(self.folder / f"p{is_after}{how}")
        prophet = Prophet(text, is_after, path, self._context() if carrier == "tls" else None)
        self.addCleanup(prophet.close)
        place = path if carrier == "serial" else f"127.0.0.1:{prophet.port}"
        link = parse_link(f"{text.partition('://')[0]}://{place}" + ("?baud=115200" if carrier == "serial" else ""))
        if isinstance(link, TcpLink) and carrier == "tls":
            link = replace(link, tls=self._files("operator"))
        exchanger = exchanger_for(link)
        work = self._chained(exchanger, 8) if isinstance(how, str) else self._ask(exchanger, how, 8)
        outcomes = asyncio.run(work)
        good = 0
        for number, outcome in outcomes:
            if outcome.kind is OutcomeKind.GOOD:
                assert isinstance(outcome.content, ReadAnswer)
                good += 1
                if is_after and how in (0.0, "chained"):
                    # what is behind an answer may come after the next request: only its transaction tells it then
                    self.assertIn(number - outcome.content.words[0], range(_AHEAD + 1))
                else:
                    self.assertEqual(outcome.content.words, (number,), outcome)
        if carrier not in ("serial",) and kind == "tcp" and not is_after:
            self.assertGreater(good, 4, [outcome.reason for _, outcome in outcomes if not outcome.is_good][:3])
