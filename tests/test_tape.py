"""Exchanges on disk: packed and read back, damaged, bounded, laid aside; captures in open formats, read back by a
parser that shares nothing with ours."""

import json
import os
import random
import struct
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.packing import body_of, head_line, heads, pack, pack_exchanges, unpack
from kanaleto.capture.pattern import Pattern
from kanaleto.capture.reading import Capture
from kanaleto.capture.recorder import ExchangeRecorder
from kanaleto.capture.row import Row, row_of
from kanaleto.capture.tape import Tape, aside_of, files_of
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.events import EventKind, EventLog
from kanaleto.polling.listener import Exchange
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.simulated import SimulatedLine, device, silent
from tests.test_polling import Running
from tests.virtual import run_virtual

TCP, SERIAL, UDP = "tcp://192.0.2.9:1502", "rtu:///dev/ttyX?baud=19200", "udp://192.0.2.9:502"
START_US = 1_700_000_000_000_000

rows = st.builds(
    Row, st.integers(0, 2**50), st.text(max_size=20), st.just(TCP), st.sampled_from(["real", "stand-in"]),
    st.text(max_size=20), st.integers(0, 255), st.sampled_from(list(OutcomeKind)), st.integers(0, 20),
    st.binary(max_size=513), st.binary(max_size=513), st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1),
    st.integers(0, 2**32 - 1), st.text(max_size=60),
)  # fmt: skip


def exchange(number: int, link: str = TCP, kind: OutcomeKind = OutcomeKind.GOOD, value: int | None = None) -> Row:
    """A read of the register that has the exchange's number, and holds it; `kind` may spoil it."""
    address = number % 65536
    framing = Rtu() if link == SERIAL else Tcp()
    request = framing.encode(7, struct.pack(">BHH", 3, address, 1), number % 65536)
    pdu = struct.pack(">BBH", 3, 2, address if value is None else value)
    pdu = b"\x83\x02" if kind is OutcomeKind.EXCEPTION else pdu
    answer = b"" if kind is OutcomeKind.TIMEOUT else framing.encode(7, pdu, number % 65536)
    reason = {OutcomeKind.TIMEOUT: "no answer within 1 s", OutcomeKind.EXCEPTION: "exception 2"}.get(kind, "")
    return Row(
        START_US + number * 10_000, "Line", link, "real", "Pump", 7, kind, 0, request, answer, 100, 2000, 3000, reason
    )


def told_by_the_engine(number: int, kind: OutcomeKind = OutcomeKind.GOOD) -> Exchange:
    """An exchange as sinks hear of it."""
    row = exchange(number, kind=kind)
    asked_at = 1000.0 + number
    outcome = Outcome(
        kind,
        7,
        row.request,
        row.answer,
        None,
        asked_at,
        asked_at + 0.0001,
        asked_at + 0.002,
        asked_at + 0.003,
        row.reason,
    )
    line = SimulatedLine(device("Pump", 7), is_serial=False).line
    return Exchange(number, row.at_us / 1e6, line, line.devices[0], Read(Table.HOLDING, number, 1), outcome, number % 3)


