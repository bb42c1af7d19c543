"""Words to values and back: worked tables, orders, scales, and round trips."""

import struct
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.values.block import BitBlock, RegisterBlock
from kanaleto.values.codec import CannotEncode, Codec, NoValue
from kanaleto.values.scale import between, curve, linear
from kanaleto.values.text import shortest_float32, shown
from kanaleto.values.types import ORDERS, ByteOrder, order_for, parse_order, parse_type


def codec(
    type_text: str,
    order: ByteOrder | None = None,
    factor: float = 1,
    offset: float = 0,
    bits: tuple[int, int] | None = None,
) -> Codec:
    value_type = parse_type(type_text)
    return Codec(value_type, order_for(value_type, order, None), linear(factor, offset), bits)


class WorkedTable(unittest.TestCase):
    def test_types_and_orders(self) -> None:
        for type_text, order, words, value in (
            ("uint16", None, "FFFE", 65534),
            ("int16", None, "FFFE", -2),
            ("int16", ByteOrder.BA, "FEFF", -2),
            ("uint32", ByteOrder.ABCD, "0001 0002", 65538),
            ("uint32", ByteOrder.CDAB, "0002 0001", 65538),
            ("uint32", ByteOrder.BADC, "0100 0200", 65538),
            ("uint32", ByteOrder.DCBA, "0200 0100", 65538),
            ("int32", ByteOrder.CDAB, "FFFE FFFF", -2),
            ("float32", ByteOrder.CDAB, "3D71 401A", struct.unpack(">f", bytes.fromhex("401A3D71"))[0]),
            ("uint64", ByteOrder.ABCD, "0001 0203 0405 0607", 0x0001020304050607),
            ("uint64", ByteOrder.CDAB, "0607 0405 0203 0001", 0x0001020304050607),
            ("uint64", ByteOrder.BADC, "0100 0302 0504 0706", 0x0001020304050607),
            ("uint64", ByteOrder.DCBA, "0706 0504 0302 0100", 0x0001020304050607),
            ("int64", ByteOrder.ABCD, "FFFF FFFF FFFF FFFF", -1),
            ("float64", ByteOrder.ABCD, "3FF8 0000 0000 0000", 1.5),
            ("bcd16", None, "1234", 1234),
            ("bcd32", ByteOrder.CDAB, "5678 1234", 12345678),
            ("text:5", None, "4142 4320 0000", "ABC"),
            ("text:4", ByteOrder.BA, "4241 4443", "ABCD"),
            ("bool", None, "0100", 1),
            ("hex", None, "BEEF", 0xBEEF),
        ):
            with self.subTest(type=type_text, order=order):
                self.assertEqual(codec(type_text, order).decode(bytes.fromhex(words)), value)

    def test_a_four_letter_order_that_is_inherited_leaves_narrow_types_alone(self) -> None:
        self.assertIs(order_for(parse_type("int16"), None, ByteOrder.DCBA), ByteOrder.AB)
        self.assertIs(order_for(parse_type("text:4"), None, ByteOrder.CDAB), ByteOrder.AB)
        self.assertIs(order_for(parse_type("int32"), None, ByteOrder.CDAB), ByteOrder.CDAB)
        with self.assertRaisesRegex(ValueError, "takes ABCD"):
            order_for(parse_type("int32"), ByteOrder.BA, None)

    def test_words_without_a_value_say_why(self) -> None:
        for type_text, words, reason in (
            ("float32", "7FC0 0000", "NaN"),
            ("float32", "7F80 0000", "infinite"),
            ("bcd16", "12A4", "decimal"),
        ):
            value = codec(type_text).decode(bytes.fromhex(words))
            self.assertIsInstance(value, NoValue)
            self.assertIn(reason, getattr(value, "reason", ""))

    def test_bit_fields(self) -> None:
        word = bytes.fromhex("80A5")
        self.assertEqual(codec("uint16", bits=(4, 7)).decode(word), 0xA)
        self.assertEqual(codec("bool", bits=(15, 15)).decode(word), 1)
        self.assertEqual(codec("bool", bits=(1, 1)).decode(word), 0)

    def test_unknown_words_say_what_there_is(self) -> None:
        for parse, text in (
            (parse_type, "int24"),
            (parse_type, "text"),
            (parse_type, "text:0"),
            (parse_type, "int16:4"),
            (parse_order, "ACBD"),
        ):
            with self.subTest(text=text), self.assertRaises(ValueError):
                parse(text)


class Scales(unittest.TestCase):
    def test_tenths_stay_tenths(self) -> None:
        for raw, factor, offset, value in (
            (3, 0.1, 0, 0.3),
            (183, 0.1, 0, 18.3),
            (2410, 0.001, 0, 2.41),
            (7, 0.1, -40, -39.3),
            (3, 3, 1, 10),
        ):
            data = struct.pack(">h", raw)
            self.assertEqual(codec("int16", factor=factor, offset=offset).decode(data), value)

    def test_two_points_on_a_line(self) -> None:
        scale = between(0, 12000, -20, 80)
        assert scale is not None
        self.assertEqual([scale.to_value(raw) for raw in (0, 6000, 12000)], [-20, 30, 80])
        with self.assertRaises(ValueError):
            between(5, 5, 0, 1)
        with self.assertRaises(ValueError):
            linear(0, 1)

    def test_what_cannot_be_written_is_refused_with_what_can(self) -> None:
        for kind, value, factor, says in (
            ("uint16", -1, 1, "0…65535"),
            ("uint16", 70000, 1, "0…65535"),
            ("bcd16", 10000, 1, "0…9999"),
            ("float32", 1e39, 1, "float32"),
            ("text:2", "ABC", 1, "2 fit"),
            ("int16", "x", 1, "no number"),
        ):
            with self.subTest(kind=kind, value=value), self.assertRaisesRegex(CannotEncode, says):
                codec(kind, factor=factor).encode(value)


