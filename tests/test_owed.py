"""What is owed: the way back of a pulse, the safe value of what was kept alive; on a virtual clock."""

import asyncio
import tempfile
import unittest
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from kanaleto.control.alive import Wish
from kanaleto.control.ledger import LedgerRow, Left
from kanaleto.control.order import Owed, Result, State, owed_data
from kanaleto.control.owed import OwedStage
from kanaleto.events.log import EventKind
from kanaleto.history.journalfile import JournalFile
from kanaleto.history.journalwriter import JournalLedger
from tests.controlled import DRIVE, Controlled, controlled, routines_of
from tests.outages import Outage
from tests.simulated import device, silent

_SEEDS = 40


class Outages(unittest.TestCase):
    def test_nothing_is_left_on_and_nothing_resumes(self) -> None:
        for seed in range(1, _SEEDS + 1):
            one = Outage(seed)
            self.assertEqual(one.run(), [], f"python -m tests.outages --times 1 --seed {seed}: {one.told}")


class Pulses(unittest.TestCase):
    def test_it_is_owed_from_its_first_byte_and_lasts_as_long_as_was_asked(self) -> None:
        async def work(own: Controlled) -> None:
            told: list[str] = []
            own.control.tellers.append(told.append)
            halves: list[Result] = []
            pulse = asyncio.create_task(
                own.control.pulse(own.order("Horn", "on"), own.order("Horn", "off"), 2.0, halves.append)
            )
            await own.running.for_s(1.0)
            (owed,) = own.control.owings.states
            self.assertEqual((owed.stage, owed.order.name, own.value("Horn")), (OwedStage.PULSING, "Horn", 1))
            self.assertTrue(halves[0].is_done)
            self.assertTrue((await pulse).is_done)
            (on_s, _), (off_s, _) = own.line.heard
            self.assertAlmostEqual(off_s - on_s, 2.0, delta=0.03)
            self.assertEqual(own.control.owings.states, ())
            await own.running.for_s(0.1)
            self.assertIn("off after 2.0 s, confirmed", told[-1])
            rows = list(own.ledger.rows.values())
            self.assertEqual([(row.data["old"], row.data["new"]) for row in rows], [("off", "on"), ("on", "off")])
            self.assertEqual(len(own.ledger.settled), 1)

        controlled(work)

    def test_an_on_that_was_not_answered_is_owed_too_and_one_that_was_refused_is_not(self) -> None:
        async def work(own: Controlled) -> None:
            own.line.fault = silent(7)  # it takes the write, and does not answer
            pulse = asyncio.create_task(
                own.control.pulse(own.order("Horn", "on"), own.order("Horn", "off"), 1.0, lambda half: None)
            )
            await own.running.for_s(8.0)
            own.line.fault = None
            result = await pulse
            self.assertEqual(result.state, State.UNKNOWN)
            self.assertIn("H lists it", result.text)
            await own.running.for_s(3.0)
            self.assertEqual((own.value("Horn"), own.control.owings.states), (0, ()))
            refused = await own.control.pulse(
                own.order("Lamp", "on", address=99, points=()), own.order("Lamp", "off"), 1.0, lambda half: None
            )
            self.assertEqual((refused.state, own.control.owings.states), (State.REFUSED, ()))

        controlled(work)

    def test_a_value_that_is_neither_side_is_asked_about(self) -> None:
        async def work(own: Controlled) -> None:
            order = own.order("Mode", "Automatic")
            back = own.order("Mode", "Manual")
            pulse = asyncio.create_task(own.control.pulse(order, back, 1.0, lambda half: None))
            await own.running.for_s(0.5)
            own.line.units.devices[0].put("Mode", 5)  # another master
            result = await pulse
            self.assertEqual(result.state, State.UNKNOWN)
            (owed,) = own.control.owings.states
            self.assertEqual(owed.stage, OwedStage.ASKS)
            self.assertIn("neither", owed.why)
            await own.running.for_s(20)
            self.assertEqual(own.value("Mode"), 5)
            own.control.owings.say_so(owed.number)
            await own.running.for_s(1)
            self.assertEqual((own.value("Mode"), own.control.owings.states), (0, ()))

        controlled(work)

    def test_a_person_who_writes_there_or_cancels_settles_it(self) -> None:
        async def work(own: Controlled) -> None:
            for settles in ("write", "cancel"):
                pulse = asyncio.create_task(
                    own.control.pulse(own.order("Horn", "on"), own.order("Horn", "off"), 3.0, lambda half: None)
                )
                await own.running.for_s(1.0)
                if settles == "write":
                    await own.control.send(own.order("Horn", "on"))
                else:
                    own.control.owings.cancel(own.control.owings.states[0].number)
                await own.running.for_s(5.0)
                self.assertEqual((own.value("Horn"), own.control.owings.states), (1, ()), settles)
                self.assertFalse((await pulse).is_done)

        controlled(work)

    def test_only_the_bits_of_the_pulse_are_given_back(self) -> None:
        async def work(own: Controlled) -> None:
            pulse = asyncio.create_task(
                own.control.pulse(
                    own.order("Command word", "Acknowledge on"), own.order("Command word", "Acknowledge off"), 1.0,
                    lambda half: None,
                )
            )  # fmt: skip
            await own.running.for_s(0.5)
            await own.control.send(own.order("Command word", "Open on"))
            self.assertTrue((await pulse).is_done)
            self.assertEqual(own.value("Command word"), 2)

        controlled(work)

    def test_the_lock_that_closed_holds_no_way_back_up_and_one_key_ends_all(self) -> None:
        async def work(own: Controlled) -> None:
            horn = asyncio.create_task(
                own.control.pulse(own.order("Horn", "on"), own.order("Horn", "off"), 60.0, lambda half: None)
            )
            await own.control.alives.begin(Wish(order=own.order("Often", "5"), period_s=0.2, safe=b"\0\0"))
            await own.running.for_s(1.0)
            own.control.lock_now("locked")
            await own.running.for_s(1.0)
            self.assertEqual((own.value("Horn"), own.value("Often")), (1, 5))
            own.control.end_all("one key")
            await own.running.for_s(0.5)
            self.assertEqual((own.value("Horn"), own.value("Often")), (0, 0))
            self.assertTrue((await horn).is_done)
            self.assertEqual((own.control.alive, own.control.owings.states), ((), ()))
            self.assertIn(b"\x06\x00\x09\x00\x00", own.wrote)
            last = [(result.order.name, result.text) for result in own.control.orders.last]
            self.assertTrue([text for name, text in last if name == "Often" and "safe value" in text], last)

        controlled(work)

    def test_what_is_not_confirmed_at_the_end_is_said(self) -> None:
        async def work(own: Controlled) -> None:
            asyncio.create_task(  # noqa: RUF006 - ends with the loop
                own.control.pulse(own.order("Horn", "on"), own.order("Horn", "off"), 60.0, lambda half: None)
            )
            await own.running.for_s(1.0)
            own.line.is_deaf = lambda unit_id: True
            began_s = asyncio.get_running_loop().time()
            left = await own.control.stop()
            self.assertLess(asyncio.get_running_loop().time() - began_s, 4.0)
            self.assertRegex(left[0], "Drive: Horn may still stand at on; off was not confirmed")
            self.assertEqual(own.ledger.settled, {})

        controlled(work)


