"""Surveys of units behind gateways, which work through what waits there one by one."""

import asyncio
import unittest
from collections.abc import Callable, Sequence

from kanaleto.events.log import EventKind
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.opening import framing_of
from kanaleto.polling.session import Session
from kanaleto.probing.units import UnitSurvey
from kanaleto.probing.unitstates import UnitState
from kanaleto.site.links.tcp import TcpLink
from kanaleto.wire.frames import Frame, Role
from kanaleto.wire.pdu import Refused
from kanaleto.wire.tcp import Tcp
from tests.exchanges import named
from tests.simulated import Fault, Pieces, SimulatedLine, device
from tests.virtual import run_virtual


def network_units(
    answer: Callable[[int, bytes], bytes | None],
    delay_s: Callable[[int], float] = lambda unit: 0.001,
    timeout_s: float = 0.5,
    units: Sequence[int] = (255, 0, *range(1, 248)),
    on_step: Callable[[UnitSurvey], None] | None = None,
) -> UnitSurvey:
    """A survey over TCP of a far end that answers as told."""
    framing = framing_of(TcpLink("192.0.2.1", 502))
    decoder = framing.decoder(Role.REQUESTS)
    free_at = [0.0]

    def far_end(data: bytes, at: float) -> Pieces:
        pieces: Pieces = []
        for event in decoder.feed(data):
            assert isinstance(event, Frame)
            pdu = answer(event.unit_id, event.pdu)
            free_at[0] = max(free_at[0], at) + delay_s(event.unit_id)  # one after the other, as a gateway works
            if pdu is not None:
                pieces.append((free_at[0], framing.encode(event.unit_id, pdu, event.transaction or 0)))
        return pieces

    async def work() -> UnitSurvey:
        exchanger = Exchanger(MemoryChannel(far_end), framing)
        await exchanger.open()
        survey = UnitSurvey(exchanger, units, timeout_s=timeout_s, on_step=on_step)
        await survey.run()
        return survey

    return run_virtual(work())


def says_nobody(unit_id: int, after_s: float) -> Fault:
    """A gateway that answers for that unit, which is not there."""

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        if frame.unit_id != unit_id:
            return right
        raw = Tcp().encode(unit_id, Refused(frame.pdu[0], 0x0B).encode(), frame.transaction or 0)
        return [(at + after_s, raw)]

    return fault


class Polled(unittest.TestCase):
    def test_a_device_that_the_gateway_says_is_missing_is_silent_in_gateway_words(self) -> None:
        async def work() -> tuple[SimulatedLine, Session]:
            line = SimulatedLine(
                device("There", 1, period_s=0.01), device("Missing", 2, period_s=0.01), is_serial=False
            )
            line.fault = says_nobody(2, 0.3)
            session = Session(line.site, line.exchanger)
            task = asyncio.create_task(session.run())
            await asyncio.sleep(20)
            (status,) = session.status(asyncio.get_running_loop().time())
            there, missing = status.devices
            self.assertIsNone(there.silent_s)
            self.assertIsNotNone(missing.silent_s)
            self.assertIn("its gateway says so", missing.reason)
            asked = sum(frame.unit_id == 2 for frame in line.requests)
            self.assertLess(asked * 0.3, 20 * 0.14)  # a tenth of the line, and a little for the first
            self.assertGreater(sum(frame.unit_id == 1 for frame in line.requests), 1500)
            lost = [event for event in session.events.ring if event.kind is EventKind.DEVICE_LOST]
            self.assertEqual(len(lost), 1)
            self.assertIn("exception 11", lost[0].text)
            self.assertEqual(named(session.exchanges), [], "fewer than eight failures say nothing")
            line.fault = None
            await asyncio.sleep(25)
            (status,) = session.status(asyncio.get_running_loop().time())
            self.assertIsNone(status.devices[1].silent_s)
            self.assertIsNotNone(lost[0].ended_wall_s)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            return line, session

        run_virtual(work())


class Busy(unittest.TestCase):
    def test_a_read_answered_busy_is_asked_again_soon_and_is_no_refusal(self) -> None:
        """AP 7: 06 is no refusal."""

        async def work() -> None:
            line = SimulatedLine(device("Slow", 1, period_s=5.0), is_serial=False)
            busy = 3

            def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
                nonlocal busy
                busy -= 1
                raw = Tcp().encode(1, Refused(frame.pdu[0], 6).encode(), frame.transaction or 0)
                return [(at + 0.001, raw)] if busy >= 0 else right

            line.fault = fault
            session = Session(line.site, line.exchanger)
            task = asyncio.create_task(session.run())
            await asyncio.sleep(1.5)
            self.assertTrue(all(record is not None for record in session.board.records), session.board.troubles)
            self.assertFalse(any(part.device.limits.never_read for part in session.plan.parts))
            self.assertEqual(session.learned(), {})
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        run_virtual(work())


