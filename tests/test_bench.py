"""Simulated devices: how they answer, on which units, over TCP, pseudo-terminals, and to a stranger's bytes."""

import asyncio
import os
import socket
import tempfile
import time
import unittest
from pathlib import Path

from msgspec.structs import replace

from kanaleto.bench.compiledmoves import Movement
from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.servedunits import Units
from kanaleto.bench.server import SiteServer
from kanaleto.demo.start import copy_site
from kanaleto.files.loading import load_site
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.serving.network import CannotServe
from kanaleto.site.links.link import SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import DeviceLimits, Line, Simulated, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer, Request, WriteRegister
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.simulated import device

MAP = """name,table,address,type,access,initial
A,holding,0,uint16,rw,10
B,holding,1,uint16,r,20
C,holding,2,uint16,rw,30
D,input,5,int32,r,-2
E,coil,0,,rw,1
F,coil,1,,r,0
G,discrete,3,,r,1
"""


class Answers(unittest.TestCase):
    def _check(self, simulated: SimulatedDevice, cases: list[tuple[str, str]]) -> None:
        for request, answer in cases:
            with self.subTest(request=request):
                self.assertEqual((simulated.answer(bytes.fromhex(request)) or b"").hex(" ").upper(), answer)

    def test_in_the_standard_s_order(self) -> None:
        self._check(
            SimulatedDevice(device("Device", 1, MAP)),
            [
                ("03 0000 0003", "03 06 00 0A 00 14 00 1E"),
                ("04 0005 0002", "04 04 FF FF FF FE"),
                ("01 0000 0002", "01 01 01"),
                ("02 0003 0001", "02 01 01"),
                ("03 0000 0004", "83 02"),  # past the map
                ("03 0000 0000", "83 03"),  # quantity before address
                ("03 9999 007E", "83 03"),
                ("04 0000 0001", "84 02"),
                ("06 0000 0063", "06 00 00 00 63"),
                ("03 0000 0001", "03 02 00 63"),
                ("06 0001 0063", "86 02"),  # read-only
                ("10 0000 0002 04 0001 0002", "90 02"),  # one of the two is read-only: nothing is written
                ("03 0000 0001", "03 02 00 63"),
                ("05 0000 0000", "05 00 00 00 00"),
                ("05 0000 1234", "85 03"),
                ("05 0001 FF00", "85 02"),
                ("0F 0000 0001 01 01", "0F 00 00 00 01"),
                ("2C 00", "AC 01"),
                ("41 00", "C1 01"),
            ],
        )

    def test_limits_of_one_device(self) -> None:
        each_device = replace(
            device("Device", 1, MAP), limits=DeviceLimits(max_registers=2, functions=(3,)), simulated=Simulated(True)
        )
        self._check(
            SimulatedDevice(each_device),
            [
                ("03 0000 0003", "83 03"),
                ("03 0002 0002", "03 04 00 1E 00 00"),
                ("04 0005 0002", "84 01"),
                ("04 0005 0000", "84 01"),
            ],
        )

    def test_how_a_device_wants_to_be_written(self) -> None:
        for write_with, codes in (("single", ["06 00 00 00 01", "90 01"]), ("multiple", ["86 01", "10 00 00 00 01"])):
            simulated = SimulatedDevice(replace(device("Device", 1, MAP), limits=DeviceLimits(write_with=write_with)))
            self._check(simulated, list(zip(("06 0000 0001", "10 0000 0001 02 0001"), codes, strict=True)))

    def test_units_that_nobody_has(self) -> None:
        one = device("One", 5, MAP)
        read = bytes.fromhex("0300000001")
        serial = Units(Line("L", SerialLink("/x"), (one,)), is_serial=True)
        self.assertIsNone(serial.answer(6, read))
        self.assertIsNone(serial.answer(255, read))
        alone = Units(Line("L", TcpLink("127.0.0.1", 502), (one,)), is_serial=False)
        self.assertEqual(alone.answer(6, read), b"\x83\x0b")
        self.assertEqual(alone.answer(255, read), alone.answer(5, read))
        two = Units(Line("L", TcpLink("127.0.0.1", 502), (one, device("Two", 6, MAP))), is_serial=False)
        self.assertEqual(two.answer(0, read), b"\x83\x0b")

    def test_a_broadcast_writes_everywhere_and_nobody_answers(self) -> None:
        units = Units(Line("L", SerialLink("/x"), (device("One", 5, MAP), device("Two", 6, MAP))), is_serial=True)
        self.assertIsNone(units.answer(0, bytes.fromhex("0600000007")))
        self.assertEqual([simulated.value("A") for simulated in units.devices], [7, 7])


