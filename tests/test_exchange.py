"""One exchange on a virtual clock: every kind of bad answer has its outcome, and none is taken for the right one."""

import asyncio
import unittest
from functools import partial

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.identify import Identification, identify
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.lines.readspan import ask_again
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.identity import Depth, Identity
from kanaleto.wire.pdu import Read, ReadAnswer
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.simulated import Fault, Pieces, SimulatedLine, device
from tests.virtual import VirtualLoop, run_virtual

READ = Read(Table.HOLDING, 0, 3)
RTU, TCP = Rtu(), Tcp()


def asked(fault: Fault | None, is_serial: bool = True, again: int = 0) -> list[Outcome]:
    """Outcomes of one read and `again` more, the fault only at the first."""
    line = SimulatedLine(device("Device", 7), is_serial=is_serial)

    async def work() -> list[Outcome]:
        exchanger = line.exchanger()
        await exchanger.open()
        line.fault = fault
        outcomes = [await exchanger.ask(7, READ, 0.5)]
        line.fault = None
        for _ in range(again):
            if not exchanger.is_open:
                await exchanger.open()
            outcomes.append(await exchanger.ask(7, READ, 0.5))
        return outcomes

    return run_virtual(work())


def _late_by(seconds: float, answer: bytes, frame: Frame, at: float, right: Pieces) -> Pieces:
    return [(at + seconds, answer)]


def _noisy(noise: bytes, times: int, frame: Frame, at: float, right: Pieces) -> Pieces:
    return [(at + number / 1000, noise) for number in range(times)]


def _goes_round(following: int, frame: Frame, at: float, right: Pieces) -> Pieces:
    """Says of its identity that more follows, always from the same object on."""
    pdu = Identity(Depth.BASIC, 1, following, ((0, b"Ada"),)).encode()
    return [(at + 0.01, TCP.encode(7, pdu, frame.transaction or 0))] if frame.pdu[0] == 0x2B else right


def instead_late(seconds: float, answer: bytes) -> Fault:
    return partial(_late_by, seconds, answer)


def instead(make: bytes) -> Fault:
    return lambda frame, at, right: [(right[0][0], make)]


