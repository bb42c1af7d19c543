"""Faults on demand as bytes, on RTU, ASCII and TCP; how devices behave; who asked what. The far ends here are bytes of
the test's own."""

import asyncio
import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import tty
import unittest
from collections.abc import Awaitable, Callable
from functools import partial
from pathlib import Path

from kanaleto.bench.bench import Bench
from kanaleto.bench.faults import ServedFault, parse_fault
from kanaleto.bench.free import PortFound, look_at
from kanaleto.bench.masters import Masters
from kanaleto.bench.servedunits import Units
from kanaleto.files.loading import load_site
from kanaleto.serving.answerer import Master, ShapedAnswer
from kanaleto.site.links.link import FramingKind
from kanaleto.site.model import Line
from kanaleto.supervision.owned import Failure, follow, leave
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.frames import Framing
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.simulated import DEFAULT_MAP, Wires, device
from tests.test_bench import free_port
from tests.virtual import run_virtual

MAP = (
    "name,table,address,type,access,initial\nLevel,holding,0,uint16,r,7\n"
    "Target,holding,1,uint16,rw,40\nErrors,holding,2,uint16,r,0\n"
)
READ = bytes.fromhex("0300000002")
RIGHT = bytes.fromhex("030400070028")


class Served(unittest.TestCase):
    rows = MAP

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def site(self, link: str, more: str = "") -> Path:
        (self.folder / "m.csv").write_text(self.rows)
        path = self.folder / "site.toml"
        path.write_text(
            f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "{link}"\n'
            f'[[line.device]]\nname = "D"\nunit_id = 5\nmap = "m.csv"\n{more}'
        )
        return path

    def units(self, link: str, more: str = "") -> Units:
        site, _ = load_site(self.site(link, more))
        return Units(site.lines[0], site.lines[0].link.framing is not FramingKind.TCP, 3)

    def served(self, more: str, work: Callable[[Bench, int], Awaitable[None]]) -> None:
        port = free_port()
        site, _ = load_site(self.site(f"tcp://127.0.0.1:{port}", more))

        async def run() -> None:
            bench = Bench(site)
            await bench.start()
            running = asyncio.create_task(bench.run())
            try:
                await work(bench, port)
            finally:
                running.cancel()
                await bench.stop()

        asyncio.run(run())


def _framed(framing: Framing, transaction: int, unit_id: int, pdu: bytes) -> bytes:
    return framing.encode(unit_id, pdu, transaction)


