"""Whatever answers, each request has one declared outcome and the next is sent; whatever is asked, a slave goes on."""

import unittest

from kanaleto.lines.outcome import OutcomeKind
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, Request
from tests.mutations import LINKS, Master, check_outcome, fuzz_master, fuzz_slaves, units
from tests.rawends import framed
from tests.standard_rows import ALIKE, MASTER
from tests.virtual import run_virtual

ROWS: list[tuple[Request, bytes]] = [
    (request, bytes.fromhex(asked if answer == ALIKE else answer))
    for _, request, asked, answer, becomes in MASTER
    if becomes == "good"
]


class Answers(unittest.TestCase):
    def test_a_function_alone_is_garbled_or_unexpected_and_ends_nothing(self) -> None:
        """01 03 40 21: a PDU of function 03 alone, its check bytes right."""
        self.assertEqual(framed("rtu", 1, b"\x03").hex(" "), "01 03 40 21")

        async def work(link: str) -> None:
            master = Master(link)
            await master.open()
            outcome = await master.ask(Read(Table.HOLDING, 0, 2), b"\x03")
            self.assertIn(outcome.kind, (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED), link)

        for link in LINKS:
            run_virtual(work(link))

    def test_every_truncation_and_every_first_byte(self) -> None:
        async def work(link: str) -> int:
            asked, has_seen = 0, set()
            master = Master(link)
            await master.open()
            for request, right in ROWS:
                answers = [right[:length] for length in range(1, min(len(right), 24))]
                if request.function not in has_seen:
                    has_seen.add(request.function)
                    answers += [bytes((first,)) + right[1:] for first in range(256)]
                    own = (request.function, request.function | 0x80, 0, 0x80)
                    alone = range(256) if request.function == 3 else own
                    answers += [bytes((first,)) for first in alone]
                for answer in answers:
                    asked += 1
                    check_outcome(await master.ask(request, answer), request, answer, right)
                raw = framed(master.exchanger.framing.name, 17, right, 0)
                for length in {1, 2, 3, 5, len(raw) - 1} - {len(raw)}:
                    outcome = await master.ask(request, raw[:length], as_frame=False)
                    self.assertNotEqual(outcome.kind, OutcomeKind.GOOD, (link, request, raw[:length].hex()))
            return asked

        for link in LINKS:
            with self.subTest(link):
                self.assertGreater(run_virtual(work(link)), 4000)

    def test_short_pdus_at_both_ends(self) -> None:
        fuzz_master(3000, 5, ROWS)
        fuzz_slaves(20_000, 5)

    def test_an_error_of_ours_costs_the_connection_and_is_told(self) -> None:
        async def work() -> None:
            master = Master("rtu")
            await master.open()

            def raises(data: bytes) -> list[object]:
                raise IndexError("of ours")

            master.exchanger._decoder.feed = raises  # type: ignore[assignment,method-assign]
            master.answer, master.as_frame = b"\x03\x02\x00\x01", True
            outcome = await master.exchanger.ask(17, Read(Table.HOLDING, 0, 1), 0.1)
            self.assertEqual(outcome.kind, OutcomeKind.UNREACHABLE)
            self.assertIn("a fault of this program: IndexError: of ours", outcome.reason)
            self.assertFalse(master.exchanger.is_open)
            self.assertIn("of ours", master.faults.pop())
            del master.exchanger._decoder.feed
            self.assertTrue((await master.ask(Read(Table.HOLDING, 0, 1), b"\x03\x02\x00\x01")).is_good)

        run_virtual(work())


class Asked(unittest.TestCase):
    def test_functions_that_are_none(self) -> None:
        serial, network = units(True), units(False)
        for served in serial, network:
            self.assertEqual(served.answer(5, b"\0"), b"\x80\x01")
            self.assertEqual(served.answer(5, b"\0\x01\x02"), b"\x80\x01")
        self.assertEqual(network.answer(9, b"\0"), b"\x80\x0b")
        self.assertIsNone(serial.answer(0, b"\0"))
        for function in range(0x80, 0x100):
            self.assertIsNone(serial.answer(5, bytes((function, 2))))
            self.assertEqual(network.answer(5, bytes((function, 2))), bytes((function, 1)))

    def test_listening_only_hears_nothing_but_a_sound_restart(self) -> None:
        served = units(True)
        self.assertIsNone(served.answer(5, bytes.fromhex("08 0004 0000")))
        for pdu in "08 0001 0001", "08 0001 FF01", "08 0001", "08 0000 0001", "03 0000 0001", "00", "83 02":
            self.assertIsNone(served.answer(5, bytes.fromhex(pdu)), pdu)
        self.assertIsNone(served.answer(5, bytes.fromhex("08 0001 FF00")))
        self.assertEqual(served.answer(5, bytes.fromhex("08 0000 0001")), bytes.fromhex("08 0000 0001"))


if __name__ == "__main__":
    unittest.main()
