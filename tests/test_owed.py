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
        async def work(rig: Controlled) -> None:
            texts: list[str] = []
            rig.control.tellers.append(texts.append)
            halves: list[Result] = []
            pulse = asyncio.create_task(
                rig.control.pulse(rig.order("Horn", "on"), rig.order("Horn", "off"), 2.0, halves.append)
            )
            await rig.running.for_s(1.0)
            (owed,) = rig.control.owings.states
            self.assertEqual((owed.stage, owed.order.name, rig.value("Horn")), (OwedStage.PULSING, "Horn", 1))
            self.assertTrue(halves[0].is_done)
            self.assertTrue((await pulse).is_done)
            (on_s, _), (off_s, _) = rig.line.heard
            self.assertAlmostEqual(off_s - on_s, 2.0, delta=0.03)
            self.assertEqual(rig.control.owings.states, ())
            await rig.running.for_s(0.1)
            self.assertIn("off after 2.0 s, confirmed", texts[-1])
            rows = list(rig.ledger.rows.values())
            self.assertEqual([(row.data["old"], row.data["new"]) for row in rows], [("off", "on"), ("on", "off")])
            self.assertEqual(len(rig.ledger.settled), 1)

        controlled(work)

    def test_an_on_that_was_not_answered_is_owed_too_and_one_that_was_refused_is_not(self) -> None:
        async def work(rig: Controlled) -> None:
            rig.line.fault = silent(7)  # it takes the write, and does not answer
            pulse = asyncio.create_task(
                rig.control.pulse(rig.order("Horn", "on"), rig.order("Horn", "off"), 1.0, lambda half: None)
            )
            await rig.running.for_s(8.0)
            rig.line.fault = None
            result = await pulse
            self.assertEqual(result.state, State.UNKNOWN)
            self.assertIn("H lists it", result.text)
            await rig.running.for_s(3.0)
            self.assertEqual((rig.value("Horn"), rig.control.owings.states), (0, ()))
            refused = await rig.control.pulse(
                rig.order("Lamp", "on", address=99, points=()), rig.order("Lamp", "off"), 1.0, lambda half: None
            )
            self.assertEqual((refused.state, rig.control.owings.states), (State.REFUSED, ()))

        controlled(work)

    def test_a_value_that_is_neither_side_is_asked_about(self) -> None:
        async def work(rig: Controlled) -> None:
            order = rig.order("Mode", "Automatic")
            back = rig.order("Mode", "Manual")
            pulse = asyncio.create_task(rig.control.pulse(order, back, 1.0, lambda half: None))
            await rig.running.for_s(0.5)
            rig.line.units.devices[0].put("Mode", 5)  # another master
            result = await pulse
            self.assertEqual(result.state, State.UNKNOWN)
            (owed,) = rig.control.owings.states
            self.assertEqual(owed.stage, OwedStage.ASKS)
            self.assertIn("neither", owed.why)
            await rig.running.for_s(20)
            self.assertEqual(rig.value("Mode"), 5)
            rig.control.owings.say_so(owed.number)
            await rig.running.for_s(1)
            self.assertEqual((rig.value("Mode"), rig.control.owings.states), (0, ()))

        controlled(work)

    def test_a_person_who_writes_there_or_cancels_settles_it(self) -> None:
        async def work(rig: Controlled) -> None:
            for settles in ("write", "cancel"):
                pulse = asyncio.create_task(
                    rig.control.pulse(rig.order("Horn", "on"), rig.order("Horn", "off"), 3.0, lambda half: None)
                )
                await rig.running.for_s(1.0)
                if settles == "write":
                    await rig.control.send(rig.order("Horn", "on"))
                else:
                    rig.control.owings.cancel(rig.control.owings.states[0].number)
                await rig.running.for_s(5.0)
                self.assertEqual((rig.value("Horn"), rig.control.owings.states), (1, ()), settles)
                self.assertFalse((await pulse).is_done)

        controlled(work)

    def test_only_the_bits_of_the_pulse_are_given_back(self) -> None:
        async def work(rig: Controlled) -> None:
            pulse = asyncio.create_task(
                rig.control.pulse(
                    rig.order("Command word", "Acknowledge on"), rig.order("Command word", "Acknowledge off"), 1.0,
                    lambda half: None,
                )
            )  # fmt: skip
            await rig.running.for_s(0.5)
            await rig.control.send(rig.order("Command word", "Open on"))
            self.assertTrue((await pulse).is_done)
            self.assertEqual(rig.value("Command word"), 2)

        controlled(work)

    def test_the_lock_that_closed_holds_no_way_back_up_and_one_key_ends_all(self) -> None:
        async def work(rig: Controlled) -> None:
            horn = asyncio.create_task(
                rig.control.pulse(rig.order("Horn", "on"), rig.order("Horn", "off"), 60.0, lambda half: None)
            )
            await rig.control.alives.begin(Wish(order=rig.order("Often", "5"), period_s=0.2, safe=b"\0\0"))
            await rig.running.for_s(1.0)
            rig.control.lock_now("locked")
            await rig.running.for_s(1.0)
            self.assertEqual((rig.value("Horn"), rig.value("Often")), (1, 5))
            rig.control.end_all("one key")
            await rig.running.for_s(0.5)
            self.assertEqual((rig.value("Horn"), rig.value("Often")), (0, 0))
            self.assertTrue((await horn).is_done)
            self.assertEqual((rig.control.alive, rig.control.owings.states), ((), ()))
            self.assertIn(b"\x06\x00\x09\x00\x00", rig.wrote)
            last = [(result.order.name, result.text) for result in rig.control.orders.last]
            self.assertTrue([text for name, text in last if name == "Often" and "safe value" in text], last)

        controlled(work)

    def test_what_is_not_confirmed_at_the_end_is_said(self) -> None:
        async def work(rig: Controlled) -> None:
            asyncio.create_task(  # noqa: RUF006 - ends with the loop
                rig.control.pulse(rig.order("Horn", "on"), rig.order("Horn", "off"), 60.0, lambda half: None)
            )
            await rig.running.for_s(1.0)
            rig.line.is_deaf = lambda unit_id: True
            began_s = asyncio.get_running_loop().time()
            left = await rig.control.stop()
            self.assertLess(asyncio.get_running_loop().time() - began_s, 4.0)
            self.assertRegex(left[0], "Drive: Horn may still stand at on; off was not confirmed")
            self.assertEqual(rig.ledger.settled, {})

        controlled(work)


