"""Requests and answers against the standard's own worked examples (application protocol 1.1b3, section 6), and round
trips."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.wire.codes import ExceptionCode, Table
from kanaleto.wire.diagnostics import CommEventLog, Diagnose, EventCounter, ExceptionStatus, Plain, ServerId
from kanaleto.wire.identity import Depth, Identify, Identity, answer_from
from kanaleto.wire.pdu import (
    Answer,
    PduError,
    Raw,
    Read,
    ReadAnswer,
    Refused,
    Request,
    SpanWritten,
    WriteCoil,
    WriteCoils,
    WriteRegister,
    WriteRegisters,
    mismatch,
    parse_answer,
    parse_request,
)
from kanaleto.wire.records import (
    Fifo,
    FileData,
    FileRead,
    FileSpan,
    MaskWrite,
    ReadBack,
    ReadFifo,
    ReadFile,
    WriteFile,
    WriteThenRead,
)
from tests.strategies import answers, requests

_COILS_20_TO_29 = tuple(bit == "1" for bit in "1011001110")

EXAMPLES: list[tuple[str, Request, str, Answer]] = [
    ("01 00 13 00 13", Read(Table.COIL, 0x13, 19), "01 03 CD 6B 05", ReadAnswer(Table.COIL, bytes.fromhex("CD6B05"))),
    (
        "02 00 C4 00 16",
        Read(Table.DISCRETE, 0xC4, 22),
        "02 03 AC DB 35",
        ReadAnswer(Table.DISCRETE, bytes.fromhex("ACDB35")),
    ),
    (
        "03 00 6B 00 03",
        Read(Table.HOLDING, 107, 3),
        "03 06 02 2B 00 00 00 64",
        ReadAnswer(Table.HOLDING, bytes.fromhex("022B00000064")),
    ),
    ("04 00 08 00 01", Read(Table.INPUT, 8, 1), "04 02 00 0A", ReadAnswer(Table.INPUT, b"\0\x0a")),
    ("05 00 AC FF 00", WriteCoil(172, True), "05 00 AC FF 00", WriteCoil(172, True)),
    ("06 00 01 00 03", WriteRegister(1, 3), "06 00 01 00 03", WriteRegister(1, 3)),
    ("0F 00 13 00 0A 02 CD 01", WriteCoils(19, _COILS_20_TO_29), "0F 00 13 00 0A", SpanWritten(0x0F, 19, 10)),
    ("10 00 01 00 02 04 00 0A 01 02", WriteRegisters(1, (10, 0x0102)), "10 00 01 00 02", SpanWritten(0x10, 1, 2)),
    ("07", Plain(7), "07 6D", ExceptionStatus(0x6D)),
    ("08 00 00 A5 37", Diagnose(0, b"\xa5\x37"), "08 00 00 A5 37", Diagnose(0, b"\xa5\x37")),
    ("0B", Plain(11), "0B FF FF 01 08", EventCounter(0xFFFF, 264)),
    ("0C", Plain(12), "0C 08 00 00 01 08 01 21 20 00", CommEventLog(0, 264, 289, b"\x20\0")),
    ("11", Plain(17), "11 05 41 42 43 44 FF", ServerId(b"ABCD\xff")),
    (
        "14 0E 06 00 04 00 01 00 02 06 00 03 00 09 00 02",
        ReadFile((FileSpan(4, 1, 2), FileSpan(3, 9, 2))),
        "14 0C 05 06 0D FE 00 20 05 06 33 CD 00 40",
        FileRead((bytes.fromhex("0DFE0020"), bytes.fromhex("33CD0040"))),
    ),
    (
        "15 0D 06 00 04 00 07 00 03 06 AF 04 BE 10 0D",
        WriteFile((FileData(4, 7, bytes.fromhex("06AF04BE100D")),)),
        "15 0D 06 00 04 00 07 00 03 06 AF 04 BE 10 0D",
        WriteFile((FileData(4, 7, bytes.fromhex("06AF04BE100D")),)),
    ),
    ("16 00 04 00 F2 00 25", MaskWrite(4, 0xF2, 0x25), "16 00 04 00 F2 00 25", MaskWrite(4, 0xF2, 0x25)),
    (
        "17 00 03 00 06 00 0E 00 03 06 00 FF 00 FF 00 FF",
        WriteThenRead(3, 6, 14, (255, 255, 255)),
        "17 0C 00 FE 0A CD 00 01 00 03 00 0D 00 FF",
        ReadBack(bytes.fromhex("00FE0ACD00010003000D00FF")),
    ),
    ("18 04 DE", ReadFifo(1246), "18 00 06 00 02 01 B8 12 84", Fifo((440, 4740))),
    (
        "2B 0E 01 00",
        Identify(Depth.BASIC),
        "2B 0E 01 01 00 00 03 00 03 41 42 43 01 02 44 45 02 05 56 32 2E 31 31",
        Identity(Depth.BASIC, 1, None, ((0, b"ABC"), (1, b"DE"), (2, b"V2.11"))),
    ),
    (
        "2B 0E 03 80",
        Identify(Depth.EXTENDED, 0x80),
        "2B 0E 03 83 FF 81 01 80 02 41 42",
        Identity(Depth.EXTENDED, 0x83, 0x81, ((0x80, b"AB"),)),
    ),
    ("01 04 A1 00 01", Read(Table.COIL, 0x04A1, 1), "81 02", Refused(1, 2)),
]


class StandardExamples(unittest.TestCase):
    def test_requests_and_answers_both_ways(self) -> None:
        for request_hex, request, answer_hex, answer in EXAMPLES:
            with self.subTest(request=request_hex):
                self.assertEqual(request.encode(), bytes.fromhex(request_hex))
                self.assertEqual(parse_request(bytes.fromhex(request_hex)), request)
                self.assertEqual(answer.encode(), bytes.fromhex(answer_hex))
                self.assertEqual(parse_answer(bytes.fromhex(answer_hex)), answer)
                self.assertIsNone(mismatch(request, answer))

    def test_data_of_answers_is_read_as_the_standard_says(self) -> None:
        answer = parse_answer(bytes.fromhex("03 06 02 2B 00 00 00 64"))
        assert isinstance(answer, ReadAnswer)
        self.assertEqual(answer.words, (555, 0, 100))
        coils = ReadAnswer(Table.COIL, bytes.fromhex("CD6B05")).bits(19)
        self.assertEqual("".join(str(int(bit)) for bit in coils), "1011001111010110101")


class Round(unittest.TestCase):
    @given(requests)
    def test_every_request_comes_back(self, request: object) -> None:
        self.assertEqual(parse_request(request.encode()), request)  # type: ignore[attr-defined]

    @given(answers)
    def test_every_answer_comes_back(self, answer: object) -> None:
        self.assertEqual(parse_answer(answer.encode()), answer)  # type: ignore[attr-defined]

    @given(st.binary(max_size=300))
    def test_random_bytes_give_a_pdu_or_its_error(self, data: bytes) -> None:
        for parse in (parse_request, parse_answer):
            try:
                parsed = parse(data)
            except PduError:
                continue
            self.assertLessEqual(len(parsed.encode()), 253)


class Limits(unittest.TestCase):
    def test_a_request_that_the_standard_forbids_cannot_be_made(self) -> None:
        for make in (
            lambda: Read(Table.HOLDING, 0, 126),
            lambda: Read(Table.COIL, 0, 2001),
            lambda: Read(Table.INPUT, 0, 0),
            lambda: Read(Table.HOLDING, 0xFFFF, 2),
            lambda: Read(Table.HOLDING, -1, 1),
            lambda: WriteRegisters(0, (0,) * 124),
            lambda: WriteRegisters(0, ()),
            lambda: WriteCoils(0, (True,) * 1969),
            lambda: WriteRegister(0, 0x10000),
            lambda: WriteRegister(0x10000, 0),
            lambda: Raw(0x80, b""),
            lambda: Diagnose(2, b""),
            lambda: Diagnose(0, b"1"),
            lambda: ReadFile(()),
            lambda: ReadFile((FileSpan(1, 0, 122),)),
            lambda: FileSpan(1, 9999, 2),
            lambda: FileSpan(0, 0, 1),
            lambda: WriteFile((FileData(1, 0, bytes(246)),)),
            lambda: MaskWrite(0, 0x10000, 0),
            lambda: WriteThenRead(0, 126, 0, (1,)),
            lambda: WriteThenRead(0, 1, 0, (1,) * 122),
            lambda: Plain(3),
            lambda: Identify(Depth.ONE, 256),
            lambda: Raw(65, bytes(253)),
        ):
            with self.assertRaises(ValueError):
                make()

    def test_the_slave_is_told_which_exception_a_faulty_request_gets(self) -> None:
        for pdu, code in (
            ("03 00 00 00 7E", ExceptionCode.ILLEGAL_DATA_VALUE),  # 126 registers
            ("03 00 00 00 00", ExceptionCode.ILLEGAL_DATA_VALUE),
            ("03 FF FF 00 02", ExceptionCode.ILLEGAL_DATA_ADDRESS),
            ("05 00 00 12 34", ExceptionCode.ILLEGAL_DATA_VALUE),
            ("10 00 00 00 02 03 00 00 00", ExceptionCode.ILLEGAL_DATA_VALUE),  # byte count
            ("0F FF FF 00 08 01 00", ExceptionCode.ILLEGAL_DATA_ADDRESS),
            ("03 00", ExceptionCode.ILLEGAL_DATA_VALUE),
            ("83 00 00 00 01", ExceptionCode.ILLEGAL_FUNCTION),
            ("08 00 05 00 00", ExceptionCode.ILLEGAL_FUNCTION),  # no such sub-function
            ("08 00 0A 00", ExceptionCode.ILLEGAL_DATA_VALUE),
            ("14 06 06 00 04 00 01 00", ExceptionCode.ILLEGAL_DATA_VALUE),
            ("14 07 07 00 04 00 01 00 02", ExceptionCode.ILLEGAL_DATA_ADDRESS),  # reference type
            ("14 07 06 00 04 27 0F 00 02", ExceptionCode.ILLEGAL_DATA_ADDRESS),  # record 10 000
            ("15 09 06 00 04 00 07 00 02 06 AF", ExceptionCode.ILLEGAL_DATA_VALUE),
            ("17 00 00 00 00 00 00 00 01 02 00 00", ExceptionCode.ILLEGAL_DATA_VALUE),
            ("17 FF FF 00 02 00 00 00 01 02 00 00", ExceptionCode.ILLEGAL_DATA_ADDRESS),
            ("2B 0D 01 00", ExceptionCode.ILLEGAL_FUNCTION),
            ("2B 0E 05 00", ExceptionCode.ILLEGAL_DATA_VALUE),
        ):
            with self.subTest(pdu=pdu), self.assertRaises(PduError) as caught:
                parse_request(bytes.fromhex(pdu))
            self.assertEqual(caught.exception.exception, code)


class Masks(unittest.TestCase):
    def test_the_standard_s_example(self) -> None:
        self.assertEqual(MaskWrite(4, 0xF2, 0x25).result(0x12), 0x17)


class Identification(unittest.TestCase):
    OBJECTS = {number: bytes([65 + number % 26]) * 90 for number in (0, 1, 2, 3, 0x80, 0x81)}

    def _stream(self, depth: Depth) -> list[int]:
        seen: list[int] = []
        start: int | None = 0
        while start is not None:
            answer = answer_from(self.OBJECTS, Identify(depth, start))
            assert isinstance(answer, Identity)
            self.assertLessEqual(len(answer.encode()), 253)
            seen += [number for number, _ in answer.objects]
            start = answer.next_id
        return seen

    def test_streams_go_on_where_they_were_cut(self) -> None:
        self.assertEqual(self._stream(Depth.BASIC), [0, 1, 2])
        self.assertEqual(self._stream(Depth.REGULAR), [0, 1, 2, 3])
        self.assertEqual(self._stream(Depth.EXTENDED), [0, 1, 2, 3, 0x80, 0x81])

    def test_unknown_objects(self) -> None:
        self.assertEqual(answer_from(self.OBJECTS, Identify(Depth.ONE, 9)), ExceptionCode.ILLEGAL_DATA_ADDRESS)
        stream = answer_from(self.OBJECTS, Identify(Depth.BASIC, 9))
        assert isinstance(stream, Identity)
        self.assertEqual(stream.objects[0][0], 0)


class Pairing(unittest.TestCase):
    def test_an_answer_to_something_else_is_told_from_the_right_one(self) -> None:
        read = Read(Table.HOLDING, 0, 2)
        for request, answer in (
            (read, ReadAnswer(Table.HOLDING, bytes(2))),  # too few registers
            (read, ReadAnswer(Table.HOLDING, bytes(6))),
            (read, ReadAnswer(Table.INPUT, bytes(4))),  # another function
            (read, Refused(4, 2)),
            (WriteRegister(1, 3), WriteRegister(1, 4)),
            (WriteRegister(1, 3), WriteRegister(2, 3)),
            (WriteRegisters(1, (3, 4)), SpanWritten(0x10, 1, 1)),
            (WriteCoils(1, (True,)), SpanWritten(0x0F, 2, 1)),
            (MaskWrite(1, 2, 3), MaskWrite(1, 2, 4)),
            (WriteThenRead(0, 2, 0, (1,)), ReadBack(bytes(2))),
            (ReadFile((FileSpan(4, 1, 2),)), FileRead((bytes(2),))),
            (Diagnose(0, b"ab"), Diagnose(0, b"ac")),
            (Diagnose(11), Diagnose(12)),
            (Identify(Depth.BASIC), Identity(Depth.REGULAR, 1, None, ())),
        ):
            with self.subTest(request=request, answer=answer):
                self.assertIsNotNone(mismatch(request, answer))
        self.assertIsNone(mismatch(read, Refused(3, 6)))
