"""Frames taken apart and put together, from the command line: what each field is called, says, and whether it is
right."""

import json
import unittest

from hypothesis import example, given
from hypothesis import strategies as st

from kanaleto.wire.ascii import Ascii
from kanaleto.wire.codes import Table
from kanaleto.wire.compose import FORMS, compose
from kanaleto.wire.explain import explain_frame, guess, pdu_of
from kanaleto.wire.frames import Framing, Role
from kanaleto.wire.pdu import Read
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.strategies import answers, requests, units
from tests.test_commands import kanaleto

FRAMINGS: list[Framing] = [Rtu(), Ascii(), Tcp()]
_REQUEST, _ANSWER = "11 03 00 6B 00 03 76 87", "11 03 06 AE 41 56 52 43 40 49 AD"


MESSAGES = st.one_of(
    requests.map(lambda request: (Role.REQUESTS, request)), answers.map(lambda answer: (Role.ANSWERS, answer))
)


class AnyFrame(unittest.TestCase):
    @given(st.sampled_from(FRAMINGS), units, MESSAGES)
    @example(Rtu(), 58, (Role.REQUESTS, Read(Table.HOLDING, 0, 1)))  # which is a colon
    def test_sound_frames_are_right_in_every_field_and_whole(self, framing: Framing, unit: int, message: tuple) -> None:  # type: ignore[type-arg]
        role, content = message
        raw = framing.encode(unit, content.encode(), 7)
        fields = explain_frame(framing.name, role, raw)
        self.assertEqual(b"".join(raw[field.start : field.end] for field in fields), raw)
        self.assertTrue(all(field.is_right is not False for field in fields), fields)
        self.assertEqual(pdu_of(framing.name, raw), content.encode())
        self.assertEqual(guess(raw).framing, framing.name)

    @given(st.sampled_from(["rtu", "ascii", "tcp"]), st.sampled_from(Role), st.binary(min_size=1, max_size=300))
    def test_any_bytes_can_be_explained(self, framing: str, role: Role, raw: bytes) -> None:
        fields = explain_frame(framing, role, raw)
        self.assertTrue(all(0 <= field.start < field.end <= len(raw) for field in fields), fields)
        guess(raw)


class Explain(unittest.TestCase):
    def test_a_request_and_its_answer(self) -> None:
        for words in ((*_REQUEST.split(), "--answer", _ANSWER), (f"{_REQUEST}\n{_ANSWER}",)):
            code, out, _ = kanaleto("explain", *words)
            self.assertEqual(code, 0)
            self.assertIn("RTU request, 8 bytes", out)
            self.assertRegex(out, r"2  00 6B  +address +107")
            self.assertRegex(out, r"6  76 87  +CRC +right")
            self.assertRegex(out, r"3  AE 41  +register 107 +44609")
            self.assertRegex(out, r"7  43 40  +register 109 +17216")

    def test_a_wrong_check_says_what_would_be_right(self) -> None:
        for text, right in (
            ("11 03 00 6B 00 03 76 88", "76 87 would be right"),
            (":1103006B00037F", "7E would be right"),
            ("00 01 00 00 00 07 11 03 00 6B 00 03", "7, 6 bytes follow"),
        ):
            code, out, _ = kanaleto("explain", text)
            self.assertEqual(code, 1)
            self.assertIn(right, out)

    def test_what_the_standard_forbids_is_marked(self) -> None:
        for pdu, role, place in (
            ("03 0000 007E", "request", "count"), ("01 0000 07D1", "request", "count"),
            ("04 FFFF 0002", "request", "count"), ("02 0000 0000", "request", "count"),
            ("05 0001 1234", "request", "value"), ("0F 0000 07B1 F7" + "00" * 247, "request", "count"),
            ("10 0000 0002 02 0001", "request", "function"), ("10 0000 007C F6" + "00" * 246, "request", "count"),
            ("17 0000 007E 0000 0001 02 0000", "request", "read count"),
            ("17 0000 0001 0000 007A F2" + "00" * 242, "request", "write count"),
            ("14 07 05 0004 0001 0001", "request", "reference"), ("14 07 06 0000 0001 0001", "request", "file"),
            ("14 07 06 0001 2710 0001", "request", "record"), ("08 0005 0000", "request", "sub-function"),
            ("08 000B 0001 00", "request", "too much"), ("2B 0E 05 00", "request", "access"),
            ("2B 0E 01 01 33 00 00", "response", "more follows"),
            ("18 0042 0020" + "00" * 64, "response", "in the queue"),
            ("03 03 000102", "response", "function"), ("83 02 00", "response", "too much"),
        ):  # fmt: skip
            raw = Rtu().encode(5, bytes.fromhex(pdu))
            code, out, _ = kanaleto("explain", raw.hex(), "--framing", "rtu", "--as", role, "--json")
            wrong = [field["name"] for field in json.loads(out)["fields"] if field["right"] is False]
            with self.subTest(pdu[:30]):
                self.assertEqual(code, 1)
                self.assertTrue(wrong == [place] or (place == "too much" and wrong == ["function"]), wrong)

    def test_framing_is_guessed_and_separators_do_not_matter(self) -> None:
        for text, framing in (
            ("11:03:00:6B:00:03:76:87", "rtu"),
            ("0x11, 0x03 0x00 0x6b 0x00 0x03 0x76 0x87", "rtu"),
            (":1103006B00037E", "ascii"),
            ("3A 31 31 30 33 30 30 36 42 30 30 30 33 37 45 0D 0A", "ascii"),
            ("0001 0000 0006 11 03006B0003", "tcp"),
        ):
            code, out, error = kanaleto("explain", text, "--json")
            record = json.loads(out)
            self.assertEqual(
                (code, record["framing"], record["as"], record["right"]), (0, framing, "request", True), error
            )
            address = next(field for field in record["fields"] if field["name"] == "address")
            self.assertEqual(address["value"], "107")

    def test_what_is_no_hexadecimal(self) -> None:
        for text, says in (
            ("11 03 zz", "'z' is no hexadecimal digit"),
            ("11 0", "one is missing"),
            ("", "there are no bytes"),
        ):
            code, out, error = kanaleto("explain", text)
            self.assertEqual((code, out, len(error.splitlines())), (2, "", 1))
            self.assertIn(says, error)


