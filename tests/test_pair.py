"""Two ends joined back to back: raw ends on either side, on pseudo-terminals and TCP; paced, damaged, heard, kept."""

import json
import os
import socket
import tempfile
import termios
import time
import tty
import unittest
from pathlib import Path

from kanaleto.bridge.backtoback import JoinedEnds, PairFault, end_of
from kanaleto.cli.pair import fault_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.overhearing import HeardExchange
from kanaleto.serving.network import CannotServe
from kanaleto.site.links.parse import parse_link
from tests.commanded import run
from tests.rawends import RawMaster, framed, unframed
from tests.test_bench import free_port
from tests.test_rows import InThread


class Joined(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.thread = InThread()
        self.addCleanup(self.thread.close)
        self.heard: list[HeardExchange] = []

    def pair(self, one: str, other: str, baud: int = 0, fault: PairFault | None = None) -> JoinedEnds:
        async def start() -> JoinedEnds:
            ends = [end_of(parse_link(text), "pair", baud) for text in (one, other)]
            pair = JoinedEnds(ends[0], ends[1], baud, fault, 7, self.heard.append)
            await pair.start()
            return pair

        pair: JoinedEnds = self.thread.run(start())
        self.addCleanup(lambda: self.thread.run(pair.stop()))
        return pair

    def ports(self, **options: int) -> tuple[JoinedEnds, int, int]:
        """A pair of pseudo-terminals, both opened."""
        one, other = f"rtu://{self.folder}/a?baud=19200", f"rtu://{self.folder}/b?baud=19200"
        pair = self.pair(one, other, options.get("baud", 0))
        ends = []
        for name in ("a", "b"):
            end = os.open(self.folder / name, os.O_RDWR | os.O_NOCTTY)
            self.addCleanup(os.close, end)
            tty.setraw(end)
            ends.append(end)
        return pair, ends[0], ends[1]

    def read(self, end: int, count: int, within_s: float = 5.0) -> bytes:
        os.set_blocking(end, False)
        came, until_s = b"", time.monotonic() + within_s
        while len(came) < count and time.monotonic() < until_s:
            try:
                came += os.read(end, 4096)
            except BlockingIOError:
                time.sleep(0.002)
        return came

    def test_every_byte_passes_both_ways(self) -> None:
        pair, one, other = self.ports()
        data = bytes(range(256)) * 8
        os.write(one, data)
        self.assertEqual(self.read(other, len(data)), data)
        os.write(other, data[::-1])
        self.assertEqual(self.read(one, len(data)), data[::-1])
        self.assertEqual([end.came for end in pair.ends], [len(data), len(data)])
        self.assertLess(pair.delays_ms()[0], 20.0)

    def test_bytes_take_as_long_as_on_a_wire(self) -> None:
        _, one, other = self.ports(baud=9600)
        began_s = time.monotonic()
        os.write(one, bytes(200))
        self.assertEqual(self.read(other, 200), bytes(200))
        took_s = time.monotonic() - began_s
        self.assertGreater(took_s, 0.99 * 200 * 11 / 9600)

    def test_an_end_at_another_rate_gets_and_gives_damaged_bytes(self) -> None:
        _, one, other = self.ports(baud=19200)
        settings = termios.tcgetattr(other)
        settings[4] = settings[5] = termios.B9600
        termios.tcsetattr(other, termios.TCSANOW, settings)
        os.write(one, b"\x01\x03\x00\x00\x00\x01\x84\x0a")
        came = self.read(other, 8)
        self.assertEqual(len(came), 8)
        self.assertNotEqual(came, b"\x01\x03\x00\x00\x00\x01\x84\x0a")
        settings[4] = settings[5] = termios.B19200
        termios.tcsetattr(other, termios.TCSANOW, settings)
        os.write(one, b"right")
        self.assertEqual(self.read(other, 5), b"right")

    def test_exchanges_are_heard_on_wires_and_on_streams(self) -> None:
        pair, one, other = self.ports()
        request, answer = framed("rtu", 5, b"\x03\x00\x00\x00\x01"), framed("rtu", 5, b"\x03\x02\x00\x07")
        for _ in range(3):
            os.write(one, request)
            self.read(other, len(request))
            os.write(other, answer)
            self.read(one, len(answer))
            time.sleep(0.05)
        self.thread.run(pair.stop())
        self.assertEqual(pair.exchanges, 3)
        good = [heard for heard in self.heard if heard.kind is OutcomeKind.GOOD]
        self.assertEqual({(heard.request, heard.answer) for heard in good}, {(request, answer)})
        first, second = free_port(), free_port()
        streams = self.pair(f"tcp://127.0.0.1:{first}", f"tcp://127.0.0.1:{second}")
        with socket.create_connection(("127.0.0.1", second)) as slave:
            master = RawMaster("tcp://x", first)
            master.send(framed("tcp", 9, b"\x03\x00\x00\x00\x01", 5))
            found = unframed("tcp", slave.recv(100))
            self.assertEqual(found, (5, 9, b"\x03\x00\x00\x00\x01"))
            slave.sendall(framed("tcp", 9, b"\x83\x02", 5))
            self.assertEqual(unframed("tcp", master.receive(5)), (5, 9, b"\x83\x02"))
            master.close()
        until_s = time.monotonic() + 5  # it is heard once it has passed
        while not streams.exchanges and time.monotonic() < until_s:
            time.sleep(0.01)
        self.assertEqual(streams.exchanges, 1)

    def test_faults_by_number(self) -> None:
        first, second = free_port(), free_port()
        self.pair(
            f"tcp://127.0.0.1:{first}", f"tcp://127.0.0.1:{second}", fault=fault_of(("late ms=50", "lost each=3"))
        )
        here, there = ("127.0.0.1", first), ("127.0.0.1", second)
        with socket.create_connection(here) as one, socket.create_connection(there) as two:
            two.settimeout(5)
            came: list[int] = []
            for number in range(6):
                began_s = time.monotonic()
                one.sendall(bytes((number,)))
                if number % 3 != 2:
                    came += two.recv(10)
                    self.assertGreater(time.monotonic() - began_s, 0.045)
                else:
                    time.sleep(0.1)
            self.assertEqual(came, [0, 1, 3, 4])
        cases = {
            "lat ms=2": "is no fault", "late each=2": "late has no key 'each'", "lost each=0": "not what it may be",
            "power": "power is a fault of a device, and a pair has none",
        }  # fmt: skip
        for text, message in cases.items():
            with self.assertRaisesRegex(ValueError, message):
                fault_of((text,))
        with self.assertRaisesRegex(ValueError, "late is there twice"):
            fault_of(("late ms=1", "late ms=2"))

    def test_what_comes_of_a_piece_with_each_fault(self) -> None:
        data = bytes(range(10))
        self.assertEqual(fault_of(("silent",)).passed(data)[0], b"")
        self.assertEqual(fault_of(("short bytes=3",)).passed(data), (data[:3], 0.0, False))
        garbled = fault_of(("garbled each=2 bits=2",))
        self.assertEqual(garbled.passed(data)[0], data)
        flipped = int.from_bytes(garbled.passed(data)[0]) ^ int.from_bytes(data)
        self.assertEqual(flipped.bit_count(), 2)
        late_s = fault_of(("late ms=[20,40]",)).passed(data)[1]
        self.assertTrue(0.02 <= late_s <= 0.04, late_s)
        self.assertEqual([fault_of(("hang_up after=2",)).passed(data)[2] for _ in range(2)], [False, False])
        hangs_up = fault_of(("hang_up after=2",))
        self.assertEqual([hangs_up.passed(data)[2] for _ in range(4)], [False, True, False, True])

    def test_noise_comes_at_both_ends_and_a_connection_is_cut_off(self) -> None:
        first, second = free_port(), free_port()
        self.pair(f"tcp://127.0.0.1:{first}", f"tcp://127.0.0.1:{second}", fault=fault_of(("noise a_second=50",)))
        with (
            socket.create_connection(("127.0.0.1", first)) as one,
            socket.create_connection(("127.0.0.1", second)) as two,
        ):
            for end in (one, two):
                end.settimeout(5)
                self.assertTrue(end.recv(10))
        first, second = free_port(), free_port()
        self.pair(f"tcp://127.0.0.1:{first}", f"tcp://127.0.0.1:{second}", fault=fault_of(("hang_up after=1",)))
        with (  # the end that is to be cut off is there before anything comes at the other
            socket.create_connection(("127.0.0.1", second)) as two,
            socket.create_connection(("127.0.0.1", first)) as one,
        ):
            two.settimeout(5)
            one.sendall(b"x")
            while two.recv(10):
                pass

    def test_what_cannot_be_an_end_is_told_and_nothing_stays_open(self) -> None:
        with self.assertRaisesRegex(CannotServe, "an end of a pair"):
            end_of(parse_link("udp://127.0.0.1:1502"), "pair")
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = taken.getsockname()[1]
            with self.assertRaisesRegex(CannotServe, "in use by another program"):
                self.pair(f"rtu://{self.folder}/x", f"tcp://127.0.0.1:{port}")
            self.assertFalse((self.folder / "x").is_symlink())


class Command(unittest.TestCase):
    def test_it_says_what_passed(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            ends = [f"rtu://{folder}/{name}" for name in ("a", "b")]
            code, out, text = run("pair", *ends, "--for", "0.5", "--json", "--capture", f"{folder}/c.jsonl")
            self.assertEqual(code, 0, text)
            ready, last = (json.loads(line) for line in out.splitlines())
            self.assertEqual([one["link"].partition("?")[0] for one in ready["ready"]], ends)
            self.assertEqual((last["bytes"], last["exchanges"], last["torn_frames"]), ([0, 0], 0, 0))
            self.assertIn('"origin": "overheard"', Path(folder, "c.jsonl").read_text(encoding="utf-8"))
            self.assertEqual(run("pair", *ends, "--for", "0.5", "--capture", f"{folder}/c.jsonl")[0], 2)
            code, _, text = run("pair", ends[0], ends[0])
            self.assertEqual(code, 2)
            self.assertIn("a pair joins two", text)