class Outcomes(unittest.TestCase):
    def _check(self, fault: Fault, kind: OutcomeKind, says: str = "", is_serial: bool = True) -> Outcome:
        outcome, after = asked(fault, is_serial, again=1)
        self.assertEqual(outcome.kind, kind, outcome.reason)
        self.assertIn(says, outcome.reason)
        self.assertEqual(after.kind, OutcomeKind.GOOD, after.reason)
        return outcome

    def test_good(self) -> None:
        for is_serial in (True, False):
            (outcome,) = asked(None, is_serial)
            self.assertEqual(outcome.content, ReadAnswer(Table.HOLDING, bytes(6)))
            self.assertLessEqual(outcome.asked_at, outcome.sent_at)
            self.assertLess(outcome.sent_at, outcome.done_at)

    def test_line_time_is_counted(self) -> None:
        (outcome,) = asked(None)
        character_s = 11 / 19200
        self.assertAlmostEqual(outcome.sent_at - outcome.asked_at, 8 * character_s, places=6)
        self.assertAlmostEqual(outcome.took_s, 0.001 + 11 * character_s, places=6)

    def test_silence(self) -> None:
        outcome = self._check(lambda frame, at, right: [], OutcomeKind.TIMEOUT, "nothing came within 0.5 s")
        self.assertAlmostEqual(outcome.took_s, 0.5, places=3)

    def test_an_exception_has_its_code(self) -> None:
        outcome = self._check(instead(RTU.encode(7, b"\x83\x06")), OutcomeKind.EXCEPTION, "busy")
        self.assertEqual(outcome.code, 6)

    def test_sound_frames_that_are_not_the_answer(self) -> None:
        six = bytes(6)
        for pdu, unit, says in (
            (b"\x03\x06" + six, 8, "unit 8 answered"),
            (b"\x04\x06" + six, 7, "function 0x04"),
            (b"\x03\x04" + six[:4], 7, "4 bytes of data, 6 are due"),
            (b"\x06\0\0\0\0", 7, "function 0x06"),
        ):
            with self.subTest(says=says):
                self._check(instead(RTU.encode(unit, pdu)), OutcomeKind.UNEXPECTED, says)
                self._check(instead(TCP.encode(unit, pdu, 1)), OutcomeKind.UNEXPECTED, says, is_serial=False)

    def test_somebody_else_s_answer_does_not_end_the_waiting(self) -> None:
        other = RTU.encode(8, b"\x03\x06" + bytes(6))
        outcomes = asked(lambda frame, at, right: [(at + 0.01, other), (right[0][0] + 0.2, right[0][1])])
        self.assertEqual(outcomes[0].kind, OutcomeKind.GOOD)

    def test_another_transaction(self) -> None:
        self._check(
            lambda frame, at, right: [(at, TCP.encode(7, b"\x03\x06" + bytes(6), 999))],
            OutcomeKind.UNEXPECTED,
            "transaction 999",
            False,
        )

    def test_garbled(self) -> None:
        good = RTU.encode(7, b"\x03\x06" + bytes(6))
        self._check(instead(good[:-1] + b"\xff"), OutcomeKind.GARBLED, "would be right")
        self._check(instead(good[:-3]), OutcomeKind.GARBLED, "cut short")
        self._check(instead(good[:4] + b"\x55" + good[4:]), OutcomeKind.GARBLED)
        header = TCP.encode(7, b"\x03\x06" + bytes(6), 1)
        self._check(instead(header[:4] + b"\xff\xff" + header[6:]), OutcomeKind.GARBLED, "length 65535", False)
        self._check(instead(header[:2] + b"\0\7" + header[4:]), OutcomeKind.GARBLED, "protocol id 7", False)

    def test_a_babbling_device_ends_too(self) -> None:
        outcome = self._check(
            lambda frame, at, right: [(at + n * 0.02, b"\x07\x03\xf0\x55") for n in range(32)], OutcomeKind.GARBLED
        )
        self.assertLess(outcome.took_s, 1.0)

    def test_a_stray_byte_before_the_answer_costs_no_answer(self) -> None:
        outcomes = asked(lambda frame, at, right: [(right[0][0], b"\0" + right[0][1])])
        self.assertEqual(outcomes[0].kind, OutcomeKind.GOOD)

    def test_a_late_answer_is_never_the_next_one_s(self) -> None:
        late = b"\x03\x06" + b"\xaa" * 6

        for is_serial in (True, False):
            answer = RTU.encode(7, late) if is_serial else TCP.encode(7, late, 1)
            for milliseconds in range(500, 740):  # from the timeout on, as long as the line is quarantined
                first, second = asked(partial(_late_by, milliseconds / 1000, answer), is_serial, again=1)
                self.assertEqual(first.kind, OutcomeKind.TIMEOUT)
                self.assertEqual(second.content, ReadAnswer(Table.HOLDING, bytes(6)), milliseconds)

    def test_what_began_before_the_request_had_gone_is_not_its_answer(self) -> None:
        """By the time that its bytes take; or since its first half was there before."""
        late = RTU.encode(7, b"\x03\x06" + b"\xaa" * 6)
        gone_s = 8 * 11 / 19200
        for began_s, ended_s, kind in (
            (None, 0.004, OutcomeKind.TIMEOUT),  # eleven bytes take 6.3 ms
            (None, 0.007, OutcomeKind.GOOD),
            (-gone_s / 2, 0.02, OutcomeKind.GARBLED),
            (0.002, 0.02, OutcomeKind.GOOD),
        ):
            line = SimulatedLine(device("Device", 7))

            pieces = [(ended_s, late)] if began_s is None else [(began_s, late[:5]), (ended_s, late[5:])]

            async def work(line: SimulatedLine = line, pieces: Pieces = pieces) -> Outcome:
                exchanger = line.exchanger()
                await exchanger.open()
                line.fault = lambda frame, at, right: []
                answer = exchanger.ask(7, READ, 0.1)
                loop, gone_at = asyncio.get_running_loop(), asyncio.get_running_loop().time() + gone_s
                for after_s, piece in pieces:
                    loop.call_at(gone_at + after_s, line.channel._deliver, 1, piece, gone_at + after_s)
                return await answer

            with self.subTest(began_s=began_s, ended_s=ended_s):
                self.assertIs(run_virtual(work()).kind, kind)

    def test_noise_before_a_request_goes_is_not_its_answer(self) -> None:
        """It waits for the end of the quarantine; what looks like its answer, spoilt, came for the one before."""
        spoilt = RTU.encode(7, b"\x03\x06" + b"\xaa" * 6)[:-1] + b"\xff"
        first, second = asked(instead_late(0.6, spoilt), again=1)
        self.assertEqual((first.kind, second.kind), (OutcomeKind.TIMEOUT, OutcomeKind.GOOD), second.reason)

    def test_who_sends_a_lot_and_answers_nothing_is_cut_off(self) -> None:
        noise = b"\x07\x2b" * 100
        for pieces, kind in ((60, OutcomeKind.GARBLED), (100, OutcomeKind.UNREACHABLE)):  # 12 000 bytes, 20 000
            (outcome,) = asked(partial(_noisy, noise, pieces))
            self.assertIs(outcome.kind, kind, outcome.reason)
        self.assertIn("it babbles: 16400 bytes came with no answer among them", outcome.reason)

    def test_a_late_answer_is_told_where_it_is_of_the_unit_that_was_asked(self) -> None:
        for unit, is_told in ((7, True), (8, False)):
            line, told = SimulatedLine(device("Device", 7), is_serial=False), list[float]()

            async def work(line: SimulatedLine = line, told: list[float] = told, unit: int = unit) -> None:
                exchanger = line.exchanger()
                exchanger.on_late = lambda frame, after_s: told.append(round(after_s, 3))
                await exchanger.open()
                line.fault = instead_late(0.7, TCP.encode(unit, b"\x03\x06" + bytes(6), 1))
                self.assertEqual((await exchanger.ask(7, READ, 0.5)).kind, OutcomeKind.TIMEOUT)
                await asyncio.sleep(1)
                self.assertEqual(exchanger.traffic.strays.late, 1)

            run_virtual(work())
            self.assertEqual(told, [0.7] if is_told else [])

    def test_a_loop_that_oversleeps_again_and_again_still_ends_a_request(self) -> None:
        """What waits unread is read first: once."""
        line = SimulatedLine(device("Device", 7))

        async def work() -> float:
            loop = asyncio.get_running_loop()
            assert isinstance(loop, VirtualLoop)
            exchanger = line.exchanger()
            await exchanger.open()
            line.fault = lambda frame, at, right: []

            def oversleep() -> None:
                loop.skip(0.2)
                loop.call_later(0.001, oversleep)

            loop.call_later(0.1, oversleep)
            outcome = await exchanger.ask(7, READ, 0.5)
            self.assertIs(outcome.kind, OutcomeKind.TIMEOUT)
            return outcome.took_s

        self.assertLess(run_virtual(work()), 1.5)

    def test_asked_again_as_often_as_told_and_identity_that_goes_round_ends(self) -> None:
        for retries in (0, 1, 3):
            line = SimulatedLine(device("Device", 7))

            async def work(line: SimulatedLine = line, retries: int = retries) -> Outcome:
                exchanger = line.exchanger()
                await exchanger.open()
                line.fault = lambda frame, at, right: []
                return await ask_again(exchanger, 7, READ, 0.1, retries)

            self.assertIs(run_virtual(work()).kind, OutcomeKind.TIMEOUT)
            self.assertEqual(len(line.requests), 1 + retries)
        for following in (0, 2):
            line = SimulatedLine(device("Device", 7), is_serial=False)

            async def identified(line: SimulatedLine = line, following: int = following) -> Identification:
                exchanger = line.exchanger()
                await exchanger.open()
                line.fault = partial(_goes_round, following)
                return await identify(exchanger, 7, 0.1)

            self.assertEqual(run_virtual(identified()).objects, {0: "Ada"})
            asked_for = [frame.pdu for frame in line.requests if frame.pdu[0] == 0x2B]
            self.assertEqual(len(asked_for), 1 if following == 0 else 2)

    def test_a_long_answer_may_take_longer_than_the_timeout(self) -> None:
        line = SimulatedLine(device("Device", 7, "name,table,address,type\nText,holding,0,text:240\n"))

        async def work() -> Outcome:
            exchanger = line.exchanger()
            await exchanger.open()
            line.fault = lambda frame, at, right: [
                (at + 0.01 + n * 0.011, right[0][1][n * 20 : n * 20 + 20]) for n in range(13)
            ]
            return await exchanger.ask(7, Read(Table.HOLDING, 0, 120), 0.05)

        self.assertEqual(run_virtual(work()).kind, OutcomeKind.GOOD)

    def test_a_lost_channel_ends_what_is_in_flight(self) -> None:
        line = SimulatedLine(device("Device", 7))

        async def work() -> tuple[Outcome, Outcome]:
            exchanger: Exchanger = line.exchanger()
            await exchanger.open()
            line.fault = lambda frame, at, right: []
            future = exchanger.ask(7, READ, 5)
            line.channel.break_off("the plug was pulled")
            return await future, await exchanger.ask(7, READ, 5)

        for outcome in run_virtual(work()):
            self.assertEqual((outcome.kind, outcome.reason), (OutcomeKind.UNREACHABLE, "the plug was pulled"))
