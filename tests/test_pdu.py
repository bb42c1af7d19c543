"""Requests and answers against the standard's own worked examples (application protocol 1.1b3, section 6), and round trips."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.wire.codes import ExceptionCode, Table
from kanaleto.wire.pdu import (
    PduError,
    Raw,
    Read,
    ReadAnswer,
    Refused,
    SpanWritten,
    WriteCoil,
    WriteCoils,
    WriteRegister,
    WriteRegisters,
    mismatch,
    parse_answer,
    parse_request,
)
from tests.strategies import answers, requests

_COILS_20_TO_29 = tuple(bit == "1" for bit in "1011001110")

EXAMPLES = [
    ("01 00 13 00 13", Read(Table.COIL, 0x13, 19), "01 03 CD 6B 05", ReadAnswer(Table.COIL, bytes.fromhex("CD6B05"))),
    ("02 00 C4 00 16", Read(Table.DISCRETE, 0xC4, 22), "02 03 AC DB 35", ReadAnswer(Table.DISCRETE, bytes.fromhex("ACDB35"))),
    ("03 00 6B 00 03", Read(Table.HOLDING, 107, 3), "03 06 02 2B 00 00 00 64", ReadAnswer(Table.HOLDING, bytes.fromhex("022B00000064"))),
    ("04 00 08 00 01", Read(Table.INPUT, 8, 1), "04 02 00 0A", ReadAnswer(Table.INPUT, b"\0\x0a")),
    ("05 00 AC FF 00", WriteCoil(172, True), "05 00 AC FF 00", WriteCoil(172, True)),
    ("06 00 01 00 03", WriteRegister(1, 3), "06 00 01 00 03", WriteRegister(1, 3)),
    ("0F 00 13 00 0A 02 CD 01", WriteCoils(19, _COILS_20_TO_29), "0F 00 13 00 0A", SpanWritten(0x0F, 19, 10)),
    ("10 00 01 00 02 04 00 0A 01 02", WriteRegisters(1, (10, 0x0102)), "10 00 01 00 02", SpanWritten(0x10, 1, 2)),
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
        ):
            with self.subTest(pdu=pdu), self.assertRaises(PduError) as caught:
                parse_request(bytes.fromhex(pdu))
            self.assertEqual(caught.exception.exception, code)


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
        ):
            with self.subTest(request=request, answer=answer):
                self.assertIsNotNone(mismatch(request, answer))
        self.assertIsNone(mismatch(read, Refused(3, 6)))
