"""Rows of the open standard, each with its section, and of how numbers are written. AP is the application protocol
1.1b3, SL the serial line 1.02, MG the messaging guide."""

import asyncio
import contextlib
import io
import pickle
import tempfile
import unittest
from pathlib import Path

from kanaleto.cli.main import main
from kanaleto.files.loading import load_site
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.question import Sparing, Timing, parse_timing
from kanaleto.site.counting import Numbering, to_wire
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.links.parse import parse_link
from kanaleto.values.codec import Codec, NoValue
from kanaleto.values.digits import number, whole
from kanaleto.values.types import ByteOrder, order_for, parse_order, parse_type
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.codes import Table
from kanaleto.wire.diagnostics import server_id_parts
from kanaleto.wire.frames import Framing
from kanaleto.wire.pdu import Read, Request
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.simulated import Pieces
from tests.virtual import run_virtual


def asked(
    channel: MemoryChannel, framing: Framing, count: int = 1, timeout_s: float = 1.0, again: int = 1
) -> list[Outcome]:
    """What comes of reading so many registers of unit 1, one time after the other."""

    async def work() -> list[Outcome]:
        exchanger = Exchanger(channel, framing)
        await exchanger.open()
        return [await exchanger.ask(1, Read(Table.HOLDING, 0, count), timeout_s) for _ in range(again)]

    return run_virtual(work())


