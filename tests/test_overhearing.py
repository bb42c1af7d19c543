"""Listening without a word, hosts, directories, a device's own settings, ports and drafts."""

import asyncio
import contextlib
import json
import os
import random
import subprocess
import sys
import tempfile
import threading
import time
import tty
import unittest
from collections import Counter
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from textual.pilot import Pilot

from kanaleto.capture.reading import Capture
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.lines.opening import framing_of
from kanaleto.probing.directory import Directory, find_directory
from kanaleto.probing.draftmap import draft_text, rows_of_directory, rows_of_overhearing, rows_of_runs
from kanaleto.probing.hosts import HostState, HostSurvey, parse_range
from kanaleto.probing.listening import LineListener
from kanaleto.probing.networkadapters import adapters, relation
from kanaleto.probing.overhearing import HeardExchange, Overhearing
from kanaleto.probing.own_settings import judge
from kanaleto.probing.ports import describe_port, list_serial_ports
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.site.links.link import FramingKind, SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Line, PortSetting
from kanaleto.tui.app import KanaletoApp
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from tests.livesite import LiveCase
from tests.simulated import Wires, device
from tests.virtual import run_virtual

RTU = framing_of(SerialLink("/virtual"))


def talk(cycles: int, seed: int = 0, framing: FramingKind = FramingKind.RTU) -> list[tuple[float, bytes]]:
    """What a master and two slaves say on a line, as frames with their times: unit 13 every 0.2 s, unit 14 refused,
    unit 9 silent."""
    encode = framing_of(SerialLink("/virtual", framing=framing)).encode
    chance = random.Random(seed)
    pieces: list[tuple[float, bytes]] = []
    for cycle in range(cycles):
        at = 0.2 * cycle
        pieces.append((at, encode(13, Read(Table.HOLDING, 100, 2).encode())))
        pieces.append((at + 0.02, encode(13, b"\x03\x04" + bytes((0, 7, 0, chance.randrange(256))))))
        pieces.append((at + 0.05, encode(14, Read(Table.INPUT, 5, 1).encode())))
        pieces.append((at + 0.07, encode(14, b"\x84\x02")))
        pieces.append((at + 0.1, encode(9, Read(Table.COIL, 0, 19).encode())))
        if cycle % 2:
            pieces.append((at + 0.15, encode(13, b"\x06\x00\x66\x00\x01")))
            pieces.append((at + 0.16, encode(13, b"\x06\x00\x66\x00\x01")))
    return pieces


class Overheard(unittest.TestCase):
    def check(self, heard: Overhearing, cycles: int) -> None:
        asked = {(one.unit_id, one.request.function): one for one in heard.asked.values()}
        self.assertEqual(heard.units, [9, 13, 14])
        self.assertEqual((asked[13, 3].count, asked[13, 3].answered), (cycles, cycles))
        self.assertEqual((asked[14, 4].count, asked[14, 4].refused), (cycles, cycles))
        self.assertEqual((asked[9, 1].count, asked[9, 1].answered), (cycles, 0))
        self.assertAlmostEqual(asked[13, 3].period_s or 0, 0.2, delta=0.05)
        self.assertEqual(heard.words[13, Table.HOLDING, 100].value, 7)
        self.assertEqual(heard.words[13, Table.HOLDING, 100].changed, 0)
        self.assertGreater(heard.words[13, Table.HOLDING, 101].changed, 0)
        self.assertEqual({key[0] for key in heard.words}, {13})

    def test_questions_and_answers_are_paired(self) -> None:
        for framing in (FramingKind.RTU, FramingKind.ASCII):
            heard = Overhearing(framing)
            for at, data in talk(10, framing=framing):
                heard.feed(data, at)
            self.check(heard, 10)

    @given(st.lists(st.integers(1, 40), min_size=1, max_size=50), st.binary(max_size=12))
    def test_any_cuts_and_a_beginning_in_the_middle_change_nothing(self, cuts: list[int], before: bytes) -> None:
        heard = Overhearing()
        stream = before + b"".join(data for _, data in talk(6))
        heard.feed(b"", 0)
        at, number = 0, 0
        while at < len(stream):
            size = cuts[number % len(cuts)]
            heard.feed(stream[at : at + size], at / 100)
            at, number = at + size, number + 1
        heard.silence(99)
        self.assertLessEqual(set(heard.units) - {before[-1] if before else 9}, {9, 13, 14} | set(before))
        asked = {(one.unit_id, one.request.function): one for one in heard.asked.values()}
        self.assertGreaterEqual(asked[13, 3].answered, 3)

    @given(st.binary(max_size=3000))
    def test_noise_gives_no_undeclared_error_and_is_bounded(self, noise: bytes) -> None:
        heard = Overhearing()
        heard.feed(noise, 0)
        heard.silence(1)
        self.assertEqual(heard.held, 0)
        self.assertLessEqual(heard.garbled_bytes, len(noise))

    def test_noise_between_frames_costs_no_frame(self) -> None:
        heard = Overhearing()
        for at, data in talk(10):
            heard.feed(b"\x00" + data, at)
        heard.silence(9)
        asked = {(one.unit_id, one.request.function): one for one in heard.asked.values()}
        self.assertEqual(asked[13, 3].count, 10)
        self.assertGreater(heard.garbled_bytes, 0)

    def test_a_draft_map_of_what_was_heard_can_be_read(self) -> None:
        heard = Overhearing()
        for at, data in talk(5):
            heard.feed(data, at)
        points, faults = read_map(Path("heard.csv"), draft_text(rows_of_overhearing(heard, 13)), MapDefaults())
        self.assertEqual(
            ([point.address for point in points], [fault for fault in faults if not fault.is_warning]), ([100, 101], [])
        )
        self.assertIn("changed", points[1].note)