def kept(row: Row) -> tuple[object, ...]:
    """What packets can tell of an exchange."""
    return row.at_us, row.request, row.answer, row.kind, row.line


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Packed(InFolder):
    @given(st.lists(rows, min_size=1, max_size=20))
    @settings(max_examples=100, deadline=None)
    def test_round_trip(self, told: list[Row]) -> None:
        block = pack(told)
        self.assertEqual(list(unpack(block[40:])), told)

    def test_of_exchanges_as_the_engine_tells_them_it_is_the_same_block(self) -> None:
        told = [told_by_the_engine(n, list(OutcomeKind)[n % 6]) for n in range(50)]
        one = pack_exchanges(told, lambda line: str(line.link), "real")
        self.assertEqual(one, pack([row_of(own, str(own.line.link), "real") for own in told]))

    def _tape(self, count: int) -> Path:
        path = self.folder / "a.tape"
        with path.open("wb") as file:
            file.write(head_line({"site": "S"}))
            for first in range(0, count, 100):
                file.write(pack([exchange(number) for number in range(first, first + 100)]))
        return path

    def test_what_is_damaged_costs_its_block_and_is_told(self) -> None:
        path = self._tape(1000)
        whole = path.read_bytes()
        source = random.Random(7)
        for _ in range(200):
            data = bytearray(whole)
            place = source.randrange(40, len(data))
            kind = source.choice(("bit", "cut", "hole"))
            if kind == "bit":
                data[place] ^= 1 << source.randrange(8)
            elif kind == "cut":
                del data[place:]
            else:
                del data[place : place + source.randrange(1, 900)]
            path.write_bytes(data)
            capture = Capture(path)
            read = list(capture)
            for row in read:
                self.assertEqual(row, exchange((row.at_us - START_US) // 10_000), "a value that was never written")
            if len(read) < 1000 and kind != "cut":
                self.assertTrue(capture.damaged)
            lost = 1000 - len(read)
            self.assertTrue(kind == "cut" or lost <= 300, f"{kind} at {place}: {lost} lost")

    def test_bytes_of_anything_end_in_words(self) -> None:
        source = random.Random(3)
        path = self.folder / "x"
        heads_of = (
            b"",
            b"kanaleto tape 1 {}\nKBLK",
            b"\x0a\x0d\x0d\x0a",
            b'{"kanaleto_capture": 1}\n',
            b"\xd4\xc3\xb2\xa1",
        )
        for _ in range(600):
            path.write_bytes(source.choice(heads_of) + source.randbytes(source.randrange(0, 400)))
            try:
                list(Capture(path))
            except NoCapture:
                continue


class Ring(InFolder):
    def test_on_disk_after_a_second_and_no_more_than_asked(self) -> None:
        tape = Tape(self.folder / "tape", {"site": "S"}, pack)
        tape.put([exchange(1)], START_US)
        self.assertEqual(files_of(self.folder / "tape"), [])
        tape.put([], START_US + 1_100_000)
        self.assertEqual(list(Capture(self.folder / "tape")), [exchange(1)])

    def test_it_is_bounded(self) -> None:
        from kanaleto.capture import tape as module

        kept = module.FILE_BYTES, module.KEPT_BYTES, module.LITTLE_BYTES
        module.FILE_BYTES, module.KEPT_BYTES, module.LITTLE_BYTES = 20_000, 100_000, 50_000
        try:
            tape = Tape(self.folder / "tape", {"site": "S"}, pack)
            source = random.Random(1)
            for number in range(0, 60_000, 500):
                told = [exchange(n, value=source.randrange(65536)) for n in range(number, number + 500)]
                tape.put(told, START_US + number * 10_000)
                tape.write_rest(START_US + number * 10_000)
            size = sum(path.stat().st_size for path in files_of(self.folder / "tape"))
            self.assertLess(size, 130_000)
            numbers = [(row.at_us - START_US) // 10_000 for row in Capture(self.folder / "tape")]
            self.assertEqual(numbers, list(range(numbers[0], 60_000)), "the newest, without a hole")
            for path in files_of(self.folder / "tape"):
                os.utime(path, (0, 0))  # long ago
            tape.prune(START_US)
            self.assertLess(sum(path.stat().st_size for path in files_of(self.folder / "tape")), 75_000)
        finally:
            module.FILE_BYTES, module.KEPT_BYTES, module.LITTLE_BYTES = kept

    def test_the_minutes_round_an_event_are_laid_aside_until_somebody_looks(self) -> None:
        tape = Tape(self.folder / "tape", {"site": "S"}, pack)
        for number in range(0, 200_000, 1000):
            tape.put([exchange(n) for n in range(number, number + 1000)], START_US + number * 10_000)
        tape.write_rest(START_US)
        at_us = START_US + 100_000 * 10_000
        path = tape.lay_aside(at_us, "Pump: fell silent")
        assert path is not None
        numbers = [(head.first_us, head.last_us) for head in self._heads(path)]
        self.assertLessEqual(numbers[0][0], at_us - 600_000_000)
        self.assertGreater(numbers[0][1], at_us - 601_000_000 - 10_000_000)
        self.assertGreaterEqual(numbers[-1][1], at_us + 119_000_000)
        self.assertEqual(aside_of(self.folder / "tape"), [(path, False)])
        capture = Capture(path)
        self.assertEqual(capture.why, "Pump: fell silent")
        next(iter(capture))
        self.assertEqual(aside_of(self.folder / "tape"), [(path, True)])

    def _heads(self, path: Path):  # type: ignore[no-untyped-def]
        with path.open("rb") as file:
            return list(heads(file, [], path.name))

    def test_of_a_polled_line_all_is_on_tape_and_an_outage_is_laid_aside(self) -> None:
        line = SimulatedLine(device("Device", 7), is_serial=False)
        told: list[tuple[Path, str]] = []

        async def work() -> int:
            async with Running(line) as running:
                session = running.session
                recorder = ExchangeRecorder(session.clock.now, lambda *_: None, lambda *a: told.append(a))
                recorder.follow(self.folder / "tape", "S", "real", frozenset({"device lost"}))
                session.listen(recorder)
                session.events.followers.append(recorder.on_event)
                for second in range(900):
                    line.fault = silent(7) if 300 <= second < 310 else None
                    await running.for_s(1)
                    recorder.flush()
                recorder.close()
                return session.count

        count = run_virtual(work())
        kept = list(Capture(self.folder / "tape"))
        self.assertEqual(len(kept), count)
        self.assertGreater(sum(row.kind is OutcomeKind.TIMEOUT for row in kept), 5)
        ((path, why),) = told
        self.assertIn("Device: fell silent", why)
        aside = list(Capture(path))
        self.assertEqual([row for row in kept if aside[0].at_us <= row.at_us <= aside[-1].at_us], aside)
        self.assertGreater(aside[-1].at_us - aside[0].at_us, 400_000_000)
        pattern = Pattern()
        pattern.add_all(aside)
        self.assertEqual(pattern.findings(), [], "it answers again")

    def test_a_disk_that_does_not_do_is_told_and_costs_no_memory(self) -> None:
        (self.folder / "tape").write_text("in its place")
        told: list[str] = []
        now = [1000.0]
        recorder = ExchangeRecorder(lambda: now[0], lambda what, text: told.append(text), lambda *_: None)
        recorder.follow(self.folder / "tape", "S", "real", frozenset())
        one = told_by_the_engine(1)
        for _ in range(100):
            for _ in range(1000):
                recorder.on_exchange(one)
            now[0] += 1
            recorder.flush()
        self.assertIn("the tape cannot be written", told[0])
        self.assertLess(len(told), 3)

    def test_events_close_together_are_laid_aside_once(self) -> None:
        log = EventLog(lambda: 1000.0)
        recorder = ExchangeRecorder(lambda: 1000.0, lambda *_: None, lambda *_: None)
        recorder.follow(None, "", "real", frozenset({"device lost"}))
        log.followers.append(recorder.on_event)
        for number in range(50):
            log.note(EventKind.DEVICE_LOST, "L", f"D{number}", "fell silent", going_on="lost")
            log.note(EventKind.GARBLED, "L", f"D{number}", "check bytes", going_on="garbled")
        self.assertEqual(len(recorder._to_lay_aside), 1)


class JsonLines(InFolder):
    def test_round_trip_and_the_names_of_the_contract(self) -> None:
        told = [exchange(n, kind=kind) for n, kind in enumerate(OutcomeKind)]
        path = self.folder / "a.jsonl"
        capture = CaptureFile(path, "Alder Lock", [("Line", TCP)])
        capture.put(told)
        capture.close()
        first, second = (json.loads(line) for line in path.read_text().splitlines()[:2])
        self.assertEqual(first["kanaleto_capture"], 1)
        self.assertEqual(first["lines"], [{"name": "Line", "link": TCP}])
        names = {"at", "line", "unit_id", "request", "answer", "outcome", "took_ms", "attempt", "device", "origin",
                 "sent_ms", "first_ms", "last_ms"}  # fmt: skip
        self.assertLessEqual(names, set(second))
        self.assertEqual(list(Capture(path)), told)

    def test_bad_lines_are_told_with_their_place(self) -> None:
        path = self.folder / "a.jsonl"
        good = json.dumps({"at": "2026-05-17T03:12:00Z", "line": "L", "unit_id": 1, "request": "", "outcome": "good"})
        bad = [
            '{"at": 1}',
            "[]",
            "nonsense",
            '{"unit_id": 900}',
            good.replace("good", "splendid"),
            good.replace('""', '"zz"'),
        ]
        path.write_text("\n".join(['{"kanaleto_capture": 1}', good, *bad, good]) + "\n" + good[:40])
        capture = Capture(path)
        self.assertEqual(len(list(capture)), 2)
        self.assertEqual(len(capture.damaged), len(bad) + 1)
        self.assertIn("a.jsonl, line 3, is no exchange", capture.damaged[0])
        self.assertIn("line 10, is cut short", capture.damaged[-1])
        path.write_text('{"kanaleto_capture": 7}\n')
        with self.assertRaisesRegex(NoCapture, "newer version"):
            list(Capture(path))

    def test_what_is_none_is_refused_in_words(self) -> None:
        path = self.folder / "a.txt"
        path.write_text("words")
        for text, why in (("words", "is none of these"), ("", "is empty")):
            path.write_text(text)
            with self.assertRaisesRegex(NoCapture, why):
                Capture(path)
        with self.assertRaisesRegex(NoCapture, "does not tell its form"):
            CaptureFile(self.folder / "a.pcap", "S", [])
        with self.assertRaisesRegex(NoCapture, "is there already"):
            CaptureFile(self.folder / "a.txt".replace("txt", "jsonl"), "S", []).close()
            CaptureFile(self.folder / "a.jsonl", "S", [])
        with self.assertRaisesRegex(NoCapture, "cannot be written"):
            CaptureFile(self.folder / "none" / "a.jsonl", "S", [])

    def test_it_is_rotated_by_size_and_the_newest_are_kept(self) -> None:
        for ending in ("jsonl", "pcapng"):
            path = self.folder / f"r.{ending}"
            capture = CaptureFile(path, "S", [("Line", TCP)], most_bytes=20_000, most_files=3)
            capture.put([exchange(n) for n in range(1000)])
            capture.close()
            found = sorted(self.folder.glob(f"r*.{ending}"))
            self.assertEqual(len(found), 3)
            self.assertTrue(all(own.stat().st_size < 21_000 for own in found))
            last = [row.request for row in Capture(found[-1])]
            self.assertEqual(last[-1], exchange(999).request, "each file can be read alone")


def parsed(data: bytes) -> list[tuple[str, dict]]:  # type: ignore[type-arg]
    """Blocks of a pcapng file, by its specification alone (draft-ietf-opsawg-pcapng, sections 3 and 4)."""
    blocks, place = [], 0
    while place < len(data):
        kind, size = struct.unpack_from("<II", data, place)
        assert size % 4 == 0 and struct.unpack_from("<I", data, place + size - 4)[0] == size, "the two lengths differ"
        body = data[place + 8 : place + size - 4]
        if kind == 0x0A0D0D0A:
            magic, major, minor, length = struct.unpack_from("<IHHq", body)
            assert (magic, major, minor, length) == (0x1A2B3C4D, 1, 0, -1)
            blocks.append(("section", _options(body[16:])))
        elif kind == 1:
            linktype, reserved, snaplen = struct.unpack_from("<HHI", body)
            assert reserved == 0
            blocks.append(("interface", {"linktype": linktype, "snaplen": snaplen, **_options(body[8:])}))
        elif kind == 6:
            interface, high, low, taken, length = struct.unpack_from("<IIIII", body)
            assert taken == length
            options = _options(body[20 + taken + (-taken % 4) :])
            told = {"interface": interface, "at": high << 32 | low, "data": body[20 : 20 + taken], **options}
            blocks.append(("packet", told))
        else:
            raise AssertionError(f"block of type {kind}")
        place += size
    return blocks


def _options(body: bytes) -> dict:  # type: ignore[type-arg]
    found, place = {}, 0
    while place < len(body):
        code, size = struct.unpack_from("<HH", body, place)
        if code == 0:
            assert place + 4 == len(body), "something behind the end of options"
            break
        found[code] = body[place + 4 : place + 4 + size]
        place += 4 + size + (-size % 4)
    return found


def sums_to_nought(data: bytes) -> bool:
    """Whether the ones' complement sum over data with its own check sum is right (RFC 1071)."""
    data += b"\0" * (len(data) % 2)
    total = 0
    for high, low in zip(data[::2], data[1::2], strict=True):
        total += high << 8 | low
    while total > 0xFFFF:
        total = (total >> 16) + (total & 0xFFFF)
    return total == 0xFFFF


class Pcapng(InFolder):
    def _written(self, told: list[Row]) -> tuple[Path, list[tuple[str, dict]]]:  # type: ignore[type-arg]
        path = self.folder / "a.pcapng"
        path.unlink(missing_ok=True)
        capture = CaptureFile(path, "S", [])
        capture.put(told)
        capture.close()
        return path, parsed(path.read_bytes())

    def test_of_a_network_line_frames_are_sound(self) -> None:
        kinds = [OutcomeKind.GOOD, OutcomeKind.EXCEPTION, OutcomeKind.TIMEOUT]
        told = [exchange(n, kind=kinds[n % 3]) for n in range(300)]
        _, blocks = self._written(told)
        self.assertEqual([kind for kind, _ in blocks[:2]], ["section", "interface"])
        self.assertEqual((blocks[1][1]["linktype"], blocks[1][1][2]), (1, b"Line"))
        expected: dict[int, int] = {}
        payloads = []
        for _, packet in blocks[2:]:
            frame = packet["data"]
            direction = struct.unpack("<I", packet[2])[0] & 3
            self.assertEqual(frame[12:14], b"\x08\x00")
            ip = frame[14:]
            size = (ip[0] & 15) * 4
            self.assertEqual((ip[0] >> 4, ip[9], struct.unpack_from(">H", ip, 2)[0]), (4, 6, len(ip)))
            self.assertTrue(sums_to_nought(ip[:size]), "the check sum of IP")
            segment = ip[size:]
            pseudo = ip[12:20] + struct.pack(">BBH", 0, 6, len(segment))
            self.assertTrue(sums_to_nought(pseudo + segment), "the check sum of TCP")
            source, target, sequence, acknowledged = struct.unpack_from(">HHII", segment)
            is_out = direction == 2
            self.assertEqual((target if is_out else source), 1502)
            self.assertEqual(ip[16:20] if is_out else ip[12:16], bytes((192, 0, 2, 9)))
            payload = segment[(segment[12] >> 4) * 4 :]
            self.assertEqual(sequence, expected.get(direction, 1), "sequence numbers go on")
            self.assertEqual(acknowledged, expected.get(3 - direction, 1))
            expected[direction] = sequence + len(payload)
            payloads.append((direction, packet["at"], payload))
        wanted = []
        for row in told:
            wanted.append((2, row.at_us, row.request))
            wanted += [(1, row.at_us + row.first_us, row.answer)] if row.answer else []
        self.assertEqual(payloads, wanted)

    def test_of_a_serial_line_and_of_udp(self) -> None:
        told = [exchange(1, SERIAL), exchange(2, UDP)._replace(line="Other")]
        _, blocks = self._written(told)
        interfaces = [told for kind, told in blocks if kind == "interface"]
        self.assertEqual([one["linktype"] for one in interfaces], [147, 1])
        packets = [told for kind, told in blocks if kind == "packet"]
        self.assertEqual([packet["data"] for packet in packets[:2]], [told[0].request, told[0].answer])
        ip = packets[2]["data"][14:]
        self.assertEqual((ip[9], ip[28:]), (17, told[1].request))
        self.assertTrue(sums_to_nought(ip[12:20] + struct.pack(">BBH", 0, 17, len(ip) - 20) + ip[20:]))

    def test_version_6_of_ip(self) -> None:
        _, blocks = self._written([exchange(1, "tcp://[2001:db8::9]:502")])
        ip = blocks[2][1]["data"][14:]
        self.assertEqual((ip[0] >> 4, ip[6]), (6, 6))
        self.assertTrue(sums_to_nought(ip[8:40] + struct.pack(">II", len(ip) - 40, 6) + ip[40:]))

    def test_read_back_it_is_what_was_written(self) -> None:
        kinds = [OutcomeKind.GOOD, OutcomeKind.EXCEPTION, OutcomeKind.TIMEOUT]
        for link in (TCP, SERIAL, UDP, "tcp://[2001:db8::9]:502"):
            told = [exchange(n, link, kinds[n % 3]) for n in range(60)]
            path, _ = self._written(told)
            read = sorted(Capture(path), key=lambda row: row.at_us)
            self.assertEqual([kept(row) for row in read], [kept(row) for row in told], link)

    def test_cut_short_damaged_and_of_other_link_types(self) -> None:
        path, _ = self._written([exchange(n) for n in range(100)])
        whole = path.read_bytes()
        for cut in range(len(whole) - 200, len(whole) - 1, 7):
            path.write_bytes(whole[:cut])
            capture = Capture(path)
            self.assertGreater(len(list(capture)), 95)
            self.assertIn("cut short", capture.damaged[0])
        path.write_bytes(whole[:1000] + b"\xff\xff\xff\x7f" * 4 + whole[1016:])
        capture = Capture(path)
        list(capture)
        self.assertIn("damaged at byte", capture.damaged[0])
        interface = struct.pack("<IIHHII", 1, 20, 105, 0, 0, 20)
        packet = struct.pack("<IIIIIII", 6, 36, 0, 0, 1, 4, 4) + b"wifi" + struct.pack("<I", 36)
        path.write_bytes(parsed_head(whole) + interface + packet)
        capture = Capture(path)
        self.assertEqual(list(capture), [])
        self.assertIn("link type 105", capture.damaged[0])

    def test_a_capture_of_others_as_it_comes_from_the_network(self) -> None:
        """Answers in pieces, pieces sent again, and other traffic between, in the older format."""
        requests, answers = [exchange(n).request for n in range(20)], [exchange(n).answer for n in range(20)]
        packets = []
        sequences = {True: 1000, False: 5000}

        def segment(is_out: bool, data: bytes, back: int = 0) -> bytes:
            ports = (50000, 502) if is_out else (502, 50000)
            ends = (b"\x0a\0\0\1", b"\x0a\0\0\2") if is_out else (b"\x0a\0\0\2", b"\x0a\0\0\1")
            tcp = struct.pack(">HHIIBBHHH", *ports, sequences[is_out] - back, 0, 0x50, 0x18, 100, 0, 0) + data
            sequences[is_out] += len(data) - back
            ip = struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(tcp), 1, 0, 64, 6, 0) + b"".join(ends) + tcp
            return b"\x02" * 12 + b"\x08\x00" + ip

        for request, answer in zip(requests, answers, strict=True):
            packets.append(segment(True, request))
            packets.append(b"\x02" * 12 + b"\x08\x06" + b"who has")
            packets.append(segment(False, answer[:5]))
            packets.append(segment(False, answer[3:9], back=2))
            packets.append(segment(False, answer[9:]))
        path = self.folder / "other.pcap"
        data = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
        for number, packet in enumerate(packets):
            data += struct.pack("<IIII", 1_700_000_000, number, len(packet), len(packet)) + packet
        path.write_bytes(data)
        read = list(Capture(path))
        self.assertEqual([(row.request, row.answer) for row in read], list(zip(requests, answers, strict=True)))
        self.assertEqual({row.line for row in read}, {"10.0.0.2:502"})


def parsed_head(whole: bytes) -> bytes:
    """The section's head."""
    return whole[: struct.unpack_from("<I", whole, 4)[0]]


class Patterns(InFolder):
    def test_in_plain_words(self) -> None:
        pattern = Pattern()
        pattern.add_all(exchange(n) for n in range(50))
        pattern.add_all(exchange(n, kind=OutcomeKind.TIMEOUT)._replace(device="Dead", unit_id=9) for n in range(50))
        pattern.add_all(exchange(n, kind=OutcomeKind.EXCEPTION)._replace(device="Shy", unit_id=8) for n in range(50))
        told = [f"{finding.who} {finding.text}" for finding in pattern.findings()]
        self.assertTrue(any(text.startswith("Dead has never answered; its neighbour") for text in told), told)
        self.assertTrue(any("Shy refused 50 times with exception 2" in text for text in told), told)

    def test_a_head_says_from_when_to_when(self) -> None:
        path = self.folder / "a.tape"
        with path.open("wb") as file:
            file.write(head_line({}))
            file.write(pack([exchange(n) for n in range(100)]))
            file.write(pack([exchange(100, kind=OutcomeKind.TIMEOUT)]))
        with path.open("rb") as file:
            first, second = heads(file, [], "a")
            self.assertEqual((first.first_us, first.last_us), (START_US, START_US + 990_000))
            self.assertEqual((first.rows, second.rows), (100, 1))
            self.assertEqual(len(list(unpack(body_of(file, first)))), 100)