class Lines(unittest.TestCase):
    def test_units_are_settled_by_the_framing(self) -> None:
        """SL 2.2: 1 to 247 on a serial line, over whatever it is carried; MG 4.4.2.1: any on TCP."""
        for link, unit, is_right in (
            ("rtu:///dev/ttyX", 0, False), ("rtu+tcp://192.0.2.1:4001", 0, False),
            ("ascii+tcp://192.0.2.1:4001", 248, False), ("rtu+rfc2217://192.0.2.1:4001", 0, False),
            ("rtu+tcp://192.0.2.1:4001", 247, True), ("tcp://192.0.2.1", 0, True), ("tcp://192.0.2.1", 255, True),
            ("udp://192.0.2.1", 248, True),
        ):  # fmt: skip
            with self.subTest(link, unit=unit), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "s.toml"
                path.write_text(
                    f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "{link}"\n'
                    f'[[line.device]]\nname = "D"\nunit_id = {unit}\n'
                )
                if is_right:
                    load_site(path)
                    continue
                with self.assertRaisesRegex(FaultyFile, "s.toml:8: unit ID .* is not in 1…247, as (RTU|ASCII) framing"):
                    load_site(path)

    def test_the_longest_ascii_answer_at_low_rates(self) -> None:
        """SL 2.5.2: a frame of 513 characters takes 4.3 s at 1200 baud, and the answer that has begun is waited for."""
        for baud in (300, 1200, 2400):
            character_s = 10 / baud

            def far_end(data: bytes, at: float, each_s: float = character_s) -> Pieces:
                raw = Ascii().encode(1, bytes((3, 250)) + bytes(250))
                return [(at + 0.01 + (place + 1) * each_s, raw[place : place + 1]) for place in range(len(raw))]

            for outcome in asked(MemoryChannel(far_end, character_s, 0.0), Ascii(), 125, again=2):
                self.assertIs(outcome.kind, OutcomeKind.GOOD, (baud, outcome.reason))

    def test_ascii_bears_a_second_between_characters(self) -> None:
        """SL 2.5.2.1."""
        for pause_s, kind in ((0.9, OutcomeKind.GOOD), (1.6, OutcomeKind.GARBLED)):

            def far_end(data: bytes, at: float, pause_s: float = pause_s) -> Pieces:
                raw = Ascii().encode(1, bytes((3, 2, 0, 7)))
                return [(at + 0.05, raw[:5]), (at + 0.05 + pause_s, raw[5:])]

            (outcome,) = asked(MemoryChannel(far_end, 10 / 9600, 0.0), Ascii())
            self.assertIs(outcome.kind, kind, outcome.reason)

    def test_an_answer_in_pieces_on_a_stream(self) -> None:
        """It has begun within the timeout, and is waited for while its rest comes; what is no frame is not."""
        for framing in (Rtu(), Tcp()):

            def far_end(data: bytes, at: float, framing: Framing = framing) -> Pieces:
                raw = framing.encode(1, bytes((3, 40)) + bytes(40), int.from_bytes(data[:2]))
                return [(at + 0.2 * (place + 1), raw[2 * place : 2 * place + 2]) for place in range(30)]

            (outcome,) = asked(MemoryChannel(far_end), framing, 20, timeout_s=0.3)
            self.assertTrue(outcome.is_good, (framing.name, outcome.reason))

        def babbling(data: bytes, at: float) -> Pieces:
            return [(at + 0.02 * place, b"\1\3\2\0\0\0\0" if place == 1 else b"\xee") for place in range(1, 900)]

        (outcome,) = asked(MemoryChannel(babbling), Rtu(), timeout_s=0.3)
        self.assertIs(outcome.kind, OutcomeKind.GARBLED, outcome.reason)
        self.assertLess(outcome.done_at - outcome.asked_at, 1.5)

    def test_the_end_of_ascii_requests_is_the_link_s(self) -> None:
        """AP 6.8.1 03: requests end as the link says; answers end with LF, or with that."""
        for end in (b"\n", b";"):

            def far_end(data: bytes, at: float, end: bytes = end) -> Pieces:
                right = Ascii().encode(1, bytes((3, 2, 0, 7)))[:-1] + end
                return [(at + 0.05, right)] if data.endswith(b"\r;") else []

            (outcome,) = asked(MemoryChannel(far_end, 10 / 9600, 0.0), Ascii(ord(";")))
            self.assertTrue(outcome.is_good, outcome.reason)
        link = parse_link("ascii+tcp://192.0.2.1:4001?delimiter=0x3B")
        self.assertEqual((link.delimiter, str(link)), (0x3B, "ascii+tcp://192.0.2.1:4001?delimiter=0x3B"))
        self.assertEqual(parse_link("ascii:///dev/ttyX?delimiter=59").delimiter, 59)
        for text in ("ascii:///dev/ttyX?delimiter=;", "ascii:///dev/ttyX?delimiter=0x41", "ascii:///x?delimiter=256"):
            with self.assertRaisesRegex(ValueError, "can end a frame"):
                parse_link(text)
        with self.assertRaisesRegex(ValueError, "'delimiter' is not known here"):
            parse_link("rtu:///dev/ttyX?delimiter=59")

    def test_a_datagram_stands_for_itself(self) -> None:
        """MG 4.2: what is no answer is thrown away, and the right one after it taken."""
        right = bytes((3, 2, 0, 7))
        for wrong in (b"\xff" * 9, b"\0", Tcp().encode(1, right, 999), Tcp().encode(2, right, 1), b"\0\1\0\0\0\3\1\3"):

            def far_end(data: bytes, at: float, wrong: bytes = wrong) -> Pieces:
                transaction = int.from_bytes(data[:2])
                return [(at + 0.01, wrong), (at + 0.05, Tcp().encode(1, right, transaction))]

            channel = MemoryChannel(far_end)
            channel.is_datagram = True  # type: ignore[misc]
            for outcome in asked(channel, Tcp(), again=3):
                self.assertIs(outcome.kind, OutcomeKind.GOOD, (wrong, outcome.reason))

    def test_a_write_is_never_repeated(self) -> None:
        with contextlib.redirect_stderr(io.StringIO()) as errors:
            self.assertEqual(main(["write", "tcp://127.0.0.1:1", "coil", "0", "on", "--retries", "2"]), 2)
        self.assertEqual(errors.getvalue().count("\n"), 1)


