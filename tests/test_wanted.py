"""What is typed becomes registers, and registers become requests."""

import unittest

from hypothesis import example, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.control.order import Order, requests_of
from kanaleto.control.preview import preview, spot_of
from kanaleto.control.sight import sight_of
from kanaleto.control.wanted import CannotWrite, text_of, wanted
from kanaleto.planning.plan import Place
from kanaleto.polling.session import Session
from kanaleto.site.model import Device, DeviceLimits, Point
from kanaleto.wire.codes import Table
from tests.controlled import DRIVE
from tests.simulated import SimulatedLine, device


def drive(**changes: object) -> Device:
    return replace(device("Drive", 7, DRIVE, 0.2), **changes)


def point(name: str) -> Point:
    return next(point for point in drive().points if point.name == name)


class Typed(unittest.TestCase):
    """What is typed becomes registers."""

    def test_values(self) -> None:
        cases = (
            ("Target", "65", b"\x19\x64", "65.00 %"),
            ("Target", "65,5 %", b"\x19\x96", "65.50 %"),
            ("Target", "0x1964", b"\x19\x64", "65.00 %"),
            ("Target", "65.006", b"\x19\x65", "65.01 %"),
            ("Target", "0b11", b"\x00\x03", "0.03 %"),
            ("Level", "2.5", b"\x40\x20\x00\x00", "2.5 m"),
            ("Mode", "automatic", b"\x00\x01", "Automatic"),
            ("Command word", "Enable, Open", b"\x00\x03", "Enable · Open"),
            ("Command word", "acknowledge", b"\x00\x80", "Acknowledge"),
            ("Command word", "0", b"\x00\x00", "no bit is on"),
            ("Horn", "on", b"\x01", "on"),
        )
        for name, text, data, message in cases:
            with self.subTest(name=name, text=text):
                made = wanted(point(name), text)
                self.assertEqual((made.data, made.text), (data, message))

    def test_parts_of_a_word(self) -> None:
        self.assertEqual(wanted(point("Command word"), "Open on").mask, 0x0002)
        self.assertEqual(wanted(point("Bit three"), "1").mask, 0x0008)
        self.assertEqual(wanted(point("Command word"), "Open on 2 s").pulse_s, 2)
        self.assertEqual(wanted(point("Bit three"), "on").over(b"\xff\x00"), b"\xff\x08")

    def test_what_cannot_be(self) -> None:
        cases = (
            ("Target", "140", "above 100 %.*nearest is 100"),
            ("Target", "-1", "below 0 %"),
            ("Target", "0x12345", "does not fit"),
            ("Target", "0xFFFF", "above 100"),
            ("Target", "fast", "is no number"),
            ("Position", "5", "read-only"),
            ("Never", "5", "never written"),
            ("Command word", "Run", "no bit of"),
            ("Horn", "toggle", "type on or off"),
            ("Mode", "Fast", "Manual, Automatic"),
            ("Horn", "on 700 s", "0.01 to 600"),
            ("Kept back", "70000", "does not fit"),
            ("Target", "nan", "no number"),
            ("Target", " ", "type a value"),
        )
        for name, text, why in cases:
            with self.subTest(name=name, text=text), self.assertRaisesRegex(CannotWrite, why):
                wanted(point(name), text)

    @given(
        st.sampled_from(
            ("int16", "uint16", "int32", "uint32", "int64", "float32", "float64", "bcd16", "sm16", "bcd32")
        ),
        st.sampled_from(("ABCD", "CDAB", "BADC", "DCBA")),
        st.sampled_from((("", ""), ("0.1", ""), ("0.01", "-40"), ("2.5", "10"))),
        st.integers(0, 9999),
    )
    @settings(max_examples=200, deadline=None)
    def test_the_inverse_scale_of_every_type(self, kind: str, order: str, scale: tuple[str, str], raw: int) -> None:
        """A value that registers mean is written as these registers."""
        if kind in ("bcd16", "bcd32", "sm16", "int16", "uint16"):
            order = "" if kind not in ("bcd32",) else order
        head = "name,table,address,type,order,factor,offset,access\n"
        (each_point,) = device("D", 1, f"{head}P,holding,0,{kind},{order},{scale[0]},{scale[1]},rw\n").points
        data = replace(each_point.codec, scale=None).encode(raw)
        value = each_point.codec.decode(data)
        assert isinstance(value, int | float)
        self.assertEqual(wanted(each_point, repr(value)).data, data)
        self.assertIn(text_of(each_point, data), (wanted(each_point, repr(value)).text,))


_KINDS = (
    "uint16", "int16", "uint32", "float32", "float64", "uint64", "bcd16", "sm32", "text:4", "hex", "bits", "bool",
    "unix32", "ymdhms", "ipv4", "mac", "version", "int8:high", "uint16[3]", "float16", "mod10000:2",
)  # fmt: skip
_PIECES = st.sampled_from((
    "1", "-2.5", "0x10", "0b11", "on", "off", "A", "B", ";", "\t", "=", "@", " every 0.5 s", " then 0", " 2 s",
    " to all", " ", "nan", "inf", "1e400", "9" * 60, ",", "+", "É", "\x1b", "'",
    "/etc/hostname", "D", "2026-05-17 03:00", "192.0.2.1",
))  # fmt: skip


class Hostile(unittest.TestCase):
    """Whatever is typed gives orders or a sentence."""

    @given(
        st.sampled_from(_KINDS), st.lists(_PIECES, max_size=6).map("".join), st.sampled_from(("", "0.1")), st.booleans()
    )
    @example("uint16", "1e400", "", False)
    @example("uint32", "1;1", "", False)
    @settings(max_examples=400, deadline=None)
    def test_nothing_that_is_typed_breaks(self, kind: str, text: str, factor: str, is_coil: bool) -> None:
        takes_scale = kind not in ("text:4", "hex", "bits", "bool", "unix32", "ymdhms", "ipv4", "mac", "version")
        rows = (
            f"P,holding,0,{kind},{factor if takes_scale else ''},rw,0=A;1=B\nQ,holding,20,uint16,,rw,\nC,coil,0,,,rw,"
        )
        each_device = device("D", 1, f"name,table,address,type,factor,access,labels\n{rows}\n")
        line = SimulatedLine(each_device)
        session = Session(line.site, line.exchanger)
        name = "C" if is_coil else "P"
        place = session.plan.place_of(("D", name))
        assert isinstance(place, Place)
        made = preview([spot_of(place)], text, session.snapshot)
        self.assertTrue(made.fault or made.orders)
        for order in made.orders:
            sight_of(order, spot_of(place))
            if order.points == (name,):
                self.assertTrue(text_of(place.point, order.data) or kind == "text:4")


class Requests(unittest.TestCase):
    def test_a_write_is_never_torn(self) -> None:
        order = Order(line="L", unit_id=1, table=Table.HOLDING, address=0, data=bytes(40))
        with self.assertRaises(CannotWrite):
            requests_of(order, DeviceLimits(max_write_registers=10))
        self.assertEqual(len(requests_of(order, DeviceLimits(max_write_registers=20))), 1)
        with self.assertRaises(CannotWrite):
            requests_of(order, DeviceLimits(functions=(3, 4)))
