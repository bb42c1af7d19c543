"""Every type: worked tables, round trips exact or refused, runs, tables with straight pieces, current loops, words that
mean no value."""

import struct
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.mapscale import LOOP_RANGES
from kanaleto.site.model import Point
from kanaleto.values.codec import CannotEncode, Codec, NoValue
from kanaleto.values.scale import curve
from kanaleto.values.text import plain, shown
from kanaleto.values.types import ORDERS, ByteOrder, Kind, ValueType, order_for, parse_order, parse_type


def codec(type_text: str, order: str = "") -> Codec:
    value_type = parse_type(type_text)
    return Codec(value_type, order_for(value_type, parse_order(order) if order else None, None))


def point(row: str, columns: str) -> Point:
    points, faults = read_map(Path("m.csv"), f"name,table,address,{columns}\nP,holding,0,{row}\n", MapDefaults())
    assert not faults, faults
    return points[0]


def faults_of(row: str, columns: str) -> str:
    _, faults = read_map(Path("m.csv"), f"name,table,address,{columns}\nP,holding,0,{row}\n", MapDefaults())
    return " ".join(str(fault) for fault in faults)


class Worked(unittest.TestCase):
    def test_words_to_values_and_back(self) -> None:
        for type_text, order, words, value in (
            ("int8:high", "", "FE01", -2),
            ("int8:low", "", "01FE", -2),
            ("uint8:high", "", "FE00", 254),
            ("uint8:low", "BA", "FE00", 254),
            ("float16", "", "4170", 2.71875),
            ("sm16", "", "8005", -5),
            ("sm32", "CDAB", "0005 8000", -5),
            ("bcd64", "ABCD", "0000 0001 2345 6789", 123456789),
            ("mod10000:2", "ABCD", "0012 1F40", 188000),
            ("mod10000:3", "CDAB", "0001 0002 0003", 300020001),
            ("unix32", "ABCD", "6553 F100", "2023-11-14 22:13:20"),
            ("unix64", "ABCD", "0000 0000 0000 0000", "1970-01-01 00:00:00"),
            ("ymdhms", "", "1A05 110B 1E00", "2026-05-17 11:30:00"),
            ("ymdhms:6", "", "07EA 0005 0011 000B 001E 0000", "2026-05-17 11:30:00"),
            ("ipv4", "", "C000 0207", "192.0.2.7"),
            ("mac", "", "0200 5E10 0007", "02:00:5E:10:00:07"),
            ("version", "", "0201", "2.1"),
            ("version:4", "", "0201 0007", "2.1.0.7"),
            ("uint16[3]", "", "0001 0002 FFFF", (1, 2, 65535)),
            ("float32[2]", "CDAB", "0000 3FC0 0000 4020", (1.5, 2.5)),
            ("text:6:utf-8", "", "C3A9 7400 0000", "ét"),
        ):
            with self.subTest(type=type_text, order=order):
                data = bytes.fromhex(words)
                made = codec(type_text, order)
                self.assertEqual(made.decode(data), value)
                if type_text not in (
                    "int8:high",
                    "int8:low",
                    "uint8:high",
                    "uint8:low",
                ):  # the other byte is not theirs
                    self.assertEqual(made.encode(value), data)

    def test_every_type_survives_its_own_text(self) -> None:
        for kind in Kind:
            text = "text:5" if kind is Kind.TEXT else kind.value
            self.assertEqual(str(parse_type(text)), text)
            self.assertEqual(parse_type(f"{text}[1]"), parse_type(text))
        for wrong in ("uint16[0]", "uint16[126]", "float64[40]", "text:4[3]", "text:4:klingon", "mod10000", "ymdhms:7"):
            with self.subTest(wrong), self.assertRaises(ValueError):
                parse_type(wrong)

    def test_words_that_are_no_value(self) -> None:
        for type_text, words in (
            ("bcd64", "0000 0000 0000 00FA"),
            ("mod10000:2", "0001 2710"),
            ("ymdhms", "1A0D 110B 1E00"),
            ("ymdhms:6", "07EA 0002 001E 0000 0000 0000"),
            ("float16", "7E00"),
            ("text:4:ascii", "FFFE 4142"),
        ):
            with self.subTest(type_text):
                self.assertIsInstance(codec(type_text).decode(bytes.fromhex(words)), NoValue)

    def test_a_run_is_shown_and_handed_on_whole(self) -> None:
        run = codec("int16[3]")
        value = run.decode(bytes.fromhex("0001 FFFF 0003"))
        self.assertEqual((shown(value, run, None), plain(value, run, None)), ("1 · -1 · 3", [1, -1, 3]))
        with self.assertRaisesRegex(CannotEncode, "not 3 values"):
            run.encode([1, 2])

    def test_labels_of_bits_name_those_that_are_on(self) -> None:
        word = codec("bits")
        self.assertEqual(shown(0b1001, word, None, {0: "Ready", 3: "Fault", 7: "Warm"}), "Ready · Fault")
        self.assertEqual(shown(0, word, None, {0: "Ready"}), "no bit is on")

    def test_signed_fields_of_bits(self) -> None:
        field = Codec(parse_type("int16"), ByteOrder.AB, bits=(4, 7))
        self.assertEqual(field.decode(bytes.fromhex("00E0")), -2)
        self.assertEqual(field.encode(-2), bytes.fromhex("00E0"))
        with self.assertRaises(CannotEncode):
            field.encode(8)