class Numbers(unittest.TestCase):
    def test_digits_alone(self) -> None:
        self.assertEqual([whole("12"), whole("-3"), whole("0x1F"), number("1.5e3"), number(".5"), number("-2")],
                         [12, -3, 31, 1500.0, 0.5, -2.0])  # fmt: skip
        for text in ("1_000", "١٢", "0x", "1e", "nan", "inf", "", "0b1", "1 2", "９", "0x1_F", "9" * 500):
            for parse in (whole, number):
                with self.subTest(text), self.assertRaises(ValueError):
                    parse(text)

    def test_hexadecimal_is_the_wire_s_however_the_map_counts(self) -> None:
        for numbering in Numbering:
            self.assertEqual(to_wire("0x753A", Table.INPUT, numbering), 30010)
            self.assertEqual(to_wire("0x0000", Table.HOLDING, numbering), 0)
            with self.assertRaisesRegex(ValueError, "is not in 0…65535"):
                to_wire("0x10000", Table.HOLDING, numbering)
        self.assertEqual(to_wire("40011", Table.HOLDING, Numbering.REFERENCE), 10)

    def test_text_is_decoded_before_it_is_trimmed(self) -> None:
        for kind, raw, text in (
            ("text:8", b"AB\0CD\0\0\0", "AB"),
            ("text:8", b"AB C    ", "AB C"),
            ("text:8:utf-16-be", "Öl".encode("utf-16-be") + bytes(4), "Öl"),
            ("text:8:utf-16-be", "水位".encode("utf-16-be") + b"\0 \0 ", "水位"),
        ):
            self.assertEqual(Codec(parse_type(kind), ByteOrder.AB).decode(raw), text)
        self.assertIsInstance(Codec(parse_type("text:4:utf-8"), ByteOrder.AB).decode(b"\xff\xfe\0\0"), NoValue)

    def test_orders_of_64_bits_by_all_their_letters(self) -> None:
        words = {"ABCDEFGH": "0102030405060708", "GHEFCDAB": "0708050603040102", "BADCFEHG": "0201040306050807",
                 "HGFEDCBA": "0807060504030201", "EFGHABCD": "0506070801020304",
                 "FEHGBADC": "0605080702010403", "CDABGHEF": "0304010207080506"}  # fmt: skip
        for letters, raw in words.items():
            codec = Codec(parse_type("uint64"), parse_order(letters))
            self.assertEqual(codec.decode(bytes.fromhex(raw)), 0x0102030405060708)
            self.assertEqual(codec.encode(0x0102030405060708).hex(), raw)
            self.assertIs(pickle.loads(pickle.dumps(codec.order)), codec.order)
        halves = ByteOrder("EFGHABCD")
        self.assertIs(order_for(parse_type("float64"), None, halves), halves)
        self.assertIs(order_for(parse_type("float32"), None, halves), ByteOrder.ABCD)
        for kind, order in (("int32", halves), ("int64", ByteOrder.AB)):
            with self.assertRaisesRegex(ValueError, "takes ABCD, CDAB, BADC or DCBA"):
                order_for(parse_type(kind), order, None)
        for text in ("EFGHABCC", "EFGH", "ABCDEFG", "12345678"):
            with self.assertRaisesRegex(ValueError, "is not known; the orders are"):
                parse_order(text)

    def test_where_the_server_id_ends(self) -> None:
        """AP 6.13: the ID, the run indicator, additional data; only the second has a length that is told."""
        for data, parts in (
            (b"AL-7\xff", (b"AL-7", True, b"")),
            (b"AL-7\0", (b"AL-7", False, b"")),
            (b"\x01\xffmore\0", (b"\x01", True, b"more\0")),
            (b"\xff\xff", (b"\xff", True, b"")),
            (b"\0\0v2", (b"\0", False, b"v2")),
            (b"AL\0\0\xffv2", (b"AL\0\0", True, b"v2")),
            (b"AL", (b"AL", None, b"")),
            (b"", (b"", None, b"")),
        ):
            self.assertEqual(server_id_parts(data), parts)


class Surveys(unittest.TestCase):
    def test_who_is_silent_takes_a_tenth_of_a_line_that_others_use(self) -> None:
        async def work() -> float:
            loop, busy_s = asyncio.get_running_loop(), 0.0

            async def ask(unit_id: int, request: Request, timeout_s: float) -> Outcome:
                nonlocal busy_s
                start = loop.time()
                await asyncio.sleep(timeout_s)
                busy_s += loop.time() - start
                return Outcome(OutcomeKind.TIMEOUT, unit_id, b"", b"", None, start, start, 0.0, loop.time(), "silent")

            sparing, began = Sparing(ask), loop.time()
            while loop.time() - began < 200:
                await sparing(5, Read(Table.HOLDING, 0, 1), 1.0)
            return busy_s / (loop.time() - began)

        self.assertLess(run_virtual(work()), 0.115)

    def test_timing_as_it_is_typed(self) -> None:
        self.assertEqual(parse_timing(""), Timing())
        self.assertEqual(parse_timing("0.8 s, 0.05"), Timing(0.8, 0.05))
        for text in ("fast", "0", "61", "1,2,3", "1,-1", "nan"):
            with self.assertRaisesRegex(ValueError, "type a timeout in seconds"):
                parse_timing(text)