class Gateways(unittest.TestCase):
    def test_a_gateway_that_says_nobody_of_every_unit_finds_nobody(self) -> None:
        survey = network_units(lambda unit, pdu: Refused(pdu[0], 0x0B).encode())
        self.assertEqual(survey.found, {})
        self.assertIn("a gateway answers", survey.note)

    def test_units_behind_a_slow_gateway_are_all_found(self) -> None:
        there = {3, 17, 120, 247}
        survey = network_units(
            lambda unit, pdu: b"\x03\x02\x00\x05" if unit in there else Refused(pdu[0], 0x0B).encode(),
            lambda unit: 0.01 if unit in there else 0.1,
        )
        self.assertEqual(set(survey.found), there)

    def test_one_at_a_time_with_dead_units_that_take_long(self) -> None:
        there = {3, 40, 41, 120, 247}
        right, slow = b"\x03\x02\x00\x05", b"\x83\x02"
        for dead_s, says in ((0.2, True), (0.8, True), (1.0, False), (2.0, True)):
            with self.subTest(dead_s=dead_s, says=says):
                survey = network_units(
                    lambda unit, pdu, says=says: (  # type: ignore[misc]
                        (slow if unit == 41 else right)
                        if unit in there
                        else Refused(pdu[0], 0x0B).encode()
                        if says
                        else None
                    ),
                    lambda unit, dead_s=dead_s: 0.4 if unit in there else dead_s,  # type: ignore[misc]
                    timeout_s=0.3,
                )
                self.assertEqual(set(survey.found), there)
                silent = {unit for unit in range(1, 248) if survey.states[unit] is UnitState.SILENT}
                nobody = {unit for unit in range(1, 248) if survey.states[unit] is UnitState.NOBODY}
                self.assertEqual((nobody if says else silent) | there, set(range(1, 248)))
                self.assertFalse(silent if says else nobody)

    def test_a_gateway_that_is_busy_with_silence_for_a_minute_loses_nobody(self) -> None:
        """It works one by one, and says nothing for units that are not there: answers come when nobody waits any
        more."""
        for there, absent_s in (({99, 195, 217, 228}, 0.2), ({218, 221, 243, 245}, 0.2), ({34, 61, 140, 152}, 1.0)):
            survey = network_units(
                lambda unit, pdu, there=there: bytes((pdu[0], 2, 0, 7)) if unit in there else None,  # type: ignore[misc]
                lambda unit, there=there, absent_s=absent_s: 0.02 if unit in there else absent_s,  # type: ignore[misc]
                timeout_s=0.6,
            )
            self.assertEqual(set(survey.found), there)
            if absent_s > 0.25:  # the others are asked no sooner than it works them off
                self.assertRegex(survey.note, r"waited \d+ s until a gateway")

    def test_how_long_it_lasts_is_said_where_nobody_answers_for_long(self) -> None:
        steps: list[tuple[float, float, int]] = []

        def note(survey: UnitSurvey) -> None:
            steps.append((asyncio.get_running_loop().time(), survey.left_s, survey.asked))

        survey = network_units(lambda unit, pdu: b"\x83\x02" if unit == 240 else None, timeout_s=0.6, on_step=note)
        self.assertEqual(set(survey.found), {240})
        at_s, left_s, _ = next(step for step in steps if step[2] == 20)
        until_s = next(step[0] for step in steps if step[2] == 249)
        self.assertGreater(until_s - at_s, 40.0)
        self.assertAlmostEqual(left_s, until_s - at_s, delta=0.2 * left_s)

    def test_a_unit_that_is_only_slow_is_found_the_last_one_too(self) -> None:
        for units in ([9], [1, 2, 9], [9, 1, 2]):
            survey = network_units(
                lambda unit, pdu: b"\x03\x02\x00\x05" if unit == 9 else None,
                lambda unit: 0.4 if unit == 9 else 0.0,
                timeout_s=0.3,
                units=units,
            )
            self.assertEqual(set(survey.found), {9})

    def test_a_device_that_does_not_look_at_the_unit_id_is_told(self) -> None:
        survey = network_units(lambda unit, pdu: b"\x03\x02\x00\x05")
        self.assertTrue(survey.answers_any)
        self.assertIn("every unit ID", survey.note)
        self.assertLess(survey.asked, 60)
