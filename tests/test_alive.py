"""Kept-alive writes, on a virtual clock."""

import asyncio
import unittest

from msgspec.structs import replace

from kanaleto.control.alive import Wish
from kanaleto.control.order import Consent, State
from kanaleto.events.log import EventKind
from kanaleto.site.model import Device, Point
from tests.controlled import DRIVE, Controlled, controlled
from tests.simulated import device, silent


def drive(**changes: object) -> Device:
    return replace(device("Drive", 7, DRIVE, 0.2), **changes)


def point(name: str) -> Point:
    return next(point for point in drive().points if point.name == name)


class KeptAlive(unittest.TestCase):
    def test_it_is_repeated_changed_and_ended(self) -> None:
        async def work(rig: Controlled) -> None:
            wish = Wish(order=rig.order("Command word", "Enable"), period_s=0.5, safe=b"\0\0")
            kept, result = await rig.control.alives.begin(wish)
            assert kept is not None, result
            await rig.running.for_s(5)
            self.assertAlmostEqual(len(rig.wrote), 11, delta=1)
            changed = await rig.control.send(rig.order("Command word", "Open on"))
            self.assertTrue(changed.is_done, changed.text)
            await rig.running.for_s(2)
            self.assertEqual(rig.value("Command word"), 3)
            self.assertNotIn(b"\x06\x00\x00\x00\x01", rig.wrote[-4:])
            text = await rig.control.stop_alive(1, "as was asked")
            self.assertIn("safe value", text)
            self.assertEqual((rig.value("Command word"), rig.wrote[-1]), (0, b"\x06\x00\x00\x00\x00"))
            count = len(rig.wrote)
            await rig.running.for_s(3)
            self.assertEqual(len(rig.wrote), count)
            self.assertTrue(rig.rows_match(), (rig.ledger.counts, len(rig.wrote)))

        controlled(work)

    def test_it_ends_with_the_program_and_while_polling_is_held(self) -> None:
        async def work(rig: Controlled) -> None:
            wish = Wish(order=rig.order("Command word", "Enable"), period_s=0.2, safe=b"\0\0")
            await rig.control.alives.begin(wish)
            rig.session.hold(True)
            before = len(rig.wrote)
            await rig.running.for_s(2)
            self.assertGreater(len(rig.wrote) - before, 8)
            rig.ledger.why_not = "the disk is full"  # the safe value goes out all the same
            await rig.control.stop()
            self.assertEqual(rig.value("Command word"), 0)

        controlled(work)

    def test_a_register_has_one_holder(self) -> None:
        async def work(rig: Controlled) -> None:
            wish = Wish(order=rig.order("Target", "50"), period_s=0.5, safe=b"\0\0")
            await rig.control.alives.begin(wish)
            both = rig.order("Target", "10", address=0, data=b"\0\1\0\1", points=())
            second = await rig.control.orders.send(replace(both, device="Drive"))
            self.assertEqual(second.needs, Consent.HOLDER, second.text)
            self.assertIn("Target", second.text)
            taken = await rig.control.orders.send(both.with_consent(Consent.HOLDER))
            self.assertTrue(taken.is_done, taken.text)
            await rig.running.for_s(2)
            self.assertEqual((rig.control.alive, rig.value("Target")), ((), 0.01))

        controlled(work)

    def test_how_long_it_may_have_to_wait_is_said_before(self) -> None:
        """A silent neighbour's timeout and quarantine are longer than the watchdog leaves: refused, until silent ones
        are left out; then the lateness stays below what was reckoned."""
        neighbour = device("Neighbour", 8, timeout_s=0.9)

        async def work(rig: Controlled) -> None:
            rig.line.fault = silent(8)
            await rig.running.for_s(10)
            wish = Wish(order=rig.order("Command word", "Enable"), period_s=0.5, safe=b"\0\0")
            kept, result = await rig.control.alives.begin(wish)
            self.assertIsNone(kept)
            self.assertRegex(result.text, "Neighbour is silent.*watchdog")
            kept, result = await rig.control.alives.begin(replace(wish, leaves_out_silent=True))
            assert kept is not None, result.text
            await rig.running.for_s(60)
            wait = kept.state.wait
            self.assertLessEqual(kept.state.worst_s, 1.1 * wait.exchange_s)
            await rig.control.stop_alive(1, "as was asked")
            asked = len([frame for frame in rig.line.requests if frame.unit_id == 8])
            await rig.running.for_s(60)
            self.assertGreater(len([frame for frame in rig.line.requests if frame.unit_id == 8]), asked)

        controlled(work, drive(watchdog_s=1.2), neighbour)

    def test_a_change_that_brings_no_answer_is_not_told_as_written(self) -> None:
        async def work(rig: Controlled) -> None:
            await rig.control.alives.begin(Wish(order=rig.order("Command word", "Enable"), period_s=0.5, safe=b"\0\0"))
            rig.line.fault = silent(7)
            result = await rig.control.send(rig.order("Command word", "Open on"))
            self.assertEqual((result.state, result.is_equal, result.after), (State.UNKNOWN, None, None))
            self.assertIn("may have been written or not", result.text)

        controlled(work)

    def test_a_slow_disk_makes_nothing_late(self) -> None:
        """Nor does one that hangs: writes are not sent then, and the safe value goes out all the same."""

        async def work(rig: Controlled) -> None:
            rig.ledger.delay_s = 0.4
            kept, _ = await rig.control.alives.begin(Wish(order=rig.order("Often", "5"), period_s=0.2, safe=b"\0\0"))
            assert kept is not None
            await rig.running.for_s(1)
            before = len(rig.wrote)
            await rig.running.for_s(10)
            self.assertAlmostEqual(len(rig.wrote) - before, 50, delta=2)
            self.assertLess(kept.state.worst_s, 0.1)
            rig.ledger.delay_s = 1000.0
            result = await rig.control.send(rig.order("Target", "5"))
            self.assertEqual(result.state, State.NOT_SENT)
            self.assertIn("disk has not answered", result.text)
            began_s = asyncio.get_running_loop().time()
            ending = asyncio.create_task(rig.control.stop_alive(1, "as was asked"))
            while rig.value("Often") != 0:
                await asyncio.sleep(0.05)
            self.assertLess(asyncio.get_running_loop().time() - began_s, 1)
            await ending
            self.assertNotIn(b"\x06\x00\x01\x00\x32", rig.wrote)

        controlled(work)

    def test_another_device_after_connecting_again(self) -> None:
        """It is not written to any more, not even the safe value."""

        async def work(rig: Controlled) -> None:
            wish = Wish(order=rig.order("Often", "5"), period_s=0.2, safe=b"\0\0")
            await rig.control.alives.begin(wish)
            await rig.running.for_s(1)
            rig.line.units.devices[0].put("Status word", 0x8000)
            rig.session.pollers[0].reconnect()
            await rig.running.for_s(3)
            self.assertEqual(rig.control.alive, ())
            self.assertEqual(rig.value("Often"), 5)
            texts = [event.text for event in rig.session.events.ring if event.kind is EventKind.KEPT_ALIVE]
            self.assertIn("its tag reads", texts[-1])

        controlled(work, drive(tag="Status word"))

    def test_its_point_moves(self) -> None:
        async def work(rig: Controlled) -> None:
            await rig.control.alives.begin(Wish(order=rig.order("Often", "5"), period_s=0.2, safe=b"\0\0"))
            moved = device("Drive", 7, DRIVE.replace("Often,holding,9", "Often,holding,12"), 0.2)
            rig.session.take_over(replace(rig.line.site, lines=(replace(rig.line.line, devices=(moved,)),)))
            await rig.running.for_s(2)
            self.assertEqual(rig.control.alive, ())
            self.assertEqual(rig.wrote[-1], b"\x06\x00\x09\x00\x00")  # where it was begun
            old = rig.order("Often", "6", address=9)
            self.assertIn("stands at 12 now", (await rig.control.send(old)).text)

        controlled(work)

    def test_its_line_and_its_device_may_go(self) -> None:
        async def work(rig: Controlled) -> None:
            await rig.control.alives.begin(Wish(order=rig.order("Often", "5"), period_s=0.2))
            other = drive(unit_id=9)
            rig.session.take_over(replace(rig.line.site, lines=(replace(rig.line.line, devices=(other,)),)))
            await rig.running.for_s(2)
            self.assertEqual(rig.control.alive, ())
            texts = [event.text for event in rig.session.events.ring if event.kind is EventKind.KEPT_ALIVE]
            self.assertIn("not unit 7", texts[-1])

        controlled(work)