class AsBytes(Served):
    def sent(self, link: str, fault: str, times: int = 1) -> list[list[tuple[float, str]]]:
        """What goes out for so many reads: pieces with their delays, in hexadecimal."""
        framings: dict[str, Framing] = {"tcp": Tcp(), "rtu": Rtu(), "asc": Ascii()}
        framing = framings[link[:3]]
        units = self.units(link)
        units.set_faults("D", [ServedFault(parse_fault(f"D: {fault}"), 3)])
        found = []
        for number in range(times):
            answer = units.answer(5, READ, Master("m", "L"))
            if isinstance(answer, bytes):
                answer = ShapedAnswer(5, answer)
            pieces = answer.pieces(partial(_framed, framing, 9 + number)) if answer else []
            found.append([(round(after_s, 3), data.hex()) for after_s, data in pieces])
        return found

    def test_each_fault_on_each_framing(self) -> None:
        rtu, tcp, ascii_ = "rtu:///dev/null-1", "tcp://127.0.0.1:1502", "ascii:///dev/null-1"
        right = {rtu: "0503040007" + "00285e2c", tcp: "000900000007050304" + "00070028"}
        right[ascii_] = b":0503040007002".hex()  # as far as it is looked at
        plain = {link: self.sent(link, "lost each=9")[0][0][1] for link in (rtu, tcp, ascii_)}
        self.assertTrue(plain[tcp] == right[tcp] and plain[rtu].startswith("05030400070028"))
        self.assertTrue(plain[ascii_].startswith(right[ascii_]))
        for link in (rtu, tcp, ascii_):
            with self.subTest(link):
                self.assertEqual(self.sent(link, "silent"), [[]])
                self.assertEqual(self.sent(link, "late ms=300"), [[(0.3, plain[link])]])
                ((after_s, data),) = self.sent(link, "late ms=[200,400]")[0]
                self.assertTrue(0.2 <= after_s <= 0.4 and data == plain[link])
                lost = [len(pieces) for pieces in self.sent(link, "lost each=3", 6)]
                self.assertEqual(lost, [1, 1, 0, 1, 1, 0])
                self.assertEqual(self.sent(link, "short bytes=3")[0][0][1], plain[link][:6])
        ((_, garbled),) = self.sent(tcp, "garbled")[0]
        self.assertEqual(garbled, plain[tcp][:8] + "0006" + plain[tcp][12:])
        ((_, garbled),) = self.sent(rtu, "garbled bits=2")[0]
        differs = int(garbled, 16) ^ int(plain[rtu], 16)
        self.assertEqual(differs.bit_count(), 2)
        ((_, other),) = self.sent(rtu, "unit unit=9")[0]
        self.assertEqual(bytes.fromhex(other), Rtu().encode(9, RIGHT))
        self.assertEqual(self.sent(tcp, "exception code=4")[0][0][1], "000900000003058304")
        self.assertEqual(self.sent(tcp, "busy")[0][0][1], "000900000003058306")

    def test_the_answer_before_has_this_transaction(self) -> None:
        units = self.units("tcp://127.0.0.1:1502")
        units.set_faults("D", [ServedFault(parse_fault("D: previous"), 3)])
        self.assertEqual(units.answer(5, READ), RIGHT)
        self.assertEqual(units.answer(5, bytes.fromhex("0300010001")), RIGHT)
        self.assertEqual(units.answer(5, READ), bytes.fromhex("03020028"))

    def test_a_point_with_a_space_in_its_name(self) -> None:
        wanted = parse_fault("Lower sluice: jump point='Gate position' by=2.5")
        self.assertEqual((wanted.target, wanted.numbers), ("Lower sluice", {"point": "Gate position", "by": 2.5}))

    def test_what_is_no_fault_is_told(self) -> None:
        for text, reason in (
            ("late ms=3", "write a device or a line"), ("D: lat ms=3", "'lat' is no fault .did you mean 'late'"),
            ("D: late", "late needs ms"), ("D: late s=3", "late has no key 's'; it has ms"),
            ("D: late ms=-3", "is not what it may be"), ("D: garbled each=0", "is not what it may be"),
            ("D: jump point='Le", "a quote in it does not end"), ("D: noise a_second=0", "is not what it may be"),
            ("D: unit unit=300", "is not what it may be"), ("D: late ms", "'ms' is no key=value"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(ValueError, reason):
                parse_fault(text)


class Behaving(Served):
    def test_delays_limits_and_counted_errors(self) -> None:
        behaves = '[line.device.behaves]\ndelay_ms = [8, 15]\nreceive_bytes = 20\nerrors_in = "Errors"\n'
        units = self.units("tcp://127.0.0.1:1502", f'max_registers = 2\n{behaves}too_long = "02"\n')
        delays = set()
        for _ in range(50):
            answer = units.answer(5, READ)
            assert isinstance(answer, ShapedAnswer)
            self.assertEqual(answer.pdu, RIGHT)
            delays.add(answer.delay_s)
        self.assertTrue(all(0.008 <= delay <= 0.015 for delay in delays) and len(delays) > 10)
        self.assertEqual(units.answer(5, bytes.fromhex("0300000003")), bytes.fromhex("8302"))
        self.assertIsNone(units.answer(5, bytes.fromhex("10000000080010") + bytes(16)))
        units.answer(5, bytes.fromhex("0300630001"))
        units.answer(5, bytes.fromhex("4100"))
        self.assertEqual(units.devices[0].value("Errors"), 2)
        silent = self.units("tcp://127.0.0.1:1502", 'max_registers = 2\n[line.device.behaves]\ntoo_long = "silent"\n')
        self.assertIsNone(silent.answer(5, bytes.fromhex("0300000003")))
        plain = self.units("tcp://127.0.0.1:1502", "max_registers = 2\n")
        self.assertEqual(plain.answer(5, bytes.fromhex("0300000003")), bytes.fromhex("8303"))

    def test_no_more_connections_than_it_bears(self) -> None:
        for with_more, reads in (("refused", (True, False)), ("oldest", (False, True))):

            async def work(bench: Bench, port: int, reads: tuple[bool, bool] = reads) -> None:
                ends = [await asyncio.open_connection("127.0.0.1", port) for _ in range(2)]
                await asyncio.sleep(0.2)
                found = []
                for reader, writer in ends:
                    writer.write(bytes.fromhex("000100000006050300000001"))
                    with contextlib.suppress(ConnectionError):
                        found.append(bool(await asyncio.wait_for(reader.read(50), 10)))
                        continue
                    found.append(False)
                self.assertEqual(tuple(found), reads)

            with self.subTest(with_more):
                self.served(f'[line.device.behaves]\nconnections = 1\nwith_more = "{with_more}"\n', work)

    def test_a_connection_without_a_request_is_closed(self) -> None:
        async def work(bench: Bench, port: int) -> None:
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(bytes.fromhex("000100000006050300000001"))
            self.assertTrue(await reader.read(50))
            with contextlib.suppress(ConnectionError):
                self.assertEqual(await asyncio.wait_for(reader.read(50), 20), b"")

        self.served("[line.device.behaves]\nidle_s = 0.5\n", work)

    def test_a_unit_id_holds_at_once_or_after_power(self) -> None:
        rows = MAP.replace("initial\n", "initial,setting\n") + "Own,holding,5,uint16,rw,,unit_id\n"
        for after in ("at once", "power"):

            async def work(bench: Bench, port: int, after: str = after) -> None:
                units, written = bench.units[0], bytes.fromhex("0600050009")
                self.assertEqual(bench.devices[0].value("Own"), 5)
                self.assertEqual(units.answer(5, written), written)
                await asyncio.sleep(0.5)
                if after == "power":
                    self.assertEqual(units.answer(5, READ), RIGHT)
                    fault = parse_fault("D: power")
                    bench.begin_fault(fault)
                    await bench.end_fault(fault)
                self.assertEqual((units.answer(9, READ), units.answer(5, READ)), (RIGHT, b"\x83\x0b"))

            with self.subTest(after):
                self.rows = rows
                self.served(f'[line.device.behaves]\nsettings_after = "{after}"\n', work)

    def test_a_setting_that_begins_with_something_is_kept_without_power(self) -> None:
        self.rows = MAP.replace("initial\n", "initial,setting\n") + "Own,holding,5,uint16,rw,5,unit_id\n"

        async def work(bench: Bench, port: int) -> None:
            bench.units[0].answer(5, bytes.fromhex("0600050009"))
            fault = parse_fault("D: power")
            bench.begin_fault(fault)
            await bench.end_fault(fault)
            self.assertEqual(bench.units[0].answer(9, READ), RIGHT)

        self.served('[line.device.behaves]\nsettings_after = "power"\n', work)


class Shut(Served):
    def is_let_in(self, port: int) -> bool:
        try:
            with socket.create_connection(("127.0.0.1", port), 10):
                return True
        except ConnectionError:
            return False

    def test_from_the_start_and_for_as_long_as_any_of_them_stands(self) -> None:
        port = free_port()
        site, _ = load_site(self.site(f"tcp://127.0.0.1:{port}"))
        refuse, cable = parse_fault("D: refuse"), parse_fault("L: cable")

        async def work() -> None:
            bench = Bench(site)
            bench.begin_fault(refuse)
            await bench.start()
            self.assertFalse(self.is_let_in(port))
            bench.begin_fault(cable)
            await bench.end_fault(refuse)
            self.assertFalse(self.is_let_in(port))
            await bench.end_fault(cable)
            self.assertTrue(self.is_let_in(port))
            await bench.stop()

        asyncio.run(work())

    def test_what_a_device_has_not_is_told_before_it_is_wanted(self) -> None:
        bench = Bench(load_site(self.site("tcp://127.0.0.1:1502"))[0])
        for text, reason in (
            ("D: jump point=Levle by=2", "D has no point 'Levle' .did you mean 'Level'"),
            ("D: frozen point=No", "D has no point 'No'"), ("E: silent", "'E' is no device and no line"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(ValueError, reason):
                bench.require(parse_fault(text))

    def test_a_step_that_fails_is_told_and_the_bench_goes_on(self) -> None:
        texts: list[str] = []

        async def work(bench: Bench, port: int) -> None:
            def fail() -> None:
                raise RuntimeError("nobody meant this")

            def follower(failure: Failure) -> None:
                texts.append(failure.text)

            follow(follower)
            try:
                bench.settings.step = fail  # type: ignore[method-assign]
                before = bench.movement.steps
                while bench.movement.steps < before + 5:
                    await asyncio.sleep(0.1)
            finally:
                leave(follower)

        self.served("", work)
        self.assertIn("nobody meant this", texts[0])


class WhoAsks(Served):
    def test_reads_that_nobody_repeats_end_after_a_minute(self) -> None:
        now = [100.0]
        units, masters = self.units("tcp://127.0.0.1:1502"), Masters(now=lambda: now[0])
        units.masters = masters
        units.answer(5, READ, Master("a:1", "L"))
        now[0] += 59
        units.answer(5, READ, Master("b:1", "L"))
        masters.end_old()
        self.assertEqual(len(masters.rows), 0)
        now[0] += 2
        masters.end_old()
        self.assertEqual([row.master for row in masters.rows], ["a:1"])

    def test_each_master_apart_writes_each_and_reads_folded(self) -> None:
        now = [100.0]
        units, masters = self.units("tcp://127.0.0.1:1502"), Masters(now=lambda: now[0])
        units.masters = masters
        for number in range(10):
            now[0] += 0.5
            units.answer(5, READ, Master("10.0.0.1:7", "L"))
            if number % 2:
                units.answer(5, READ, Master("10.0.0.2:9", "L"))
        units.answer(5, bytes.fromhex("0600010032"), Master("10.0.0.2:9", "L"))
        units.answer(5, bytes.fromhex("0600000032"), Master("10.0.0.2:9", "L"))
        masters.flush()
        rows = [(row.master, row.function, row.outcome, row.times, row.points) for row in masters.rows]
        self.assertEqual(
            rows,
            [
                ("10.0.0.2:9", 6, "done", 1, ("Target",)), ("10.0.0.2:9", 6, "refused", 1, ("Level",)),
                ("10.0.0.1:7", 3, "done", 10, ("Level", "Target")), ("10.0.0.2:9", 3, "done", 5, ("Level", "Target")),
            ],
        )  # fmt: skip
        self.assertEqual((masters.rows[0].old, masters.rows[0].written), ([40], [50]))
        self.assertEqual((masters.rows[1].code, masters.rows[1].old), (2, None))
        self.assertEqual(masters.rows[2].period_s, 0.5)

    def test_serve_logs_and_has_its_faults(self) -> None:
        port = free_port()
        path, log = self.site(f"tcp://127.0.0.1:{port}"), self.folder / "log.jsonl"
        command = [
            sys.executable,
            "-m",
            "kanaleto",
            "serve",
            str(path),
            "--log",
            str(log),
            "--fault",
            "D: hang_up after=3",
        ]
        served = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        assert served.stdout is not None
        try:
            self.assertEqual(served.stdout.readline(), "ready\n")
            with socket.create_connection(("127.0.0.1", port), 10) as master:
                for number in range(3):
                    master.sendall(bytes.fromhex(f"000{number}00000006050300000002"))
                    self.assertEqual(master.recv(100).hex()[-8:], "00070028")
                master.settimeout(10)
                self.assertEqual(master.recv(10), b"", "it hangs up")
            with socket.create_connection(("127.0.0.1", port), 10) as master:
                master.sendall(bytes.fromhex("000700000006050600010032"))
                self.assertEqual(master.recv(100).hex()[-10:], "0600010032")
        finally:
            served.send_signal(signal.SIGTERM)
            _, text = served.communicate(timeout=60)
        self.assertEqual((served.returncode, text), (0, ""))
        rows = [json.loads(line) for line in log.read_text().splitlines()]
        self.assertEqual([(row["function"], row["times"], row["old"], row["written"]) for row in rows],
                         [(6, 1, [40], [50]), (3, 3, None, None)])  # fmt: skip
        self.assertEqual(rows[0]["points"], ["Target"])
        self.assertNotEqual(rows[0]["master"], rows[1]["master"])

    def test_what_cannot_be_served_is_told(self) -> None:
        path = str(self.site("tcp://127.0.0.1:1502"))
        for words, reason in (
            (("--line", "Nope"), "'Nope' is no line and no device"), (("--fault", "D: nope"), "'nope' is no fault"),
            (("--fault", "X: silent"), "'X' is no device and no line"), (("--log-all",), "--log-all goes with --log"),
        ):  # fmt: skip
            with self.subTest(words):
                command = [sys.executable, "-m", "kanaleto", "serve", path, *words]
                done = subprocess.run(command, capture_output=True, text=True, timeout=60)
                self.assertEqual(done.returncode, 2, done.stderr)
                self.assertIn(reason, done.stderr)


class PortThatExists(Served):
    """Whether real devices answer there: a line of the test's own on the virtual clock, and a pseudo-terminal."""

    def looked(self, wires: Wires, rows: str = DEFAULT_MAP, chatter: bytes = b"") -> PortFound:
        line = Line("L", wires.link, (device("Ours", 23, rows),))

        async def work() -> PortFound:
            looking = asyncio.ensure_future(look_at(line, opener=wires.opener))
            while not looking.done():
                await asyncio.sleep(0.1)
                if chatter and wires.channels and wires.channels[-1].is_open:
                    channel = wires.channels[-1]
                    channel._deliver(channel._generation, chatter, asyncio.get_running_loop().time())
            return looking.result()

        return run_virtual(work())

    def test_a_unit_that_answers_is_heard_by_one_request(self) -> None:
        wires = Wires(device("Real", 23), device("Other", 9))
        self.assertRegex(self.looked(wires).why_not, "unit 23 answers there already")
        self.assertEqual([(frame.unit_id, frame.pdu[0]) for frame, _ in wires.requests], [(23, 3)])

    def test_nobody_there_is_asked_once_each(self) -> None:
        wires = Wires(device("Other", 9))
        self.assertEqual(self.looked(wires), PortFound())
        self.assertEqual([frame.unit_id for frame, _ in wires.requests], [23])

    def test_what_may_not_be_read_is_not_asked(self) -> None:
        wires = Wires(device("Other", 9))
        self.assertEqual(self.looked(wires, "name,table,address,access\nA,holding,0,w\n").unsure, ("Ours",))
        self.assertEqual(wires.requests, [])

    def test_where_another_master_talks_its_answers_decide_and_nothing_is_sent(self) -> None:
        for unit, is_free in ((23, False), (9, True)):
            wires = Wires(device("Real", 23), device("Other", 9))
            rtu = Rtu()
            told = rtu.encode(unit, READ) + rtu.encode(unit, RIGHT)
            place = self.looked(wires, chatter=told)
            with self.subTest(unit):
                self.assertTrue(place.was_heard)
                self.assertEqual(place.why_not == "", is_free, place)
                self.assertEqual(wires.requests, [])

    def test_the_command_refuses_a_port_where_a_device_answers(self) -> None:
        port = self.folder / "port"
        path = self.site(f"rtu://{port}?baud=38400")
        serve = [sys.executable, "-m", "kanaleto", "serve"]
        real = subprocess.Popen([*serve, str(path)], stdout=subprocess.PIPE, text=True)
        assert real.stdout is not None
        try:
            self.assertEqual(real.stdout.readline(), "ready\n")
            beside = self.folder / "other.toml"
            beside.write_text(path.read_text().replace(str(port), str(port.resolve())))
            done = subprocess.run([*serve, str(beside)], capture_output=True, text=True, timeout=60)
            self.assertEqual(done.returncode, 1, done.stderr)
            self.assertRegex(done.stderr, "L: listening on .* for 2 s before anybody answers there")
            self.assertRegex(done.stderr, "unit 5 answers there already: good; --line .L. --at .rtu://")
            self.assertNotIn("ready", done.stdout)
        finally:
            real.terminate()
            real.communicate(timeout=60)


class Running(Served):
    def test_registers_move_freeze_and_jump_while_it_runs(self) -> None:
        moves = '[line.device.moves]\nLevel = { wave = "saw", low = 0, high = 1000, period_s = 100 }\n'
        site, _ = load_site(self.site(f"tcp://127.0.0.1:{free_port()}", moves))

        async def work() -> None:
            bench = Bench(site)
            await bench.start()
            running = asyncio.create_task(bench.run())
            device = bench.devices[0]
            try:
                await self.until(lambda: bench.movement.steps > 3)
                fault = parse_fault("L: frozen point=Level")
                bench.begin_fault(fault)
                await asyncio.sleep(0.15)
                before = device.value("Level")
                await asyncio.sleep(0.6)
                self.assertEqual(device.value("Level"), before)
                await bench.end_fault(fault)
                await self.until(lambda: device.value("Level") != before)
                bench.begin_fault(parse_fault("D: jump point=Target by=2"))
                self.assertEqual(device.value("Target"), 42)
            finally:
                running.cancel()
                await bench.stop()

        asyncio.run(work())

    def test_connections_are_refused_cut_off_and_let_in_again_and_power_begins_again(self) -> None:
        port = free_port()
        site, _ = load_site(self.site(f"tcp://127.0.0.1:{port}"))
        frame = bytes.fromhex("000100000006050300000002")

        async def asked(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, request: bytes = frame) -> bytes:
            writer.write(request)
            try:
                return await asyncio.wait_for(reader.read(100), 1.0)
            except TimeoutError:
                return b"silence"
            except ConnectionResetError:
                return b""

        async def work() -> None:
            bench = Bench(site)
            await bench.start()
            try:
                one = await asyncio.open_connection("127.0.0.1", port)
                refuse, cable, power = (parse_fault(f"D: {name}") for name in ("refuse", "cable", "power"))
                bench.begin_fault(refuse)
                self.assertEqual((await asked(*one))[-4:], bytes.fromhex("00070028"), "who is in stays")
                with self.assertRaises(OSError):
                    await asyncio.open_connection("127.0.0.1", port)
                await bench.end_fault(refuse)
                two = await asyncio.open_connection("127.0.0.1", port)
                self.assertEqual((await asked(*two))[-4:], bytes.fromhex("00070028"))
                bench.begin_fault(cable)
                self.assertIn(await asked(*two), (b"", b"silence"))
                with self.assertRaises(OSError):
                    await asyncio.open_connection("127.0.0.1", port)
                await bench.end_fault(cable)
                three = await asyncio.open_connection("127.0.0.1", port)
                await asked(*three, bytes.fromhex("000200000006050600010063"))
                bench.begin_fault(power)
                self.assertEqual(await asked(*three), b"silence")
                await bench.end_fault(power)
                self.assertEqual((await asked(*three))[-4:], bytes.fromhex("00070028"), "as it began")
            finally:
                await bench.stop()

        asyncio.run(work())

    def test_noise_and_the_cable_of_a_serial_line(self) -> None:
        port = self.folder / "port"
        site, _ = load_site(self.site(f"rtu://{port}?baud=115200"))
        frame, right = Rtu().encode(5, READ), Rtu().encode(5, RIGHT)

        async def asked() -> bytes:
            try:
                descriptor = os.open(port, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
            except OSError:
                return b"no port"
            try:
                tty.setraw(descriptor)
                os.write(descriptor, frame)
                await asyncio.sleep(0.3)
                return os.read(descriptor, 500)
            except OSError:
                return b""
            finally:
                os.close(descriptor)

        async def work() -> None:
            bench = Bench(site)
            for text, message in (("D: refuse", "for lines over TCP"), ("L: hang_up after=3", "")):
                with contextlib.suppress(ValueError):
                    bench.require(parse_fault(text))
                    self.assertEqual(message, "")
            await bench.start()
            running = asyncio.create_task(bench.run())
            try:
                self.assertEqual(await asked(), right)
                cable, noise = parse_fault("L: cable"), parse_fault("L: noise a_second=40")
                for _ in range(2):
                    bench.begin_fault(cable)
                    await asyncio.sleep(0.2)
                    self.assertEqual(await asked(), b"no port")
                    await bench.end_fault(cable)
                    self.assertEqual(await asked(), right)
                bench.begin_fault(noise)
                heard = b"".join([await asked() for _ in range(4)])
                self.assertIn(right, heard)
                self.assertGreater(len(heard), 4 * len(right), "bytes that nobody asked for")
                await bench.end_fault(noise)
                await asyncio.sleep(0.2)
                await asked()
                self.assertEqual(await asked(), right)
                bench.begin_fault(cable)
                await asyncio.sleep(0.2)
            finally:
                running.cancel()
                await bench.stop()

        asyncio.run(work())
        bench = Bench(load_site(self.site(f"tcp://127.0.0.1:{free_port()}"))[0])
        with self.assertRaisesRegex(ValueError, "noise is for serial lines"):
            bench.require(parse_fault("D: noise a_second=5"))

    async def until(self, is_so: object) -> None:
        assert callable(is_so)
        end = time.monotonic() + 30
        while not is_so():
            self.assertLess(time.monotonic(), end)
            await asyncio.sleep(0.02)


if __name__ == "__main__":
    unittest.main()