class LostHolds(unittest.TestCase):
    def test_silence_counts_from_any_answer_and_the_offer_opens_again(self) -> None:
        async def work(rig: Controlled) -> None:
            texts: list[str] = []
            rig.control.tellers.append(texts.append)
            await rig.control.alives.begin(Wish(order=rig.order("Often", "5"), period_s=0.5))
            rig.line.fault = lambda frame, at, right: [] if frame.pdu[0] == 6 else right  # reads are answered
            await rig.running.for_s(10)
            self.assertEqual(len(rig.control.alive), 1)
            rig.line.fault = None
            rig.line.is_deaf = lambda unit_id: True
            await rig.running.for_s(8)
            self.assertEqual(rig.control.alive, ())
            self.assertIn("is away: K takes it up again", rig.control.alives.offers[-1].text)
            rig.line.is_deaf = lambda unit_id: False
            await rig.running.for_s(20)
            (offer,) = rig.control.alives.offers
            self.assertRegex(texts[-1], r"Often was held until \d\d:\d\d:\d\d; Drive was away for .* s; K takes it up")
            self.assertEqual(offer.wish.order.data, b"\0\5")
            kept, _ = await rig.control.alives.begin(offer.wish)
            self.assertIsNotNone(kept)
            self.assertEqual(len(rig.control.alives.offers), 0)

        controlled(work, replace(device("Drive", 7, DRIVE, 0.2), watchdog_s=2.0))

    def test_a_routine_whose_keep_ends_so_fails_its_step(self) -> None:
        async def work(rig: Controlled) -> None:
            text = (
                'name = "Hold it"\ndevice = "Drive"\n[[step]]\nkeep = { "Often" = 5 }\nevery_s = 0.5\n'
                "[[step]]\nhold_s = 60\n"
            )
            routines, faults = routines_of(rig.line.site, hold=text)
            self.assertEqual(faults, [])
            rig.control.take_routines(routines, [])
            run = rig.control.run("Hold it")
            await rig.running.for_s(2)
            rig.line.is_deaf = lambda unit_id: True
            self.assertEqual(await rig.control.finished(run), "failed")
            self.assertIn("has not answered for", run.state.said)
            self.assertEqual([step.outcome.value for step in run.state.steps], ["done", "failed"])

        controlled(work)


class AfterAKill(unittest.TestCase):
    def test_what_was_left_is_offered_by_the_next_program_until_it_is_given_back(self) -> None:
        async def work(rig: Controlled) -> None:
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "journal.db"
                order = replace(rig.order("Horn", "on"), owed=Owed(b"\0", "off"), old_text="off")
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
                rig.ledger.lefts = [left]
                texts: list[str] = []
                rig.control.tellers.append(texts.append)
                rig.line.units.devices[0].put("Horn", 1)
                await rig.control.look_back()
                self.assertRegex(texts[-1], "Drive Horn was left standing at on at .*H lists it, and sends off")
                (owed,) = rig.control.owings.states
                await rig.running.for_s(120)
                self.assertEqual((rig.value("Horn"), owed.stage), (1, OwedStage.LEFT))
                rig.control.owings.say_so(owed.number)
                await rig.running.for_s(1)
                self.assertEqual((rig.value("Horn"), list(rig.ledger.settled)), (0, [left.number]))
                await ledger.settle(left.number, 5.0, "off")
                self.assertEqual(await ledger.left(), [])
                ledger.close()
                second.end(5_000_000)

        controlled(work)

    def test_a_row_of_nobody_is_passed_over(self) -> None:
        async def work(rig: Controlled) -> None:
            rows: list[dict[str, Any]] = [{"owed": {}}, {"owed": {"words": "zz"}}]
            for data in (*rows, {"owed": {"words": "00", "by_us": "01"}}):
                left = Left(
                    number=1, begun_wall_s=1, ended_wall_s=2, line="Line", device="Drive", point="Horn", data=data
                )
                self.assertEqual(rig.control.owings.take_left(left), "")
            self.assertEqual(rig.control.owings.states, ())
            kinds = {event.kind for event in rig.session.events.ring}
            self.assertNotIn(EventKind.OWED, kinds)

        controlled(work)