@contextlib.contextmanager
def pseudo_terminal(pieces: list[bytes], every_s: float):  # type: ignore[no-untyped-def]
    """A port on which somebody talks; at another rate than 9600 it is garbage."""
    import termios

    near, far = os.openpty()
    tty.setraw(near)
    tty.setraw(far)
    over = threading.Event()

    def work() -> None:
        number = 0
        while not over.is_set():
            data = pieces[number % len(pieces)]
            is_right = termios.tcgetattr(near)[5] == termios.B9600
            os.write(near, data if is_right else bytes(byte ^ 0xA5 for byte in data))
            number += 1
            time.sleep(every_s)

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    try:
        yield os.ttyname(far)
    finally:
        over.set()
        thread.join()
        os.close(near)
        os.close(far)


class Listening(unittest.TestCase):
    def test_the_rate_is_told_from_what_is_heard(self) -> None:
        with pseudo_terminal([data for _, data in talk(1)], 0.02) as port:
            listener = LineListener(SerialLink(port), knows_settings=False, each_s=1.5)
            heard = asyncio.run(listener.run(0.5))
        self.assertEqual(listener.link.settings and listener.link.settings.baud, 9600)
        self.assertLessEqual({13, 14}, set(heard.units))

    def test_silence_and_noise_are_told_apart(self) -> None:
        with self.assertRaisesRegex(SurveyStopped, "nothing was heard"):
            run_virtual(LineListener(SerialLink("/virtual"), False, opener=Wires().opener).run(1))
        with (
            pseudo_terminal([b"\x55\xaa\x00"], 0.02) as port,
            self.assertRaisesRegex(SurveyStopped, "noise, or another protocol"),
        ):
            asyncio.run(LineListener(SerialLink(port), knows_settings=False, each_s=0.06).run(1))