class Compose(unittest.TestCase):
    def test_each_form_makes_its_pdu(self) -> None:
        for words, pdu in (
            ("read holding 0x6B 3", "03006b0003"),
            ("read coil 19", "0100130001"),
            ("write coil 172 on", "0500acff00"),
            ("write holding 1 -1", "060001ffff"),
            ("write holding 1 10 0x102", "100001000204000a0102"),
            ("multiple coil 0 1", "0f000000010101"),
            ("mask 4 0xF2 0x25", "16000400f20025"),
            ("exchange 3 6 14 255", "1700030006000e00010200ff"),
            ("fifo 1246", "1804de"),
            ("read-file 4 1 2", "14070600040001" + "0002"),
            ("write-file 4 7 0x6AF", "15090600040007000106af"),
            ("status", "07"),
            ("events", "0b"),
            ("log", "0c"),
            ("server-id", "11"),
            ("diagnose 1 0xFF00", "080001ff00"),
            ("identify one 4", "2b0e0404"),
            ("answer holding 555 0 100", "0306022b00000064"),
            ("answer coil 1 0 1", "010105"),
            ("exception 1 2", "8102"),
            ("raw 41 01", "4101"),
        ):
            with self.subTest(words=words):
                self.assertEqual(compose(words.split()).encode().hex(), pdu)

    def test_what_cannot_be_composed(self) -> None:
        for words in (
            "",
            "red holding 0",
            "read",
            "read holding x",
            "read holdings 0",
            "write input 0 1",
            "write coil 0 maybe",
            "read holding 0 126",
            "read holding 0 1 2",
            "read holding 1_0",
            "read holding ٣",
            "answer holding" + " 1" * 126,
            "answer coil" + " 1" * 2001,
            "answer holding",
            "exception 3 256",
            "exception 3 0",
            "exception 200 1",
            "status 1",
            "raw 4",
            "raw zz",
            "raw " + "00" * 254,
        ):
            with self.subTest(words=words), self.assertRaises(ValueError):
                compose(words.split())
        self.assertTrue(all(form.startswith(name) for name, form in FORMS.items()))

    def test_in_every_framing(self) -> None:
        code, out, _ = kanaleto("compose", "read", "holding", "0x6B", "3", "--unit", "17", "--transaction", "5")
        self.assertEqual(code, 0)
        expected = [
            "rtu    11 03 00 6B 00 03 76 87",
            "ascii  :1103006B00037E␍␊",
            "tcp    00 05 00 00 00 06 11 03 00 6B 00 03",
        ]
        self.assertEqual(out.splitlines(), expected)
        code, out, _ = kanaleto("compose", "write", "holding", "1", "-2", "--json")
        self.assertEqual(json.loads(out)["pdu"], "060001fffe")
