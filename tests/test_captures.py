"""Captures in open formats, read back by a parser that shares nothing with ours; of other programs, damaged, cut short;
and what their pattern looks like."""

import json
import struct
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from kanaleto.capture.capturefile import CaptureFile
from kanaleto.capture.jsonlines import CapturedLine, NoCapture
from kanaleto.capture.packing import body_of, head_line, heads, pack, unpack
from kanaleto.capture.pcapng import PcapngWriter
from kanaleto.capture.reading import Capture
from kanaleto.capture.row import ExchangeRow
from kanaleto.evidence.finding import FindingKind
from kanaleto.evidence.findings import findings_of
from kanaleto.evidence.gathered import Gathered
from kanaleto.lines.outcome import OutcomeKind
from tests.exchanges import SERIAL, START_US, TCP, UDP, InFolder, exchange, kept, rows
from tests.faulty_lines import FAULTY


class JsonLines(InFolder):
    def test_round_trip_and_the_names_of_the_contract(self) -> None:
        told = [exchange(n, kind=kind) for n, kind in enumerate(OutcomeKind)]
        path = self.folder / "a.jsonl"
        capture = CaptureFile(path, "Alder Lock", [CapturedLine("Line", TCP)])
        capture.put(told)
        capture.close()
        first, second = (json.loads(line) for line in path.read_text().splitlines()[:2])
        self.assertEqual(first["kanaleto_capture"], 1)
        self.assertEqual(first["lines"], [{"name": "Line", "link": TCP, "origin": "real", "exact_ms": 0.0}])
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
            capture = CaptureFile(path, "S", [CapturedLine("Line", TCP)], most_bytes=20_000, most_files=3)
            capture.put([exchange(n) for n in range(1000)])
            capture.close()
            found = sorted(self.folder.glob(f"r*.{ending}"))
            self.assertEqual(len(found), 3)
            self.assertTrue(all(path.stat().st_size < 21_000 for path in found))
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
    def _written(self, told: list[ExchangeRow]) -> tuple[Path, list[tuple[str, dict]]]:  # type: ignore[type-arg]
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

    def test_what_came_in_one_read_stays_in_its_order(self) -> None:
        first, second = (
            exchange(0)._replace(at_us=START_US + at, request=b"", answer=bytes.fromhex(answer))
            for at, answer in ((1, "006500000003010301"), (0, "000100000003010302"))
        )
        writer = PcapngWriter()
        for one in (first, second):
            writer.take(one)
        blocks = b"".join(writer.ready(2 * START_US))
        self.assertLess(blocks.index(first.answer), blocks.index(second.answer))

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

    @given(st.lists(rows, max_size=12), st.booleans())
    @settings(max_examples=60, deadline=None)
    def test_read_back_it_is_row_by_row_what_was_written(self, told: list[ExchangeRow], is_serial: bool) -> None:
        """Whatever came of them: strays, what never went, what was asked twice, two on the way at once."""
        link = SERIAL if is_serial else UDP
        told = [row._replace(link=link, line=row.line.strip(), reason=row.reason[:50]) for row in told]
        path = self.folder / "a.pcapng"
        path.unlink(missing_ok=True)
        capture = CaptureFile(path, "S", [])
        capture.put(told)
        capture.close()
        self.assertEqual(sorted(Capture(path), key=repr), sorted(told, key=repr))

    def test_without_what_our_comments_say_it_is_paired_by_its_bytes(self) -> None:
        kinds = [OutcomeKind.GOOD, OutcomeKind.EXCEPTION, OutcomeKind.TIMEOUT]
        for link in (TCP, SERIAL, UDP, "tcp://[2001:db8::9]:502"):
            told = [exchange(n, link, kinds[n % 3]) for n in range(60)]
            path, _ = self._written(told)
            path.write_bytes(path.read_bytes().replace(b'{"kanaleto"', b'{"somewhat"'))
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


class TheSameNight(InFolder):
    """As tape, JSON lines and pcapng: what is counted and what it looks like are the same."""

    def test_counts_and_findings_are_equal(self) -> None:
        for kind in (FindingKind.TWO_ALIKE, FindingKind.HANGS_UP, FindingKind.TIMEOUT_SHORT, FindingKind.LIMIT):
            told = FAULTY[kind](1).rows()
            paths = [self.folder / f"{kind.value}{ending}" for ending in (".tape", ".jsonl", ".pcapng")]
            with paths[0].open("wb") as tape:
                tape.write(head_line({"site": "S"}))
                for first in range(0, len(told), 500):
                    tape.write(pack(told[first : first + 500]))
            for path in paths[1:]:
                capture = CaptureFile(path, "S", [CapturedLine("Line", told[0].link)], most_bytes=1 << 30)
                capture.put(told)
                capture.close()
            nights = []
            for path in paths:
                gathered = Gathered()
                for row in Capture(path):
                    gathered.add(row)
                counts = {(device.line, device.unit_id): device.kinds for device in gathered.devices}
                found = findings_of(list(gathered.lines.values()))
                nights.append((counts, [(one.kind, one.who, one.count, one.of) for one in found]))
            self.assertEqual(nights[0], nights[1], kind)
            self.assertEqual(nights[0], nights[2], kind)
            self.assertEqual(nights[0][1][0][0], kind)


class Patterns(InFolder):
    def test_in_plain_words(self) -> None:
        gathered = Gathered()
        told = [exchange(n) for n in range(50)]
        told += [exchange(n, kind=OutcomeKind.TIMEOUT)._replace(device="Dead", unit_id=9) for n in range(50)]
        told += [exchange(n, kind=OutcomeKind.EXCEPTION)._replace(device="Shy", unit_id=8) for n in range(50)]
        for row in told:
            gathered.add(row)
        texts = [one.text for one in findings_of(list(gathered.lines.values()))]
        self.assertTrue(any(text.startswith("Dead has never answered; its neighbours still") for text in texts), texts)
        self.assertTrue(any("Shy refused 50 times with exception 2" in text for text in texts), texts)

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
            self.assertEqual(len(list(unpack(body_of(file, first), 100))), 100)