class LostHolds(unittest.TestCase):
    def test_silence_counts_from_any_answer_and_the_offer_opens_again(self) -> None:
        async def work(own: Controlled) -> None:
            told: list[str] = []
            own.control.tellers.append(told.append)
            await own.control.alives.begin(Wish(order=own.order("Often", "5"), period_s=0.5))
            own.line.fault = lambda frame, at, right: [] if frame.pdu[0] == 6 else right  # reads are answered
            await own.running.for_s(10)
            self.assertEqual(len(own.control.alive), 1)
            own.line.fault = None
            own.line.is_deaf = lambda unit_id: True
            await own.running.for_s(8)
            self.assertEqual(own.control.alive, ())
            self.assertIn("is away: K takes it up again", own.control.alives.offers[-1].text)
            own.line.is_deaf = lambda unit_id: False
            await own.running.for_s(20)
            (offer,) = own.control.alives.offers
            self.assertRegex(told[-1], r"Often was held until \d\d:\d\d:\d\d; Drive was away for .* s; K takes it up")
            self.assertEqual(offer.wish.order.data, b"\0\5")
            kept, _ = await own.control.alives.begin(offer.wish)
            self.assertIsNotNone(kept)
            self.assertEqual(len(own.control.alives.offers), 0)

        controlled(work, replace(device("Drive", 7, DRIVE, 0.2), watchdog_s=2.0))

    def test_a_routine_whose_keep_ends_so_fails_its_step(self) -> None:
        async def work(own: Controlled) -> None:
            text = (
                'name = "Hold it"\ndevice = "Drive"\n[[step]]\nkeep = { "Often" = 5 }\nevery_s = 0.5\n'
                "[[step]]\nhold_s = 60\n"
            )
            routines, faults = routines_of(own.line.site, hold=text)
            self.assertEqual(faults, [])
            own.control.take_routines(routines, [])
            run = own.control.run("Hold it")
            await own.running.for_s(2)
            own.line.is_deaf = lambda unit_id: True
            self.assertEqual(await own.control.finished(run), "failed")
            self.assertIn("has not answered for", run.state.said)
            self.assertEqual([step.outcome.value for step in run.state.steps], ["done", "failed"])

        controlled(work)


