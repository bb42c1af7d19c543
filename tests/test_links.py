"""Both ends against each other over every link: TCP, UDP, TLS with throw-away certificates, serial frames over TCP,
pseudo-terminals in RTU and ASCII, RFC 2217; and what only some of them have: transactions in flight, echo, broadcast,
roles, a connection a request."""

import asyncio
import socket
import tempfile
import time
import unittest
from pathlib import Path

from msgspec.structs import replace

from kanaleto.bench.servedunits import Units
from kanaleto.bench.server import SiteServer
from kanaleto.events.clock import Clock
from kanaleto.lines.identify import Identification, identify
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.lines.serialport import _send
from kanaleto.polling.session import Session
from kanaleto.serving.admission import MOST_CONNECTIONS
from kanaleto.site.links.link import Link
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.links.udp import UdpLink
from kanaleto.site.model import Line, Simulated, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.diagnostics import Diagnose, EventCounter, Plain
from kanaleto.wire.frames import Frame
from kanaleto.wire.identity import Depth, Identify, Identity
from kanaleto.wire.pdu import Raw, Read, ReadAnswer, Request, WriteRegister
from kanaleto.wire.records import (
    Fifo,
    FileData,
    FileRead,
    FileSpan,
    MaskWrite,
    ReadBack,
    ReadFifo,
    ReadFile,
    WriteFile,
    WriteThenRead,
)
from tests.simulated import Pieces, SimulatedLine, device
from tests.test_bench import MAP, free_port
from tests.virtual import run_virtual

EXTRAS = Simulated(
    identity=((4, "Alder lift"), (0x80, "x" * 200), (0x81, "y" * 200)),
    files=((4, 0, 9),),
    fifos=((40, (440, 4740)),),
    server_id="AL-7",
)
ASKED: list[Request] = [
    Read(Table.HOLDING, 0, 3),
    Read(Table.COIL, 0, 2),
    MaskWrite(0, 0xFFF0, 0x0005),
    WriteThenRead(0, 3, 2, (77,)),
    WriteFile((FileData(4, 2, b"abcd"),)),
    ReadFile((FileSpan(4, 2, 2),)),
    ReadFifo(40),
    Identify(Depth.ONE, 4),
    Raw(0x41, b"\1\2"),
]


def check_answers(test: unittest.TestCase, outcomes: list[Outcome]) -> None:
    read, coils, mask, both, written, file, fifo, name, outcome = outcomes
    test.assertEqual(read.content, ReadAnswer(Table.HOLDING, bytes.fromhex("000A0014001E")), read.reason)
    test.assertEqual(coils.content, ReadAnswer(Table.COIL, b"\1"))
    test.assertTrue(mask.is_good and written.is_good, (mask.reason, written.reason))
    test.assertEqual(both.content, ReadBack(bytes.fromhex("00050014004D")))
    test.assertEqual(file.content, FileRead((b"abcd",)))
    test.assertEqual(fifo.content, Fifo((440, 4740)))
    assert isinstance(name.content, Identity)
    test.assertEqual(name.content.objects, ((4, b"Alder lift"),))
    test.assertEqual((outcome.kind, outcome.code), (OutcomeKind.EXCEPTION, 1))


def line_of(link: Link, **settings: object) -> Line:
    each_device = replace(device("One", 5, MAP), simulated=EXTRAS)
    return replace(Line("Line", link, (each_device, device("Two", 6, MAP))), **settings)  # type: ignore[arg-type]


def asked(
    line: Line, requests: list[Request], client: Link | None = None, clients: list[str] | None = None
) -> list[Outcome]:
    async def work() -> list[Outcome]:
        server = SiteServer(Site("S", (line,)), on_client=clients.append if clients is not None else None)
        await server.start()
        exchanger = exchanger_for(client or line.link)
        try:
            await exchanger.open()
            return [await exchanger.ask(5, request, 3) for request in requests]
        finally:
            exchanger.close()
            await server.stop()

    return asyncio.run(work())


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class EveryLink(InFolder):
    def test_every_function_both_ways(self) -> None:
        for text in (
            f"tcp://127.0.0.1:{free_port()}",
            f"udp://127.0.0.1:{free_port()}",
            f"rtu+tcp://127.0.0.1:{free_port()}",
            f"ascii+tcp://127.0.0.1:{free_port()}",
            f"rtu://{self.folder}/rtu?baud=115200",
            f"ascii://{self.folder}/ascii?baud=115200",
        ):
            with self.subTest(link=text):
                check_answers(self, asked(line_of(parse_link(text)), ASKED))

    def test_serial_functions(self) -> None:
        requests: list[Request] = [
            Diagnose(0, b"abcd"),
            Read(Table.HOLDING, 99, 1),
            Diagnose(11),
            Diagnose(13),
            Plain(11),
            Plain(7),
            Diagnose(10),
            Diagnose(11),
        ]
        loop, _, messages, exceptions, events, status, _, cleared = asked(
            line_of(parse_link(f"rtu://{self.folder}/a?baud=115200")), requests
        )
        self.assertEqual(loop.content, Diagnose(0, b"abcd"))
        self.assertEqual([getattr(o.content, "word", None) for o in (messages, exceptions, cleared)], [3, 1, 1])
        self.assertEqual(events.content, EventCounter(0, 3))  # the loopback and two counters; no exception, nor itself
        self.assertEqual(getattr(status.content, "outputs", None), 1)
        (over_tcp,) = asked(line_of(TcpLink("127.0.0.1", free_port())), [Plain(11)])
        self.assertEqual(over_tcp.code, 1)

    def test_identification_with_more_follows(self) -> None:
        line = line_of(parse_link(f"rtu+tcp://127.0.0.1:{free_port()}"))

        async def work() -> Identification:
            server = SiteServer(Site("S", (line,)))
            await server.start()
            exchanger = exchanger_for(line.link)
            await exchanger.open()
            found = await identify(exchanger, 5, 3)
            exchanger.close()
            await server.stop()
            return found

        found = asyncio.run(work())
        self.assertEqual(
            {number: len(text) for number, text in found.objects.items() if number > 3}, {4: 10, 0x80: 200, 0x81: 200}
        )
        self.assertEqual((found.server_id, found.is_running), ("AL-7", True))