WHOLE = [kind for kind in Kind if kind.value.startswith(("int", "uint", "bcd", "sm", "mod"))]


class RoundTrips(unittest.TestCase):
    @given(st.sampled_from(WHOLE), st.sampled_from(ORDERS), st.integers(-(2**65), 2**65))
    def test_whole_numbers_come_back_or_are_refused_with_what_fits(
        self, kind: Kind, order: ByteOrder, value: int
    ) -> None:
        value_type = ValueType(kind)
        if order.is_for_wide != value_type.is_wide:
            return
        made = Codec(value_type, order)
        try:
            data = made.encode(value)
        except CannotEncode as error:
            self.assertRegex(str(error), r"\d")
        else:
            self.assertEqual(made.decode(data), value)

    @given(st.sampled_from(list(Kind)), st.sampled_from(ORDERS), st.binary(min_size=12, max_size=12))
    def test_any_words_decode_to_a_value_that_encodes_to_a_value_the_same(
        self, kind: Kind, order: ByteOrder, words: bytes
    ) -> None:
        value_type = ValueType(kind, 6 if kind is Kind.TEXT else 0)
        if order.is_for_wide != value_type.is_wide:
            return
        made = Codec(value_type, order)
        value = made.decode(words[: 2 * made.registers])
        if not isinstance(value, NoValue | tuple):
            try:
                self.assertEqual(made.decode(made.encode(value)), value)
            except CannotEncode:
                self.assertIn(kind, (Kind.CLOCK6, Kind.UNIX64))  # years that the way back does not take

    @given(st.lists(st.integers(0, 65535), min_size=2, max_size=8, unique=True), st.data())
    def test_tables_with_straight_pieces_are_exact_both_ways(self, raws: list[int], data: st.DataObject) -> None:
        steps = data.draw(st.lists(st.integers(1, 5000), min_size=len(raws), max_size=len(raws)))
        values, total = [], 0
        for step in steps:
            total += step
            values.append(total / 10)
        made = curve(list(zip(sorted(raws), values, strict=True)))
        for raw, value in zip(made.raws, made.values, strict=True):
            self.assertAlmostEqual(made.to_value(raw), value)  # type: ignore[arg-type]
            self.assertEqual(made.to_raw(value), raw)


class Scales(unittest.TestCase):
    def test_a_current_loop_tells_a_broken_wire(self) -> None:
        loop = point("int16,6400,32000,0,250,4-20mA", "type,raw_low,raw_high,eng_low,eng_high,signal").codec
        self.assertEqual(loop.finish(6400), 0)
        self.assertEqual(loop.finish(32000), 250)
        self.assertAlmostEqual(loop.finish(19200), 125)  # type: ignore[arg-type]
        self.assertIn("broken wire", loop.finish(0).reason)  # type: ignore[union-attr]
        self.assertIn("fault of the loop", loop.finish(32767 + 1500).reason)  # type: ignore[union-attr]
        self.assertTrue(all(low < high for low, high in LOOP_RANGES))

    def test_clamping_and_curves(self) -> None:
        clamped = point("uint16,0,4000,0,100,yes", "type,raw_low,raw_high,eng_low,eng_high,clamp").codec
        self.assertEqual((clamped.finish(5000), clamped.finish(2000)), (100, 50))
        bent = point('uint16,"0=0;1000=10;4000=100"', "type,curve").codec
        self.assertEqual((bent.finish(500), bent.finish(2500)), (5, 55))
        self.assertEqual(bent.encode(55), struct.pack(">H", 2500))
        falling = curve([(0, 100), (100, 0)])
        self.assertEqual((falling.to_value(25), falling.to_raw(75)), (75, 25))

    def test_words_that_mean_no_value(self) -> None:
        made = point("int16,0x8000;0x7FFF", "type,no_value").codec
        self.assertIsInstance(made.decode(bytes.fromhex("8000")), NoValue)
        self.assertIsInstance(made.decode(bytes.fromhex("7FFF")), NoValue)
        self.assertEqual(made.decode(bytes.fromhex("7FFE")), 32766)
        single = point("float32,-999.0", "type,no_value").codec
        self.assertIsInstance(single.decode(struct.pack(">f", -999.0)), NoValue)

    def test_bad_cells_are_told(self) -> None:
        for row, columns, reason in (
            ("uint16,0=0", "type,curve", "two points"),
            ("uint16,0=0;5=9;7=3", "type,curve", "rise or fall"),
            ("uint16,what", "type,curve", "must read like"),
            ("uint16,0-10V", "type,signal", "is not known"),
            ("uint16,4-20mA", "type,signal", "needs raw_low|needs ends"),
            ("uint16,yes", "type,clamp", "needs ends"),
            ("uint16,maybe", "type,clamp", "yes or no"),
            ("uint16,0x10000", "type,no_value", "is no raw number"),
            ("uint16,pump", "type,no_value", "is no raw number"),
            ("ipv4,2", "type,factor", "takes no scale"),
            ("uint16,speed", "type,setting", "is not known"),
        ):
            with self.subTest(row):
                self.assertRegex(faults_of(row, columns), reason)