class AfterAKill(unittest.TestCase):
    def test_what_was_left_is_offered_by_the_next_program_until_it_is_given_back(self) -> None:
        async def work(own: Controlled) -> None:
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "journal.db"
                order = replace(own.order("Horn", "on"), owed=Owed(b"\0", "off"), was_told="off")
                first = JournalFile(path, "killed", "who", 1_000_000)
                ledger = JournalLedger(lambda: (path, first.run), "who")
                data: dict[str, object] = {"old": "off", "new": "on", "owed": owed_data(order)}
                row = LedgerRow(wall_s=2.0, line="Line", device="Drive", point="Horn", text="off → on", data=data)
                number = await ledger.begin(row)
                await ledger.complete(number, 3.0, data, 1, goes_on=True)
                self.assertEqual(await ledger.left(), [])  # it is this program's own
                ledger.close()
                first.end(None)
                second = JournalFile(path, "next", "who", 4_000_000)
                ledger = JournalLedger(lambda: (path, second.run), "who")
                (left,) = await ledger.left()
                own.ledger.lefts = [left]
                told: list[str] = []
                own.control.tellers.append(told.append)
                own.line.units.devices[0].put("Horn", 1)
                await own.control.look_back()
                self.assertRegex(told[-1], "Drive Horn was left standing at on at .*H lists it, and sends off")
                (owed,) = own.control.owings.states
                await own.running.for_s(120)
                self.assertEqual((own.value("Horn"), owed.stage), (1, OwedStage.LEFT))
                own.control.owings.say_so(owed.number)
                await own.running.for_s(1)
                self.assertEqual((own.value("Horn"), list(own.ledger.settled)), (0, [left.number]))
                await ledger.settle(left.number, 5.0, "off")
                self.assertEqual(await ledger.left(), [])
                ledger.close()
                second.end(5_000_000)

        controlled(work)

    def test_a_row_of_nobody_is_passed_over(self) -> None:
        async def work(own: Controlled) -> None:
            rows: list[dict[str, Any]] = [{"owed": {}}, {"owed": {"words": "zz"}}]
            for data in (*rows, {"owed": {"words": "00", "by_us": "01"}}):
                left = Left(
                    number=1, begun_wall_s=1, ended_wall_s=2, line="Line", device="Drive", point="Horn", data=data
                )
                self.assertEqual(own.control.owings.take_left(left), "")
            self.assertEqual(own.control.owings.states, ())
            kinds = {event.kind for event in own.session.events.ring}
            self.assertNotIn(EventKind.OWED, kinds)

        controlled(work)