class Direction(unittest.TestCase):
    def test_rts_is_up_while_the_bytes_leave(self) -> None:
        class Port:
            def __init__(self) -> None:
                self.seen: list[object] = []

            def __setattr__(self, name: str, value: object) -> None:
                if name == "rts":
                    self.seen.append(value)
                super().__setattr__(name, value)

            def write(self, data: bytes) -> None:
                self.seen.append(data)

            def flush(self) -> None:
                self.seen.append("gone")

        port = Port()
        start = time.monotonic()
        _send(port, b"abc", True, 0.01)  # type: ignore[arg-type]
        self.assertEqual(port.seen, [True, b"abc", "gone", False])
        self.assertGreaterEqual(time.monotonic() - start, 0.03)


class OnOneLine(unittest.TestCase):
    """What a serial line does, on a virtual clock."""

    def _line(self, **settings: object) -> SimulatedLine:
        return SimulatedLine(device("One", 5, MAP), device("Two", 6, MAP), **settings)  # type: ignore[arg-type]

    def test_a_broadcast_is_good_after_the_turnaround_and_reads_make_no_sense(self) -> None:
        line = self._line()

        async def work() -> Outcome:
            exchanger = line.exchanger()
            await exchanger.open()
            with self.assertRaisesRegex(ValueError, "nobody answers"):
                exchanger.ask(0, Read(Table.HOLDING, 0, 1), 1)
            return await exchanger.ask(0, WriteRegister(0, 42), 1)

        outcome = run_virtual(work())
        self.assertEqual((outcome.kind, round(outcome.took_s, 3)), (OutcomeKind.GOOD, 0.1))
        self.assertEqual([simulated.value("A") for simulated in line.units.devices], [42, 42])

    def test_listen_only_until_a_restart(self) -> None:
        line = self._line()

        async def work() -> list[OutcomeKind]:
            exchanger = line.exchanger()
            await exchanger.open()
            requests: list[Request] = [Diagnose(4), WriteRegister(0, 9), Diagnose(1), WriteRegister(0, 8)]
            return [(await exchanger.ask(5, request, 0.2)).kind for request in requests]

        silent, good = OutcomeKind.TIMEOUT, OutcomeKind.GOOD
        self.assertEqual(run_virtual(work()), [silent, silent, silent, good])
        self.assertEqual(line.units.devices[0].value("A"), 8)

    def test_an_adapter_that_echoes(self) -> None:
        def echo(frame: Frame, at: float, right: Pieces) -> Pieces:
            return [(at, frame.raw), *right]

        for is_told in (True, False):
            line = self._line()
            line.fault = echo

            async def work(line: SimulatedLine = line, is_told: bool = is_told) -> list[Outcome]:
                exchanger = line.exchanger()
                exchanger._declared_echo = is_told or None
                await exchanger.open()
                outcomes = [
                    await exchanger.ask(5, Read(Table.HOLDING, 0, 3), 1),
                    await exchanger.ask(5, WriteRegister(0, 1), 1),
                ]
                outcomes.append(await exchanger.ask(77, WriteRegister(0, 1), 0.3))
                self.assertEqual(exchanger.has_found_echo, not is_told)
                return outcomes

            with self.subTest(is_told=is_told):
                kinds = [outcome.kind for outcome in run_virtual(work())]
                self.assertEqual(kinds, [OutcomeKind.GOOD, OutcomeKind.GOOD, OutcomeKind.TIMEOUT])

    def test_an_echo_alone_is_told(self) -> None:
        line = self._line()
        line.fault = lambda frame, at, right: [(at, frame.raw)]

        async def work() -> Outcome:
            exchanger = line.exchanger()
            await exchanger.open()
            return await exchanger.ask(5, Read(Table.HOLDING, 0, 3), 0.5)

        outcome = run_virtual(work())
        self.assertEqual(outcome.kind, OutcomeKind.UNEXPECTED)
        self.assertIn("echo=yes", outcome.reason)

    def test_several_transactions_in_flight(self) -> None:
        slow = self._line(is_serial=False, delay_s=0.1)

        async def count(in_flight: int) -> int:
            slow.requests.clear()
            line = replace(
                slow.line, in_flight=in_flight, devices=tuple(device(f"D{n}", n, period_s=0) for n in (5, 6, 7, 8))
            )
            slow.units = Units(line, is_serial=False)
            session = Session(Site("S", (line,)), slow.exchanger, clock=Clock(None))
            task = asyncio.create_task(session.run())
            await asyncio.sleep(10.05)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            self.assertTrue(all(row.outcome.is_good for row in session.exchanges))
            return session.count

        one = run_virtual(count(1))
        self.assertEqual(one, 100)
        self.assertGreater(run_virtual(count(4)), 3.9 * one)

    def test_a_connection_per_request(self) -> None:
        line = line_of(TcpLink("127.0.0.1", free_port()), connects_per_request=True)
        opened: list[int] = []

        async def work() -> Session:
            server = SiteServer(Site("S", (line,)))
            await server.start()
            (listening,) = server._servers.values()
            listening.admission.admit = (  # type: ignore[union-attr, method-assign]
                lambda transport: bool(opened.append(1) or True)  # type: ignore[func-returns-value]
            )
            session = Session(Site("S", (line,)))
            task = asyncio.create_task(session.run())
            await asyncio.sleep(0.5)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            await server.stop()
            return session

        session = asyncio.run(work())
        self.assertEqual(session.count, len(opened))
        self.assertTrue(
            all(row.outcome.is_good for row in session.exchanges), [row.outcome.reason for row in session.exchanges]
        )


