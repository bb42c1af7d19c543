"""Devices that stand in: a process that simulates them, by hand, through edits and kills; where a line is led; what a
line's origin is. The masters here are sockets of the test's own."""

import asyncio
import json
import os
import pty
import signal
import socket
import struct
import tempfile
import threading
import time
import tty
import unittest
import unittest.mock
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from msgspec.structs import replace

from kanaleto.bench.bench import Bench
from kanaleto.bench.compiledmoves import Movement
from kanaleto.bench.freeplaces import NoPlace, free_place
from kanaleto.bench.hands import Hands
from kanaleto.bench.remembered import recall, state_of
from kanaleto.bench.standins import BenchRefused, Served, StandIns
from kanaleto.editing.presence import others_at
from kanaleto.files import origins
from kanaleto.files.loading import load_site
from kanaleto.files.origins import Serves, ServingMark, look_around, origin_of
from kanaleto.site.leading import Lead, led, real_link
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Site
from kanaleto.site.origin import Origin
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.frames import Framing
from kanaleto.wire.rtu import Rtu
from tests.test_bench import free_port

MAP = (
    "name,table,address,type,access,factor,unit,initial,range_low,range_high,labels,setting\n"
    "Level,holding,0,uint16,r,0.1,m,1.5,0,10,,\n"
    "Target,holding,1,uint16,rw,,,40,0,100,,\n"
    "Mode,holding,2,uint16,r,,,,,,0=Off;1=On;2=Fault,\n"
    "Count,holding,3,uint16,r,,,,,,,\n"
    "Door,discrete,0,bool,r,,,,,,,\n"
    "Free,input,7,uint16,r,,,9,,,,\n"
)
MOVES = """
[line.device.moves]
"Count" = { counts_s = 0.1 }
"Level" = { follow = "Target", rate = 5 }
[line.device.machine."Mode"]
Off = { value = "Off", to = { On = "[Target] > 50" } }
On = { value = "On", to = { Off = "[Target] <= 50" } }
"""