integers = ["int16", "uint16", "int32", "uint32", "int64", "uint64", "bcd16", "bcd32"]


class RoundTrips(unittest.TestCase):
    @given(st.sampled_from(integers), st.sampled_from(ORDERS[:4]), st.data())
    def test_integers(self, kind: str, order: ByteOrder, data: st.DataObject) -> None:
        plain = codec(kind, order if parse_type(kind).is_wide else None)
        low, high = plain._limits()
        value = data.draw(st.integers(low, high))
        self.assertEqual(plain.decode(plain.encode(value)), value)

    @given(
        st.integers(-32768, 32767),
        st.sampled_from([0.1, 0.01, 0.25, 3.0, 1 / 3, -0.5]),
        st.sampled_from([0.0, -40.0, 0.5]),
    )
    def test_every_scaled_raw_number_can_be_written_back(self, raw: int, factor: float, offset: float) -> None:
        scaled = codec("int16", factor=factor, offset=offset)
        words = struct.pack(">h", raw)
        value = scaled.decode(words)
        assert not isinstance(value, NoValue | tuple)
        self.assertEqual(scaled.encode(value, is_within=False), words)

    @given(st.floats(width=32, allow_nan=False, allow_infinity=False), st.sampled_from(ORDERS[:4]))
    def test_floats(self, value: float, order: ByteOrder) -> None:
        plain = codec("float32", order)
        self.assertEqual(plain.decode(plain.encode(value)), value)
        self.assertEqual(struct.pack(">f", shortest_float32(value)), struct.pack(">f", value))

    def test_shortest_float(self) -> None:
        self.assertEqual(shortest_float32(struct.unpack(">f", struct.pack(">f", 2.41))[0]), 2.41)


class Blocks(unittest.TestCase):
    @given(
        st.lists(st.sampled_from([*integers, "float32", "float64", "text:3", "bool"]), min_size=1, max_size=30),
        st.data(),
    )
    def test_a_block_decodes_as_its_points_do(self, kinds: list[str], data: st.DataObject) -> None:
        orders = [data.draw(st.sampled_from(ORDERS[:4])) if parse_type(kind).is_wide else None for kind in kinds]
        codecs = [codec(kind, order) for kind, order in zip(kinds, orders, strict=True)]
        fields, start = [], 0
        for one in codecs:
            start += data.draw(st.integers(0, 2))
            fields.append((start, one))
            start += one.registers
        words = data.draw(st.binary(min_size=2 * start, max_size=2 * start))
        expected = tuple(one.decode(words[2 * at : 2 * (at + one.registers)]) for at, one in fields)
        self.assertEqual(RegisterBlock(start, fields).decode(words), expected)

    @given(st.data())
    def test_whatever_a_point_needs_its_block_does_the_same(self, data: st.DataObject) -> None:
        """Scaled, bits of words, numbers that mean none, swapped, one on top of the other."""
        scales = (None, None, linear(0.1, 0), linear(-3, 7.5), linear(1e300, 0), between(0, 4000, -20, 80.5),
                  curve([(0, 0), (800, 12.5), (4000, 100)]))  # fmt: skip
        kinds = [*integers, "float16", "float32", "float32", "float64", "bool", "bits", "bcd16", "sm32"]
        fields = []
        for _ in range(data.draw(st.integers(1, 25))):
            value_type = parse_type(data.draw(st.sampled_from(kinds)))
            order = (
                data.draw(st.sampled_from(ORDERS[:4])) if value_type.is_wide else data.draw(st.sampled_from(ORDERS[4:]))
            )
            is_word = value_type.registers == 1 and not value_type.is_float
            bits = data.draw(st.sampled_from([None, (0, 0), (3, 9), (15, 15)])) if is_word else None
            scale = data.draw(st.sampled_from(scales)) if value_type.takes_scale else None
            none = data.draw(st.sampled_from([frozenset(), frozenset((0, 0xFFFF))]))
            fields.append((data.draw(st.integers(0, 8)), Codec(value_type, order, scale, bits, none)))
        words = data.draw(
            st.binary(min_size=24, max_size=24)
            | st.sampled_from([bytes(24), b"\xff" * 24, b"\x7f\x80\0\0" * 6, b"\x7f\x7f\xff\xff" * 6])
        )
        expected = tuple(one.decode(words[2 * at : 2 * (at + one.registers)]) for at, one in fields)
        self.assertEqual(repr(RegisterBlock(12, fields).decode(words)), repr(expected))

    @given(st.binary(min_size=3, max_size=3), st.lists(st.integers(0, 21), max_size=22))
    def test_bits(self, data: bytes, places: list[int]) -> None:
        expected = tuple(data[place // 8] >> place % 8 & 1 for place in places)
        self.assertEqual(BitBlock(22, places).decode(data), expected)

    def test_a_point_outside_its_block_is_refused(self) -> None:
        with self.assertRaises(ValueError):
            RegisterBlock(2, [(1, codec("int32"))]).decode(bytes(4))


class Shown(unittest.TestCase):
    def test_as_people_read_them(self) -> None:
        for value, kind, decimals, text in (
            (184220.6, "float64", 1, "184 220.6"),
            (6412, "uint32", None, "6 412"),
            (0xBEEF, "hex", None, "BEEF"),
            (5, "bits", None, "0000000000000101"),
            (2.41, "float32", None, "2.41"),
            ("AL-LT", "text:8", None, "AL-LT"),
        ):
            self.assertEqual(shown(value, codec(kind), decimals), text)
        self.assertEqual(shown(1, codec("uint16"), None, {1: "Opening"}), "Opening")