class Ends(unittest.TestCase):
    def test_a_server_that_closes_at_once_is_unreachable_and_not_silent(self) -> None:
        async def work() -> Outcome:
            server = await asyncio.start_server(lambda reader, writer: writer.transport.abort(), "127.0.0.1", 0)
            exchanger = exchanger_for(TcpLink("127.0.0.1", server.sockets[0].getsockname()[1]))
            await exchanger.open()
            await asyncio.sleep(0.05)
            outcome = await exchanger.ask(5, ASKED[0], 3)
            server.close()
            return outcome

        self.assertEqual(asyncio.run(work()).kind, OutcomeKind.UNREACHABLE)

    def test_the_end_of_a_closed_connection_is_not_that_of_the_next(self) -> None:
        line = line_of(TcpLink("127.0.0.1", free_port()))

        async def work() -> list[Outcome]:
            server = SiteServer(Site("S", (line,)))
            await server.start()
            exchanger = exchanger_for(line.link)
            outcomes = []
            for _ in range(20):
                await exchanger.open()
                outcomes.append(await exchanger.ask(5, ASKED[0], 3))
                exchanger.close()
            await server.stop()
            return outcomes

        self.assertTrue(all(outcome.is_good for outcome in asyncio.run(work())))


class Crowds(unittest.TestCase):
    def test_a_crowd_of_idle_clients_takes_nobody_s_service(self) -> None:
        link = TcpLink("127.0.0.1", free_port())

        async def work() -> tuple[Outcome, int]:
            server = SiteServer(Site("S", (line_of(link),)))
            await server.start()
            exchanger = exchanger_for(link)
            await exchanger.open()
            await exchanger.ask(5, ASKED[0], 3)
            crowd: list[asyncio.StreamWriter] = []
            for number in range(MOST_CONNECTIONS + 50):  # each sends one byte and waits
                _, writer = await asyncio.open_connection(link.host, link.port)
                writer.write(b"\0")
                crowd.append(writer)
                if number % 100 == 99:
                    await exchanger.ask(5, ASKED[0], 3)
            outcome = await exchanger.ask(5, ASKED[0], 3)
            (listening,) = server._servers.values()
            held = len(listening.admission.connections)  # type: ignore[union-attr]
            for writer in crowd:
                writer.transport.abort()
            exchanger.close()
            await server.stop()
            return outcome, held

        outcome, held = asyncio.run(work())
        self.assertTrue(outcome.is_good, outcome.reason)
        self.assertLessEqual(held, MOST_CONNECTIONS)

    def test_datagrams_that_are_no_frame(self) -> None:
        link = UdpLink("127.0.0.1", free_port())
        line = line_of(link)

        async def work() -> Outcome:
            server = SiteServer(Site("S", (line,)))
            await server.start()
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
                for junk in (b"", b"\0", b"\xff" * 300, b"\0\1\0\0\0\6\5\3\0"):
                    stranger.sendto(junk, (link.host, link.port))
            exchanger = exchanger_for(link)
            await exchanger.open()
            outcome = await exchanger.ask(5, ASKED[0], 3)
            exchanger.close()
            await server.stop()
            return outcome

        self.assertTrue(asyncio.run(work()).is_good)
