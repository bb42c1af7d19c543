"""What can be shown can be written: every decoded value, printed as the screen prints it and typed again, prints the
same again. By maps, so that every type, order and scale is one that a site can have."""

import random
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.control.wanted import CannotWrite, text_of, wanted
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.site.model import Point
from kanaleto.values.codec import CannotEncode, NoValue
from kanaleto.values.text import BETWEEN_RUN, decimals_of, shown
from kanaleto.values.typed import typed_value
from kanaleto.values.types import Kind

_HEAD = (
    "name,table,address,type,order,factor,offset,raw_low,raw_high,eng_low,eng_high,curve,clamp,signal,unit,decimals,"
    "access,labels,bit,no_value\n"
)
_KINDS = [kind.value for kind in Kind if kind is not Kind.TEXT] + ["text:8", "text:6:utf-8", "text:4:utf-16-be"]
_SCALED = [
    kind for kind in _KINDS
    if not kind.startswith(("text", "bool", "hex", "bits", "unix", "ymdhms", "ipv4", "mac", "version"))
]  # fmt: skip
_WITH_NO_VALUE = [kind for kind in _SCALED if not kind.startswith(("float", "int8", "uint8"))]
_SCALES = [
    {}, {"factor": "0.1"}, {"factor": "0.01", "offset": "-40"}, {"factor": "-2.5", "offset": "10"}, {"factor": "1000"},
    {"factor": "0.333333"}, {"raw_low": "0", "raw_high": "27648", "eng_low": "0", "eng_high": "10"},
    {"raw_low": "-8192", "raw_high": "8192", "eng_low": "100", "eng_high": "-100"},
    {"curve": "0=0;1000=12.5;4000=20;20000=99.9"}, {"curve": "0=9.7;100=3.25;65000=-1"},
    {"raw_low": "0", "raw_high": "27648", "eng_low": "0", "eng_high": "10", "clamp": "yes"},
    {"raw_low": "0", "raw_high": "16000", "eng_low": "-5", "eng_high": "37.3", "signal": "4-20"},
]  # fmt: skip
_LABELS = ["", "0=Off;1=On", "1=Run 5 s;2=A, B;3=to all", "0=closed;7=a+b;15=Fault"]


def point_of(kind: str, **cells: str) -> Point | None:
    """The point of one row; None where no map can have it."""
    row = {"name": "P", "table": "holding", "address": "0", "type": kind, "access": "rw", **cells}
    line = ",".join(f'"{row.get(name, "")}"' for name in _HEAD.strip().split(","))
    points, faults = read_map(Path("m.csv"), _HEAD + line + "\n", MapDefaults(period_s=1.0))
    return points[0] if points and not [fault for fault in faults if not fault.is_warning] else None


def check(test: unittest.TestCase, point: Point, data: bytes, power: int = 0) -> bool:
    """Whether `data` mean a value there that was printed and typed again."""
    value = point.codec.decode(data)
    if isinstance(value, NoValue) or (isinstance(value, tuple) and any(isinstance(one, NoValue) for one in value)):
        return False
    if isinstance(value, str) and (not value.strip() or not value.isprintable() or value != value.rstrip()):
        return False
    text = text_of(point, data, power)
    digits = sum(letter.isdigit() for letter in text.split(BETWEEN_RUN)[0])
    if (point.codec.scale is not None or power) and digits > 15:
        return False  # more than a number of eight bytes tells apart
    made = wanted(point, text, power)
    test.assertEqual(made.text, text, (point.codec, data.hex(), value))
    if point.codec.type.kind is not Kind.TEXT:
        test.assertEqual(wanted(point, f"  {text} ", power).text, text)
    is_part = point.codec.bits is not None or point.codec.type.kind.value.startswith(("int8", "uint8"))
    if not power and not point.labels and not is_part:
        decimals = point.decimals if point.decimals is not None else decimals_of(point.codec)
        typed = shown(value, point.codec, point.decimals)
        again = point.codec.encode(typed_value(typed, point.codec), decimals=decimals)
        test.assertEqual(
            shown(point.codec.decode(again), point.codec, point.decimals), typed, (point.codec, data.hex())
        )
    return True


