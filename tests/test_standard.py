"""Rows of the open standard, each with its section, and of how numbers are written. AP is the application protocol
1.1b3, SL the serial line 1.02, MG the messaging guide."""

import asyncio
import contextlib
import io
import tempfile
import unittest
from pathlib import Path

from kanaleto.cli.main import main
from kanaleto.files.loading import load_site
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memory import MemoryChannel
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.counting import Numbering, to_wire
from kanaleto.site.faults import FaultyFile
from kanaleto.survey.asking import Sparing, Timing, parse_timing
from kanaleto.values.codec import Codec, NoValue
from kanaleto.values.digits import number, whole
from kanaleto.values.types import Order, parse_order, parse_type
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, Request
from kanaleto.wire.tcp import Tcp
from tests.simulated import Pieces
from tests.virtual import run_virtual


def asked(
    channel: MemoryChannel, framing: Ascii | Tcp, count: int = 1, timeout_s: float = 1.0, again: int = 1
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
            self.assertEqual(Codec(parse_type(kind), Order.AB).decode(raw), text)
        self.assertIsInstance(Codec(parse_type("text:4:utf-8"), Order.AB).decode(b"\xff\xfe\0\0"), NoValue)

    def test_orders_of_64_bits_by_all_their_letters(self) -> None:
        words = {"ABCDEFGH": "0102030405060708", "GHEFCDAB": "0708050603040102", "BADCFEHG": "0201040306050807",
                 "HGFEDCBA": "0807060504030201"}  # fmt: skip
        for letters, raw in words.items():
            codec = Codec(parse_type("uint64"), parse_order(letters))
            self.assertEqual(codec.decode(bytes.fromhex(raw)), 0x0102030405060708)


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