class Standing(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.path = self.folder / "site.toml"
        (self.folder / "m.csv").write_text(MAP)
        self.write(MOVES)

    def write(self, more: str, link: str = "tcp://192.0.2.1:502") -> Site:
        text = f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "{link}"\n'
        text += f'[[line.device]]\nname = "D"\nunit_id = 5\nmap = "m.csv"\n{more}'
        text += '[[line.device]]\nname = "E"\nunit_id = 6\nmap = "m.csv"\n'
        self.path.write_text(text)
        return load_site(self.path)[0]

    def until(self, is_so: Callable[[], object], what: str, most_s: float = 60.0) -> None:
        end = time.monotonic() + most_s
        while not is_so():
            self.assertLess(time.monotonic(), end, f"{what} did not come about")
            time.sleep(0.02)


class ByHand(Standing):
    def setUp(self) -> None:
        super().setUp()
        self.bench = Bench(load_site(self.path)[0], stands=())
        self.hands = Hands(lambda: self.bench.movement, self.bench.server.device)

    def value(self, name: str, device: str = "D") -> object:
        return self.bench.server.device(device).value(name)

    def run_s(self, seconds: float) -> None:
        for _ in range(round(seconds * 10)):
            self.bench.movement.step()
            self.hands.step()

    def test_what_is_set_stands_until_it_is_given_back(self) -> None:
        self.run_s(3)
        self.assertEqual(self.value("Count"), 30)
        self.assertIn("held by hand", self.hands.put("D", "Count", "5"))
        self.run_s(2)
        self.assertEqual(self.value("Count"), 5)
        self.assertEqual(self.value("Mode"), 0)
        self.hands.give_back("D", "Count")
        self.run_s(1)
        self.assertEqual(self.value("Count"), 15)
        with self.assertRaisesRegex(ValueError, "not held"):
            self.hands.give_back("D", "Count")

    def test_others_see_what_is_held(self) -> None:
        self.hands.put("D", "Target", "90")
        self.run_s(0.3)
        self.assertEqual(self.value("Mode"), 1, "a machine follows what was set by hand")
        self.hands.put("D", "Level", "2")
        self.run_s(3)
        self.assertEqual(self.value("Level"), 2.0, "it does not follow while it is held")

    def test_slowly(self) -> None:
        self.hands.put("D", "Level", "0")
        self.hands.put("D", "Level", "10 in 5 s")
        self.run_s(2.5)
        self.assertAlmostEqual(float(str(self.value("Level"))), 5.0, delta=0.21)
        self.run_s(4)
        self.assertEqual(self.value("Level"), 10.0)
        self.hands.put("D", "Free", "109 in 10 s")
        self.run_s(5)
        self.assertEqual(self.value("Free"), 59)

    def test_freeze_a_state_a_bit_and_the_way_back(self) -> None:
        self.hands.freeze("D", "Count")
        self.run_s(1)
        self.assertEqual(self.value("Count"), 0)
        self.hands.put("D", "Mode", "Fault")
        self.run_s(1)
        self.assertEqual(self.value("Mode"), 2)
        self.hands.put("D", "Door", "on")
        self.hands.put("D", "Target", "77")
        self.assertEqual((self.value("Door"), self.value("Target")), (1, 77))
        self.hands.undo()
        self.assertEqual(self.value("Target"), 40)
        self.hands.undo()
        self.assertEqual(self.value("Door"), 0)
        self.hands.undo()
        self.run_s(0.2)
        self.assertEqual(self.value("Mode"), 0)
        self.hands.undo()
        self.run_s(1)
        self.assertEqual(self.value("Count"), 10, "it was not held before")
        with self.assertRaisesRegex(ValueError, "nothing was changed"):
            self.hands.undo()

    def test_what_cannot_be_set_is_told(self) -> None:
        for point, text, message in (
            ("Level", "11", "above 10"), ("Nope", "1", "has no point Nope"), ("Mode", "Nowhere", "Nowhere"),
            ("Level", "5 in 0 s", "more than 0"), ("Level", "", "type a value"), ("Door", "on for 2 s", "until you"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ValueError, message):
                self.hands.put("D", point, text)
        with self.assertRaisesRegex(ValueError, "nothing of ours moves"):
            self.hands.freeze("D", "Free")
        with self.assertRaisesRegex(ValueError, "nothing was changed"):
            self.hands.undo()

    def test_its_state_is_where_it_goes_on(self) -> None:
        self.hands.put("D", "Target", "90")
        self.run_s(2)
        self.hands.freeze("D", "Level")
        state = state_of(self.bench)
        other = Bench(load_site(self.path)[0], stands=())
        recall(other, state)
        self.assertEqual(other.server.device("D").state(), self.bench.server.device("D").state())
        for bench in (self.bench, other):
            for _ in range(20):
                bench.movement.step()
        self.assertEqual(other.server.device("D").state(), self.bench.server.device("D").state())
        self.assertEqual(other.movement.held, [("D", "Level")])
        for wrong in ({}, {"kanaleto_bench": 1}, {"kanaleto_bench": 1, "devices": {"D": {"tables": {"holding": 3}}}}):
            with self.assertRaises(ValueError):
                recall(other, wrong)

    def test_an_edit_keeps_what_is_held_and_what_stands(self) -> None:
        self.run_s(1)
        self.hands.freeze("D", "Count")
        self.hands.put("D", "Free", "1234")
        site = self.write(MOVES.replace("rate = 5", "rate = 1"))
        devices = [one for line in site.lines for one in Bench(site, stands=()).devices if line]
        after = Movement(devices, site.lines, 0, self.bench.movement)
        for simulated in devices:
            simulated.take_over(self.bench.server.device(simulated.device.name))
        after.take_over()
        for _ in range(10):
            after.step()
        slave = next(one for one in devices if one.device.name == "D")
        self.assertEqual((slave.value("Count"), slave.value("Free")), (10, 1234))
        self.assertAlmostEqual(float(str(slave.value("Level"))), 7.5, delta=0.15)


class AProcess(Standing):
    def setUp(self) -> None:
        super().setUp()
        self.told: list[str] = []
        self.bench = StandIns(self.told.append)
        self.addCleanup(self.bench.close)
        self.bench.follow(self.path, is_another=True)
        self.port = free_port()
        self.link = parse_link(f"tcp://127.0.0.1:{self.port}")

    def read(self, address: int, count: int = 1, unit: int = 5, on: socket.socket | None = None) -> list[int] | int:
        """The words; the code of an exception; -1 for a connection that ended or did not come about."""
        try:
            link = on or socket.create_connection(("127.0.0.1", self.port), 5)
        except OSError:
            return -1
        try:
            link.settimeout(5)
            link.sendall(struct.pack(">HHHBBHH", 1, 0, 6, unit, 3, address, count))
            head = link.recv(9, socket.MSG_WAITALL)
            if len(head) < 9:
                return -1
            if head[7] & 0x80:
                return head[8]
            return list(struct.unpack(f">{count}H", link.recv(2 * count, socket.MSG_WAITALL)))
        except OSError:
            return -1
        finally:
            if on is None:
                link.close()

    def serve(self, *devices: str) -> None:
        self.bench.serve(Served("L", self.link, devices)).result(60)

    def do(self, do: str, **keys: object) -> str:
        return self.bench.command(do, **keys).result(20)

    def test_it_answers_where_it_was_asked_to_and_only_for_whom(self) -> None:
        self.serve("E")
        self.assertEqual(self.read(1, unit=6), [40])
        self.assertEqual(self.read(1, unit=5), 0x0B, "D does not stand in")
        with socket.create_connection(("127.0.0.1", self.port)) as link:
            self.serve()
            self.assertEqual(self.read(1, unit=5, on=link), [40], "on the connection that was there")
            self.bench.end("L").result(20)
            self.assertEqual(self.read(1, on=link), -1)
        self.until(lambda: self.bench.pid is None, "the end of its process")

    def test_by_hand_faults_and_what_it_tells(self) -> None:
        self.serve()
        self.bench.look("D")
        self.do("put", device="D", point="Free", text="4321")
        with self.assertRaisesRegex(BenchRefused, "above 10"):
            self.do("put", device="D", point="Level", text="12")
        self.bench.fault("D", "exception", {"code": 6}).result(20)
        self.assertEqual(self.read(1), 6)
        self.until(lambda: self.bench.state is not None and self.bench.state.faults, "the fault in its state")
        self.bench.mend("D", "exception").result(20)
        self.assertEqual(self.read(1), [40])

        def written() -> bool:
            state = self.bench.state
            return state is not None and state.look is not None and bool(state.look.asks)

        self.until(written, "what was asked, in its state")
        state = self.bench.state
        assert state is not None and state.look is not None
        self.assertEqual({(ask.function, ask.address, ask.count) for ask in state.look.asks}, {(3, 1, 1)})
        self.assertEqual(state.masters[0].refused, 1)
        with self.assertRaisesRegex(BenchRefused, "no fault"):
            self.bench.fault("D", "melted", {}).result(20)

    def test_an_edit_keeps_connections_and_values_and_a_faulty_one_changes_nothing(self) -> None:
        self.serve()
        with socket.create_connection(("127.0.0.1", self.port)) as link:
            link.sendall(struct.pack(">HHHBBHH", 1, 0, 6, 5, 6, 1, 90))
            link.recv(12, socket.MSG_WAITALL)
            self.until(lambda: self.read(2, on=link) == [1], "the machine to follow")
            self.write(MOVES + '"Gone" = { value = "Fault", to = {} }\n')
            self.bench.follow(self.path, is_another=False)
            for _ in range(20):
                self.assertEqual(self.read(1, on=link), [90])
            self.path.write_text("this = is no [site")
            self.bench.follow(self.path, is_another=False)
            self.until(lambda: any("goes on as before" in text for text in self.told), "the faulty edit to be told")
            self.assertEqual(self.read(1, on=link), [90])

    def test_an_edit_of_the_moves_again_and_again(self) -> None:
        """A master asks meanwhile on one connection, and is answered each time."""
        self.serve()
        with socket.create_connection(("127.0.0.1", self.port)) as link:
            counts = []
            for number in range(12):
                self.write(MOVES.replace("rate = 5", f"rate = {1 + number}"))
                self.bench.follow(self.path, is_another=False)
                for _ in range(5):
                    answer = self.read(3, on=link)
                    assert isinstance(answer, list), answer
                    counts += answer
                    time.sleep(0.05)
        self.assertEqual(counts, sorted(counts), "what counts goes on through edits")
        self.assertGreater(counts[-1], counts[0])
        self.assertEqual([text for text in self.told if "goes on as before" in text], [])

    def test_a_kill_is_told_and_it_goes_on_in_its_last_state(self) -> None:
        self.serve()
        self.do("put", device="D", point="Free", text="777")
        self.bench.fault("E", "exception", {"code": 4}).result(20)
        for count in range(2):
            time.sleep(1.6)  # its state is told once a second
            pid = self.bench.pid
            assert pid is not None
            self.told.clear()
            os.kill(pid, signal.SIGKILL)
            self.until(lambda: any("signal 9" in text for text in self.told), "the kill to be told")
            self.until(lambda: self.read(1) == [40], "somebody to answer again")
            self.assertEqual(self.read(1, unit=6), 4, f"the fault stands after kill {count + 1}")
        self.bench.look("D")
        self.until(lambda: self.bench.state is not None and self.bench.state.look is not None, "its state")
        state = self.bench.state
        assert state is not None and state.look is not None
        self.assertEqual(state.look.tables["input"], (7, "0309"))

    def test_it_ends_with_whoever_began_it(self) -> None:
        self.serve()
        process = self.bench._process
        assert process is not None and process.stdin is not None
        self.bench._is_over = True
        process.stdin.close()
        self.assertEqual(process.wait(10), 0)

    def test_a_place_that_is_taken_is_told(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", self.port))
            taken.listen()
            with self.assertRaisesRegex(BenchRefused, "in use by another program"):
                self.serve()
        self.assertEqual(dict(self.bench.served), {})
        self.serve()
        self.assertEqual(self.read(1), [40])


class APlace(Standing):
    def test_a_free_port_and_a_pseudo_terminal_beside_the_site(self) -> None:
        site = self.write("")
        one = free_place(self.path, site.lines[0])
        self.assertEqual(one.address[0] if one.address else "", "127.0.0.1")
        other = free_place(self.path, site.lines[0], [one])
        self.assertNotEqual(one, other)
        serial = replace(site.lines[0], link=parse_link("rtu:///dev/ttyUSB7?baud=9600"), name="East line!")
        place = free_place(self.path, serial)
        self.assertEqual(place.local_port, str(self.folder / "site.kanaleto" / "ports" / "east-line"))
        self.assertEqual(place.settings, serial.link.settings)
        self.assertTrue(str(free_place(self.path, serial, [place]).local_port).endswith("east-line-2"))
        (self.folder / "site.kanaleto" / "ports").rmdir()
        (self.folder / "site.kanaleto" / "ports").write_text("in the way")
        with self.assertRaisesRegex(NoPlace, "in the way|no pseudo-terminal"):
            free_place(self.path, serial)


class ALead(Standing):
    def test_a_line_keeps_its_lead_through_edits_and_only_its_place_differs(self) -> None:
        site = self.write("")
        line, place = site.lines[0], parse_link("tcp://127.0.0.1:1")
        now, leads, lost = led(site, {"L": Lead(line.link, place)})
        self.assertEqual((now.lines[0].link, now.lines[0].led_from, lost), (place, line.link, []))
        self.assertEqual(origin_of(now.lines[0]), Origin.STAND_IN)
        self.assertEqual(real_link(now, place), line.link)
        renamed = replace(site, lines=(replace(line, name="M"),))
        now, leads, lost = led(renamed, leads)
        self.assertEqual((list(leads), lost, now.lines[0].link), (["M"], [], place))
        moved = replace(site, lines=(replace(line, name="M", link=parse_link("tcp://192.0.2.9:502")),))
        now, leads, lost = led(moved, leads)
        self.assertEqual(now.lines[0].led_from, moved.lines[0].link)
        now, leads, lost = led(replace(site, lines=()), leads)
        self.assertEqual((leads, lost), ({}, ["M"]))

    def test_origins(self) -> None:
        site = self.write("")
        near, far = os.openpty()
        self.addCleanup(os.close, near)
        self.addCleanup(os.close, far)
        port = self.folder / "port"
        port.symlink_to(os.ttyname(far))
        for link, said, origin in (
            ("tcp://192.0.2.1:502", "", "real"), ("tcp://127.0.0.1:502", "", "stand-in"),
            ("udp://localhost:502", "", "stand-in"), ("tcp://127.0.0.1:502", "real", "real"),
            ("rtu:///dev/ttyUSB0", "", "real"), (f"rtu://{port}", "", "stand-in"),
            ("tcp://192.0.2.1", "bridge", "bridge"),
        ):  # fmt: skip
            line = replace(site.lines[0], link=parse_link(link), origin=said)
            self.assertEqual(origin_of(line).value, origin, link)
        line = replace(site.lines[0], link=parse_link("tcp://127.0.0.1:502"), origin="real")
        marks = origins._Marks()
        with (
            unittest.mock.patch.dict(os.environ, XDG_STATE_HOME=str(self.folder)),
            unittest.mock.patch.object(origins, "_marks", marks),
            unittest.mock.patch.object(origins, "_EACH_S", 0.0),
        ):
            mark = ServingMark(self.path)
            mark.say([Serves("L", parse_link("tcp://localhost:502"), Origin.REPLAY)])
            self.assertEqual(origin_of(line), Origin.REAL, "nobody has looked yet")
            look_around()
            self.assertEqual(origin_of(line), Origin.REPLAY, "who serves it says so")
            self.assertEqual(len([*(self.folder / "site.kanaleto" / "open").glob("*.serves")]), 1)
            self.assertEqual(others_at(self.path), [], "and has not opened it")
            for _ in range(2):  # left in good order; and killed, with its mark still there
                mark.leave()
                look_around()
                self.assertEqual(origin_of(line), Origin.REAL)
                (self.folder / "kanaleto" / "open").mkdir(parents=True, exist_ok=True)
                text = json.dumps(
                    {"host": socket.gethostname(), "serves": [{"link": "tcp://127.0.0.1:502", "origin": "replay"}]}
                )
                (self.folder / "kanaleto" / "open" / "77-a.serves").write_text(text)
        self.assertEqual(self.write("", 'tcp://127.0.0.1:9"\norigin = "real').lines[0].origin, "real")


class ATwin(Standing):
    """On a port that exists, somebody else answers under a unit ID of ours."""

    def test_one_that_begins_to_answer_later_silences_the_unit(self) -> None:
        for scheme, framing in (("rtu", Rtu()), ("ascii", Ascii())):
            for answer in ("03020007", "8302"):
                with self.subTest(scheme=scheme, answer=answer):
                    self.play_twin(scheme, framing, bytes.fromhex(answer))

    def play_twin(self, scheme: str, framing: Framing, twin: bytes) -> None:
        texts: list[str] = []
        near, far = os.openpty()
        tty.setraw(near)
        tty.setraw(far)
        site = self.write("", f"{scheme}://{os.ttyname(far)}?baud=115200&data=8&parity=none&echo=no")
        read = bytes.fromhex("0300010001")

        async def ask(unit: int) -> bytes:
            os.write(near, framing.encode(unit, read))
            await asyncio.sleep(0.4)
            os.set_blocking(near, False)
            with suppress(BlockingIOError):
                return os.read(near, 200)
            return b""

        async def work() -> None:
            bench = Bench(site, tell=texts.append)
            await bench.start()
            try:
                right = framing.encode(5, bytes.fromhex("03020028"))
                self.assertEqual(await ask(5), right)
                self.assertEqual(await ask(5), right, "our own answer silences nobody")
                os.write(near, right)  # an adapter that repeats what it sends
                await asyncio.sleep(0.1)
                self.assertEqual(texts, [])
                self.assertEqual(await ask(5), right)
                os.write(near, framing.encode(5, twin))
                await asyncio.sleep(0.2)
                self.assertRegex(texts[0], "D: somebody else answers as unit 5 on L")
                self.assertEqual(await ask(5), b"")
                self.assertEqual(await ask(6), framing.encode(6, bytes.fromhex("03020028")), "others go on")
                self.assertEqual(len(texts), 1)
            finally:
                await bench.stop()

        try:
            asyncio.run(work())
        finally:
            os.close(near)
            os.close(far)

    def test_where_another_answers_nobody_stands_in(self) -> None:
        bench = StandIns(lambda text: None)
        self.addCleanup(bench.close)
        bench.follow(self.path, is_another=True)
        near, far = pty.openpty()
        heard = bytearray()
        is_over = threading.Event()

        def answer() -> None:
            while not is_over.is_set():
                with suppress(OSError):
                    heard.extend(os.read(near, 64))
                    os.write(near, bytes.fromhex("050302000745b5"))  # some frame of unit 5

        thread = threading.Thread(target=answer, daemon=True)
        thread.start()
        with self.assertRaisesRegex(BenchRefused, "unit 5 answers there already"):
            bench.serve(Served("L", parse_link(f"rtu://{os.ttyname(far)}?baud=19200"), ("D",))).result(60)
        is_over.set()
        self.assertEqual(bytes(heard[:2]), b"\x05\x03")
        self.assertLessEqual(len(heard), 8, "one request at most was heard")


if __name__ == "__main__":
    unittest.main()