class ShownAndTyped(unittest.TestCase):
    @given(
        st.sampled_from(_KINDS), st.sampled_from(("", "ABCD", "CDAB", "BADC", "DCBA", "BA")), st.sampled_from(_SCALES),
        st.sampled_from(("", "0", "1", "3")), st.sampled_from(_LABELS), st.sampled_from(("", "", "3", "2-6")),
        st.sampled_from(("", "m3/h", "°C")), st.sampled_from(("", "", "[2]", "[3]")),
        st.binary(min_size=1000, max_size=1000),
        st.sampled_from((0, 0, 0, -3, 2)), st.sampled_from(("", "", "32767", "0;65535")),
    )  # fmt: skip
    @settings(max_examples=120, deadline=None)
    def test_printed_and_typed_again(
        self, kind: str, order: str, scale: dict[str, str], decimals: str, labels: str, bit: str, unit: str,
        run: str, noise: bytes, power: int, no_value: str,
    ) -> None:  # fmt: skip
        point = point_of(
            kind + (run if not bit and not kind.startswith("text") else ""), order=order, decimals=decimals,
            labels=labels,
            bit=bit, unit="" if kind.startswith("text") else unit, no_value=no_value if kind in _WITH_NO_VALUE else "",
            **(scale if kind in _SCALED else {}),
        )  # fmt: skip
        if point is None:
            return
        if point.codec.type.is_array or not point.codec.type.takes_scale:
            power = 0
        size = 2 * point.size
        for at in range(0, min(len(noise) - size, 8 * size), size):
            check(self, point, noise[at : at + size], power)

    def test_each_type_order_and_scale(self) -> None:
        """Words at the ends and in the middle, by numbers of each type."""
        source, looked = random.Random(7), 0
        for kind in _KINDS:
            for order, decimals in ("", ""), ("", "2"), ("CDAB", ""):
                for scale in _SCALES if kind in _SCALED else [{}]:
                    point = point_of(kind, order=order, decimals=decimals, **scale)
                    if point is None:
                        continue
                    size = 2 * point.size
                    for data in (
                        bytes(size), b"\xff" * size, b"\x12" * size, b"\x00" * (size - 1) + b"\x01",
                        *(source.randbytes(size) for _ in range(2)),
                        bytes(source.choice(b"\0\1\7\x12\x31") for _ in range(size)),
                    ):  # fmt: skip
                        looked += check(self, point, data)
        self.assertGreater(looked, 2_000)

    def test_what_the_codec_had_just_decoded_is_taken(self) -> None:
        point = point_of("uint16", raw_low="0", raw_high="27648", eng_low="0", eng_high="10")
        assert point is not None
        self.assertEqual(wanted(point, "5.1").data, (14100).to_bytes(2))
        self.assertEqual(wanted(point, "5.10011574074").data, (14101).to_bytes(2))
        for raw in (*range(0, 65536, 13), 65535):
            check(self, point, raw.to_bytes(2))

    def test_what_lies_outside_is_refused(self) -> None:
        each_point = point_of("uint16", raw_low="0", raw_high="27648", eng_low="0", eng_high="10", clamp="yes")
        plain = point_of("uint16", factor="0.1")
        assert each_point is not None and plain is not None
        for point, text in ((each_point, "10.2"), (each_point, "-1"), (plain, "6553.6"), (plain, "-0.1")):
            with self.assertRaises(CannotWrite, msg=text):
                wanted(point, text)
        self.assertEqual(wanted(plain, "12.34").text, "12.3")
        self.assertEqual(wanted(plain, "-0.04").text, "0.0")

    def test_no_value_is_never_written_as_a_value(self) -> None:
        point = point_of("uint16", factor="0.1", no_value="500", decimals="0")
        assert point is not None
        self.assertEqual(wanted(point, "50").text, "50")
        self.assertNotEqual(wanted(point, "50").data, (500).to_bytes(2))

    def test_digits_and_names_as_they_are_printed(self) -> None:
        names, pair = {"labels": "0=A, B;1=C+D;2=E on"}, {"labels": "0=A;1=B"}
        cases: tuple[tuple[str, dict[str, str], str, bytes], ...] = (
            ("hex", {}, "00FF", b"\x00\xff"), ("hex", {}, "10", b"\x00\x10"),
            ("bits", {}, "0000000000000101", b"\0\5"), ("bits", names, "A, B · C+D · E on", b"\0\7"),
            ("bits", pair, "no bit is on", b"\0\0"), ("bits[2]", pair, "A + B · no bit is on", b"\0\3\0\0"),
            ("uint32", {}, "4 294 967 295", b"\xff" * 4),
            ("int64", {}, "-9 223 372 036 854 775 808", b"\x80" + bytes(7)),
            ("uint64", {"decimals": "1"}, "18 446 744 073 709 551 615.0", b"\xff" * 8),
            ("uint16[3]", {}, "1 000 · 2 · 3", bytes.fromhex("03e800020003")), ("uint16[2]", {}, "1 2", b"\0\1\0\2"),
            ("ipv4[2]", {}, "192.0.2.1 · 192.0.2.7", bytes.fromhex("c0000201c0000207")),
            ("text:4", {}, '"=a"', b"=a\0\0"), ("text:4", {}, " a", b" a\0\0"),
            ("unix32", {}, "2026-05-17 08:30:00", bytes.fromhex("6a097c88")),
            ("mac", {}, "02:00:5E:10:00:07", bytes.fromhex("02005e100007")),
            ("mod10000:2", {}, "12 345 678", bytes.fromhex("04d2162e")),
            ("ymdhms", {}, "2026-05-17 08:30:00", bytes.fromhex("1a0511081e00")),
        )  # fmt: skip
        for kind, cells, text, data in cases:
            with self.subTest(kind, text=text):
                point = point_of(kind, **cells)
                assert point is not None
                self.assertEqual(wanted(point, text).data.hex(), data.hex())

    def test_an_exponent_of_another_point(self) -> None:
        point = point_of("uint32", unit="kWh")
        assert point is not None
        for power in (-3, -1, 2):
            for raw in (0, 1, 184_220_600, 4_294_967_295):
                check(self, replace(point, decimals=3), raw.to_bytes(4), power)

    def test_an_empty_text_is_said(self) -> None:
        point = point_of("text:4")
        assert point is not None
        self.assertEqual(wanted(point, '""').data, bytes(4))
        with self.assertRaises(CannotWrite):
            wanted(point, "  ")
        with self.assertRaises(CannotEncode):
            point.codec.encode("abcde")


if __name__ == "__main__":
    unittest.main()