class Hosts(unittest.TestCase):
    def test_ranges(self) -> None:
        cases = {
            "192.0.2.10-12": (["192.0.2.10", "192.0.2.11", "192.0.2.12"], 502),
            "192.0.2.10-192.0.2.11:1502": (["192.0.2.10", "192.0.2.11"], 1502),
            "192.0.2.0/30:20": (["192.0.2.1", "192.0.2.2"], 20),
            "tcp://pump.example:99": (["pump.example"], 99),
        }
        for text, expected in cases.items():
            with self.subTest(text):
                self.assertEqual(parse_range(text), expected)
        for text, reason in {
            "192.0.2.9-3": "ends before it begins",
            "10.0.0.0/8": "4096 at most",
            "10.0.0.1-10.0.40.1": "4096 at most",
            "192.0.2.300": "",
            "192.0.2.1:0": "port 0",
            "192.0.2.1:99999": "port 99999",
            "": "must read like",
            "what is this": "must read like",
        }.items():
            with self.subTest(text):
                if reason:
                    with self.assertRaisesRegex(ValueError, reason):
                        parse_range(text)

    def test_who_answers_who_refuses_and_who_only_accepts(self) -> None:
        async def work() -> dict[str, object]:
            async def mute(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
                await reader.read()
                writer.close()

            async def slave(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
                while data := await reader.read(12):
                    writer.write(data[:4] + b"\x00\x05" + data[6:7] + b"\x03\x02\x00\x07")
                writer.close()

            found: dict[str, object] = {}
            for name, serve in (("mute", mute), ("slave", slave)):
                server = await asyncio.start_server(serve, "127.0.0.1", 0)
                port = server.sockets[0].getsockname()[1]
                survey = HostSurvey(["127.0.0.1"], port, timeout_s=0.2)
                found[name] = (await survey.run())["127.0.0.1"]
                server.close()
            found["closed"] = (await HostSurvey(["127.0.0.1"], port, timeout_s=0.2).run())["127.0.0.1"]
            return found

        found = asyncio.run(work())
        states = {name: one.state for name, one in found.items()}  # type: ignore[attr-defined]
        self.assertEqual(states, {"mute": HostState.ACCEPTS, "slave": HostState.ANSWERS, "closed": HostState.REFUSED})
        self.assertIn("this machine itself", found["slave"].text)  # type: ignore[attr-defined]

    def test_where_an_address_lies(self) -> None:
        own = adapters()
        self.assertTrue(any(adapter.interface.ip.is_loopback for adapter in own))
        self.assertIn("none of this machine's networks", relation("203.0.113.9", own))
        self.assertEqual(relation("pump.example", own), "")


DIRECTORY = {40000: 0x416C, 40001: 0x6572, 40002: 1, 40003: 3, 40007: 101, 40008: 2, 40011: 0xFFFF, 40012: 0}


class Directories(unittest.TestCase):
    def walk(self, registers: dict[int, int], **options: object) -> Directory | None:
        rows = "name,table,address,initial\n" + "".join(
            f"P{at},holding,{at},{value}\n" for at, value in registers.items()
        )
        wires = Wires(device("Mast", 1, rows))

        async def work() -> Directory | None:
            exchanger = wires.opener(wires.link)
            await exchanger.open()
            return await find_directory(exchanger.ask, 1, **options)  # type: ignore[arg-type]

        return run_virtual(work())

    def filled(self) -> dict[int, int]:
        return {at: DIRECTORY.get(at, 0) for at in range(40000, 40013)}

    def test_a_chain_is_walked_to_its_end(self) -> None:
        found = self.walk(self.filled())
        assert found is not None
        self.assertEqual(
            [(block.id, block.address, block.length) for block in found.blocks], [(1, 40004, 3), (101, 40009, 2)]
        )
        self.assertEqual((found.is_whole, found.marker), (True, b"Aler"))
        points, _ = read_map(Path("d.csv"), draft_text(rows_of_directory(found)), MapDefaults())
        self.assertEqual([point.name for point in points][:2], ["Block 1.1", "Block 1.2"])

    def test_a_broken_chain_is_no_directory_unless_its_marker_was_named(self) -> None:
        broken = self.filled() | {40008: 900}
        self.assertIsNone(self.walk(broken))
        found = self.walk(broken, marker=b"Aler")
        assert found is not None
        self.assertIn("breaks at", found.text)

    def test_chains_that_never_end_are_left(self) -> None:
        endless = {40000 + at: 0x4142 if at < 2 else at % 2 for at in range(1200)}
        self.assertIsNone(self.walk({at: 0x4142 if at < 40002 else 0 for at in endless}))

    def test_never_touched_is_never_asked(self) -> None:
        self.assertIsNone(self.walk(self.filled(), never=((Table.HOLDING, 40000, 40001),)))


class OwnSettings(unittest.TestCase):
    MAP = (
        "name,table,address,type,setting,labels\nUnit,holding,0,,unit_id,\nRate,holding,1,,baud,0=4800;1=9600;2=19.200 "
        "Bd\n"
        "Parity,holding,2,,parity,0=None;1=Even\nPlain rate,holding,3,,baud,\nStop,holding,4,,stop,\n"
    )

    def test_codes_are_told_and_compared_with_the_line(self) -> None:
        pump = device("Pump", 7, self.MAP)
        line = Line("West", SerialLink("/virtual", SerialSettings(19200)), (pump,))
        points = {point.name: point for point in pump.points}
        self.assertEqual(points["Rate"].setting, PortSetting.BAUD)
        cases = [
            ("Unit", 7, True),
            ("Unit", 9, False),
            ("Rate", 2, True),
            ("Rate", 1, False),
            ("Rate", 5, None),
            ("Parity", 1, True),
        ]
        cases += [
            ("Parity", 0, False),
            ("Plain rate", 19200, True),
            ("Plain rate", 96, False),
            ("Plain rate", 2, None),
            ("Stop", 1, True),
        ]
        for name, value, agrees in cases:
            with self.subTest(name=name, value=value):
                own_setting = judge(points[name], value, line, pump)
                self.assertIs(own_setting.agrees, agrees)
                self.assertTrue(own_setting.text)
        self.assertIn("19200 is in use", judge(points["Rate"], 1, line, pump).text)


class Ports(unittest.TestCase):
    def test_a_port_is_told_in_words(self) -> None:
        self.assertIn("no such port", describe_port("/dev/nothing-here").state)
        self.assertTrue(all(port.path and port.state for port in list_serial_ports()))
        with tempfile.TemporaryDirectory() as folder:
            near, far = os.openpty()
            link = Path(folder) / "port"
            link.symlink_to(os.ttyname(far))
            self.assertEqual(describe_port(str(link)).description, "pseudo-terminal")
            os.close(near)
            os.close(far)


class Drafts(unittest.TestCase):
    def test_runs_are_named_after_table_and_address(self) -> None:
        rows = rows_of_runs(Table.HOLDING, [(10, 11), (20, 20)], frozenset({11}))
        self.assertEqual([row.name for row in rows], ["Holding 10", "Holding 11", "Holding 20"])
        self.assertEqual([row.note for row in rows], ["", "never seen to change", ""])


class Exchanges(unittest.TestCase):
    """What another master asks, exchange by exchange."""

    def test_a_long_talk_in_any_pieces_is_paired_and_none_is_invented(self) -> None:
        for framing in (FramingKind.RTU, FramingKind.ASCII):
            encode = framing_of(SerialLink("/virtual", framing=framing)).encode
            source, at = random.Random(4), 0.0
            heard: list[HeardExchange] = []
            truth: list[tuple[bytes, bytes]] = []
            overhearing = Overhearing(framing, heard.append)
            for number in range(1500):
                unit, count = source.choice((1, 7, 40)), source.randrange(1, 40)
                request = encode(unit, Read(Table.HOLDING, number, count).encode(), 0)
                answer = encode(unit, bytes((3, 2 * count)) + source.randbytes(2 * count), 0)
                if source.random() < 0.2:
                    request = answer = encode(unit, b"\x06" + number.to_bytes(2) + source.randbytes(2), 0)
                elif source.random() < 0.1:
                    answer = encode(unit, b"\x83\x02", 0)
                if source.random() < 0.03:
                    answer = b""
                truth.append((request, answer))
                for raw in (request, answer):
                    at += 0.01
                    while raw:
                        piece, raw = raw[: (size := source.randrange(1, 9))], raw[size:]
                        at += 10 / 19200 * len(piece)
                        overhearing.feed(piece, at)
                at += 0.05
                if source.random() < 0.9:
                    overhearing.silence(at)
            overhearing.end(at)
            found = [(one.request, one.answer) for one in heard]
            with self.subTest(framing):
                self.assertGreater(sum(one in truth for one in found), 0.99 * len(truth))
                self.assertEqual([one for one in found if one not in truth], [])

    def test_what_is_none_is_told_apart(self) -> None:
        encode = RTU.encode
        heard: list[HeardExchange] = []
        overhearing = Overhearing(on_heard=heard.append)
        request, answer = encode(13, Read(Table.HOLDING, 100, 2).encode(), 0), encode(13, b"\x03\x04\0\1\0\2", 0)
        at = 0.0
        for raw in (
            answer,  # of a request that was before we came
            request, answer[:-1] + b"\0",  # spoilt
            request, answer,
            request,  # nobody answers
            request, encode(13, b"\x03\x02\0\1", 0),  # of another length
            encode(0, b"\x06\0\1\0\1", 0),  # to all
            request, encode(13, b"\x83\x02", 0),
        ):  # fmt: skip
            at += 1.0
            overhearing.feed(raw, at)
            overhearing.silence(at + 0.5)
        overhearing.end(at)
        self.assertEqual(
            [one.kind.value for one in heard],
            ["unexpected", "garbled", "good", "timeout", "unexpected", "good", "exception"],
        )
        self.assertEqual((heard[2].asked_s, heard[2].done_s), (4.0, 5.0))

    def test_listened_to_on_a_paced_line_and_captured_without_a_byte_sent(self) -> None:
        """`find --listen --capture`: the far end counts what reaches it, and that is nothing."""
        ours, theirs = os.openpty()
        self.addCleanup(os.close, ours)
        self.addCleanup(os.close, theirs)
        tty.setraw(ours)
        tty.setraw(theirs)
        pieces = talk(25)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "strangers.jsonl"
            link = f"rtu://{os.ttyname(theirs)}?baud=19200"
            listening = subprocess.Popen(
                [sys.executable, "-m", "kanaleto", "find", link, "--listen", "9", "--capture", str(path)],
                stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            )  # fmt: skip
            self.addCleanup(listening.kill)
            time.sleep(3)
            begun = time.monotonic()
            for at, raw in pieces:
                time.sleep(max(begun + at - time.monotonic(), 0))
                os.write(ours, raw)
            listening.communicate(timeout=60)
            os.set_blocking(ours, False)
            with self.assertRaises(BlockingIOError):
                os.read(ours, 100)
            capture = Capture(path)
            rows = list(capture)
            first = json.loads(path.read_text().splitlines()[0])
        self.assertEqual(first["lines"][0]["origin"], "overheard")
        self.assertEqual({row.origin for row in rows}, {"overheard"})
        kinds = Counter(row.kind.value for row in rows)
        self.assertEqual(kinds, {"good": 25 + 12, "exception": 25, "timeout": 25})
        self.assertEqual(capture.damaged, [])


class OnScreen(LiveCase):
    """`o` in Find: what another master asks stands in Wire, as overheard; not a byte is sent."""

    def test_what_is_overheard_in_find_stands_in_wire_and_on_the_tape(self) -> None:
        ours, theirs = os.openpty()
        self.addCleanup(os.close, ours)
        self.addCleanup(os.close, theirs)
        tty.setraw(ours)
        tty.setraw(theirs)
        link = f"rtu://{os.ttyname(theirs)}?baud=19200"
        site = f'[site]\nname = "S"\n[[line]]\nname = "Between"\nlink = "{link}"\n'

        def say() -> None:
            begun = time.monotonic()
            for at, raw in talk(20):
                time.sleep(max(begun + at - time.monotonic(), 0))
                os.write(ours, raw)

        async def work(case: OnScreen, app: KanaletoApp, pilot: "Pilot[None]") -> None:
            await pilot.press("1")
            await case.shows(app, "o.*listens without sending")
            await pilot.press("o")
            await case.shows(app, "listening")
            for _ in range(3):  # the first words may be missed on a machine that is busy
                await asyncio.to_thread(say)
                await asyncio.sleep(1.5)
                heard = list(app.engine.session.exchanges)
                if len([exchange for exchange in heard if exchange.outcome.is_good]) >= 28:
                    break
            else:
                case.fail(f"{len(heard)} heard")
            await pilot.press("escape", "4")
            await case.shows(app, "unit 13")
            case.assertEqual({exchange.line.origin for exchange in app.engine.session.exchanges}, {"overheard"})
            os.set_blocking(ours, False)
            with case.assertRaises(BlockingIOError):
                os.read(ours, 100)

        self.drive_site(site, "Between", work)
        rows = list(Capture(self.folder / "site.kanaleto" / "tape"))
        self.assertEqual({row.origin for row in rows}, {"overheard"})
        self.assertGreater(len(rows), 60)