class AlderLock(unittest.TestCase):
    def test_its_physics_hang_together(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            site, _ = load_site(copy_site(Path(folder), 15020))
        server = SiteServer(site)
        world = Movement([one for units in server.units for one in units.devices], site.lines, site.bench_seed)
        level, gate = server.device("Upper pool level"), server.device("Upper sluice")
        opened, seen = [], set()
        for _ in range(900):
            before = level.value("Pool level")
            world.step()
            if float(gate.value("Gate position")) > 70:  # type: ignore[arg-type]
                opened.append(float(level.value("Pool level")) - float(before))  # type: ignore[arg-type]
            seen.add(gate.value("Run state"))
        self.assertEqual((world.clamped, world.wrong), ({}, {}))
        self.assertLess(sum(opened), -0.1)  # an open sluice empties the pool
        self.assertEqual(seen, {0, 1, 2})
        for _, each_device in site.devices():
            for point in each_device.points:
                self.assertIsNotNone(server.device(each_device.name).value(point.name))


class Served(unittest.TestCase):
    """Real sockets and pseudo-terminals."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.port = f"{folder.name}/port"

    def _ask(self, link: TcpLink | SerialLink, *requests: Request) -> list[Outcome]:
        site = Site("S", (Line("Line", link, (device("One", 5, MAP), device("Two", 6, MAP))),))

        async def work() -> list[Outcome]:
            server = SiteServer(site)
            await server.start()
            exchanger = exchanger_for(link)
            await exchanger.open()
            outcomes = [await exchanger.ask(5, request, 3) for request in requests]
            exchanger.close()
            await server.stop()
            return outcomes

        return asyncio.run(work())

    def test_over_tcp_and_over_a_pseudo_terminal(self) -> None:
        for link in (TcpLink("127.0.0.1", free_port()), SerialLink(self.port)):
            with self.subTest(link=str(link)):
                read, written, again, refused = self._ask(
                    link,
                    Read(Table.HOLDING, 0, 3),
                    WriteRegister(2, 77),
                    Read(Table.HOLDING, 2, 1),
                    Read(Table.HOLDING, 9, 1),
                )
                self.assertEqual(read.content, ReadAnswer(Table.HOLDING, bytes.fromhex("000A0014001E")))
                self.assertTrue(written.is_good)
                self.assertEqual(again.content, ReadAnswer(Table.HOLDING, bytes.fromhex("004D")))
                self.assertEqual((refused.kind, refused.code), (OutcomeKind.EXCEPTION, 2))
        self.assertFalse(os.path.lexists(self.port))
        self.assertEqual(os.listdir(Path(self.port).parent), [])

    def test_a_pseudo_terminal_takes_a_line_s_time(self) -> None:
        settings = SerialSettings(baud=2400)
        (outcome,) = self._ask(SerialLink(self.port, settings), Read(Table.HOLDING, 0, 3))
        least = 11 * settings.character_s + settings.gap_s
        self.assertGreaterEqual(outcome.took_s, 0.95 * least)
        self.assertLess(outcome.took_s, 10 * least)

    def test_a_port_in_use_and_a_path_that_is_taken(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            with self.assertRaisesRegex(CannotServe, "in use by another program"):
                self._ask(TcpLink("127.0.0.1", taken.getsockname()[1]))
        with self.assertRaisesRegex(CannotServe, "no address of this machine"):
            self._ask(TcpLink("192.0.2.1", 1502))
        Path(self.port).write_text("mine")
        with self.assertRaisesRegex(CannotServe, "no serial port"):
            self._ask(SerialLink(self.port))
        self.assertEqual(Path(self.port).read_text(), "mine")
        with self.assertRaisesRegex(CannotServe, "none is made under /dev"):
            self._ask(SerialLink("/dev/kanaleto-nothing"))

    def test_a_link_that_a_crash_left_is_replaced(self) -> None:
        Path(self.port).symlink_to("/dev/pts/99999")
        with self.assertRaisesRegex(CannotServe, "not ours"):
            self._ask(SerialLink(self.port))
        Path(self.port).with_name(".port.served").write_text("/dev/pts/99999")
        (outcome,) = self._ask(SerialLink(self.port), Read(Table.HOLDING, 0, 1))
        self.assertTrue(outcome.is_good)

    def test_a_stranger_s_bytes(self) -> None:
        link = TcpLink("127.0.0.1", free_port())
        site = Site("S", (Line("Line", link, (device("One", 5, MAP),)),))

        async def work() -> list[bytes]:
            server = SiteServer(site)
            await server.start()
            seen = []
            for sent in (
                b"\0\1\0\0\0\6\5\3\0\0\0\1",
                b"\0\1\0\0\0\6\5\3\0\0\0",
                b"\0\1\0\0\xff\xff\5\3",
                b"GET / HTTP/1.1\r\n\r\n",
            ):
                reader, writer = await asyncio.open_connection(link.host, link.port)
                for at in range(0, len(sent), 3):
                    writer.write(sent[at : at + 3])
                    await writer.drain()
                try:
                    seen.append(await asyncio.wait_for(reader.read(100), 0.3))
                except TimeoutError:
                    seen.append(b"silence")
                writer.close()
            await server.stop()
            return seen

        right, cut, oversized, stranger = asyncio.run(work())
        self.assertEqual(right, Tcp().encode(5, b"\x03\x02\0\x0a", 1))
        self.assertEqual(cut, b"silence")
        self.assertEqual((oversized, stranger), (b"", b""))  # closed

    def test_a_stranger_on_the_serial_line(self) -> None:
        site = Site("S", (Line("Line", SerialLink(self.port), (device("One", 5, MAP),)),))
        good = Rtu().encode(5, bytes.fromhex("0300000001"))

        async def work() -> bytes:
            server = SiteServer(site)
            await server.start()
            descriptor = os.open(self.port, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
            try:
                os.write(descriptor, b"\xff\x00\x55" + good[:-1] + b"\x00")
                await asyncio.sleep(0.3)
                os.write(descriptor, good)
                got = b""
                end = time.monotonic() + 5
                while len(got) < 7 and time.monotonic() < end:
                    await asyncio.sleep(0.02)
                    try:
                        got += os.read(descriptor, 100)
                    except BlockingIOError:
                        continue
                return got
            finally:
                os.close(descriptor)
                await server.stop()

        self.assertEqual(asyncio.run(work()), Rtu().encode(5, b"\x03\x02\0\x0a"))


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
