"""The door for writes: bytes, checks, outcomes, the journal; the lock; kept-alive writes. On a virtual clock."""

import asyncio
import unittest

from msgspec.structs import replace

from kanaleto.control.alive import Wish
from kanaleto.control.lock import IDLE_S, UNLOCKED_S, Lock
from kanaleto.control.order import Consent, Order, Result, State, combined
from kanaleto.serving.answerer import NOBODY, Answer, Master
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Device, DeviceLimits, Point, Writing
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import WriteRegister
from tests.controlled import DRIVE, Controlled, controlled
from tests.simulated import Pieces, device


def drive(**changes: object) -> Device:
    return replace(device("Drive", 7, DRIVE, 0.2), **changes)


def point(name: str) -> Point:
    return next(point for point in drive().points if point.name == name)


class Paths(unittest.TestCase):
    """Each way of writing, byte by byte."""

    def _sent(self, orders: list[tuple[str, str]], limits: DeviceLimits | None = None) -> list[bytes]:
        heard: list[bytes] = []

        async def work(rig: Controlled) -> None:
            for name, text in orders:
                result = await rig.control.send(rig.order(name, text))
                self.assertEqual(result.state, State.DONE, result.text)
                self.assertIsNot(result.is_equal, False, result.text)
            heard.extend(rig.wrote)
            self.assertTrue(rig.rows_match())

        controlled(work, drive(limits=limits or DeviceLimits()))
        return heard

    def test_functions(self) -> None:
        cases = (
            ([("Target", "65")], DeviceLimits(), [b"\x06\x00\x01\x19\x64"]),
            ([("Horn", "on")], DeviceLimits(), [b"\x05\x00\x00\xff\x00"]),
            ([("Level", "2.5")], DeviceLimits(), [b"\x10\x00\x04\x00\x02\x04\x40\x20\x00\x00"]),
            ([("Target", "65")], DeviceLimits(write_with="multiple"), [b"\x10\x00\x01\x00\x01\x02\x19\x64"]),
            ([("Horn", "on")], DeviceLimits(functions=(1, 3, 15)), [b"\x0f\x00\x00\x00\x01\x01\x01"]),
            (
                [("Level", "2.5")],
                DeviceLimits(write_with="single"),
                [b"\x06\x00\x04\x40\x20", b"\x06\x00\x05\x00\x00"],
            ),
            ([("Command word", "Open on")], DeviceLimits(), [b"\x16\x00\x00\xff\xfd\x00\x02"]),
            ([("Bit three", "on")], DeviceLimits(functions=(3, 22)), [b"\x16\x00\x08\xff\xf7\x00\x08"]),
        )
        for orders, limits, heard in cases:
            with self.subTest(orders=orders, limits=limits):
                self.assertEqual(self._sent(list(orders), limits), heard)

    def test_a_bit_where_there_is_no_mask_write_needs_a_word(self) -> None:
        async def work(rig: Controlled) -> None:
            await rig.control.send(rig.order("Command word", "Acknowledge"))
            result = await rig.control.send(rig.order("Command word", "Open on"))
            self.assertEqual((result.state, result.needs), (State.NOT_SENT, Consent.WHOLE_WORD))
            order = rig.order("Command word", "Open on").with_consent(Consent.WHOLE_WORD)
            self.assertTrue((await rig.control.send(order)).is_equal)
            self.assertEqual(rig.wrote[-1], b"\x06\x00\x00\x00\x82")

        controlled(work, drive(limits=DeviceLimits(functions=(3, 6, 16))))

    def test_a_device_that_turns_out_to_know_no_mask_write(self) -> None:
        """It says so with 01; nothing has changed, and the other way is offered."""

        def no_mask(frame: Frame, at: float, right: Pieces) -> Pieces:
            from kanaleto.wire.rtu import Rtu

            return [(at + 0.01, Rtu().encode(7, b"\x96\x01"))] if frame.pdu[0] == 0x16 else right

        async def work(rig: Controlled) -> None:
            rig.line.fault = no_mask
            order = rig.order("Command word", "Open on")
            self.assertEqual((await rig.control.send(order)).state, State.REFUSED)
            self.assertEqual((await rig.control.send(order)).needs, Consent.WHOLE_WORD)

        controlled(work)

    def test_adjoining_points_in_one_request(self) -> None:
        async def work(rig: Controlled) -> None:
            orders = combined(
                [rig.order("Horn", "on"), rig.order("Lamp", "on"), rig.order("Mode", "1")], DeviceLimits()
            )
            self.assertEqual(len(orders), 2)
            results = await rig.control.send_all(orders, lambda result: None)
            self.assertTrue(all(result.is_well for result in results))
            self.assertEqual(rig.wrote, [b"\x0f\x00\x00\x00\x02\x01\x03", b"\x06\x00\x0b\x00\x01"])

        controlled(work)

    def test_a_point_that_is_only_written_is_not_read(self) -> None:
        async def work(rig: Controlled) -> None:
            result = await rig.control.send(rig.order("Only written", "5"))
            self.assertEqual((result.state, result.is_equal), (State.DONE, None))
            reads = [frame.pdu for frame in rig.line.requests if frame.pdu[0] == 3]
            self.assertFalse([pdu for pdu in reads if pdu[1:3] <= b"\x00\x0a" < pdu[1:2] + bytes((pdu[2] + pdu[4],))])

        controlled(work)


class Checks(unittest.TestCase):
    """What keeps a write from going out, and what has to be said for it to go."""

    def test_needs(self) -> None:
        async def work(rig: Controlled) -> None:
            async def needs(order: Order) -> Consent | None:
                result = await rig.control.send(order)
                self.assertEqual(result.state, State.NOT_SENT, result.text)
                return result.needs

            self.assertEqual(await needs(rig.order("Kept back", "5")), Consent.CONFIRM)
            self.assertEqual(await needs(rig.order("Target", "5", seen=b"\x00\x07")), Consent.CHANGED)
            self.assertEqual(await needs(rig.order("Target", "5", unit_id=0, device="", points=())), Consent.BROADCAST)
            self.assertIsNone(await needs(rig.order("Target", "5", device="Other")))
            self.assertIsNone(await needs(rig.order("Target", "5", unit_id=9)))
            self.assertIsNone(await needs(rig.order("Target", "5", line="Other")))
            self.assertIsNone(await needs(rig.order("Target", "5", address=7)))  # by its address it is Never
            self.assertEqual(rig.wrote, [])
            self.assertFalse(rig.ledger.rows)
            order = rig.order("Kept back", "5").with_consent(Consent.CONFIRM)
            self.assertTrue((await rig.control.send(order)).is_equal)

        controlled(work)

    def test_never_and_confirm_of_the_site_file(self) -> None:
        for how, needs in ((Writing.NEVER, None), (Writing.CONFIRM, Consent.CONFIRM)):
            with self.subTest(how=how):

                async def work(rig: Controlled, needs: Consent | None = needs) -> None:
                    result = await rig.control.send(rig.order("Target", "5"))
                    self.assertEqual((result.state, result.needs, rig.wrote), (State.NOT_SENT, needs, []))

                controlled(work, drive(writing=how))

    def test_a_poller_takes_no_write_from_elsewhere(self) -> None:
        async def work(rig: Controlled) -> None:
            with self.assertRaises(ValueError):
                rig.session.pollers[0].ask(7, WriteRegister(1, 5), 0.5)

        controlled(work)

    def test_what_cannot_be_written_down_is_not_sent(self) -> None:
        async def work(rig: Controlled) -> None:
            rig.ledger.why_not = "the disk is full"
            result = await rig.control.send(rig.order("Target", "5"))
            self.assertEqual((result.state, result.text), (State.NOT_SENT, "the disk is full"))
            self.assertEqual(rig.wrote, [])

        controlled(work)

    def test_another_device_than_was_known(self) -> None:
        """Compared at the first write, and again once the line was connected again."""

        async def work(rig: Controlled) -> None:
            await rig.control.send(rig.order("Target", "5"))
            for simulated in rig.line.units.devices:
                simulated.put("Status word", 0x8000)
            self.assertTrue((await rig.control.send(rig.order("Target", "6"))).is_done)
            rig.session.pollers[0].reconnect()
            await rig.running.for_s(3)
            result = await rig.control.send(rig.order("Target", "7"))
            self.assertEqual(result.needs, Consent.DEVICE, result.text)
            self.assertIn("tag", result.text)
            order = rig.order("Target", "7").with_consent(Consent.DEVICE)
            self.assertTrue((await rig.control.send(order)).is_equal)
            self.assertTrue((await rig.control.send(rig.order("Target", "8"))).is_equal)

        controlled(work, drive(tag="Status word"))


class Guests(unittest.TestCase):
    def test_a_line_that_the_site_does_not_have(self) -> None:
        async def work(rig: Controlled) -> None:
            session = rig.session
            link = SerialLink("/elsewhere")
            line = session.host(link)
            self.assertEqual(session.host(link), line)
            order = Order(line=line.name, unit_id=7, table=Table.HOLDING, address=1, data=b"\0\5")
            self.assertTrue((await rig.control.send(order)).is_equal)
            self.assertEqual(rig.value("Target"), 0.05)
            async with session.borrowed(SerialLink("/elsewhere"), "asking units"):
                with self.assertRaises(KeyError):
                    session.named(line.name)
                with self.assertRaises(ValueError):
                    session.host(link)
            self.assertEqual((await rig.control.send(order)).state, State.NOT_SENT)
            session.host(link)
            session.take_over(replace(rig.line.site, lines=(replace(rig.line.line, link=link),)))
            with self.assertRaises(KeyError):
                session.named(line.name)

        controlled(work)


class Outcomes(unittest.TestCase):
    """Exceptions, silence, lines that die: told as what they are, never repeated."""

    def _result(self, fault: object, name: str = "Target", text: str = "65") -> tuple[Result, int]:
        found: list[tuple[Result, int]] = []

        async def work(rig: Controlled) -> None:
            await rig.control.send(rig.order(name, "1"))  # the device is compared by now
            before = len(rig.wrote)
            rig.line.fault = fault  # type: ignore[assignment]
            result = await rig.control.send(rig.order(name, text))
            found.append((result, len(rig.wrote) - before))
            self.assertTrue(rig.rows_match())

        controlled(work)
        return found[0]

    def test_no_answer_and_not_written(self) -> None:
        """The request is lost on its way: the device never saw it."""
        lost = [True]

        async def work(rig: Controlled) -> None:
            await rig.control.send(rig.order("Target", "1"))
            answer = rig.line.units.answer

            def swallow(unit_id: int, pdu: bytes, master: Master = NOBODY) -> Answer:
                return None if pdu[0] == 6 and lost else answer(unit_id, pdu, master)

            rig.line.units.answer = swallow  # type: ignore[method-assign]
            result = await rig.control.send(rig.order("Target", "65"))
            self.assertEqual(result.state, State.UNKNOWN)
            self.assertIn("may have been written or not", result.text)
            self.assertIn("the old value stands there", result.text)
            self.assertEqual(len(rig.wrote), 2)

        controlled(work)

    def test_no_answer_and_written(self) -> None:
        result, sent = self._result(lambda frame, at, right: [] if frame.pdu[0] == 6 else right)
        self.assertEqual((result.state, result.is_equal, sent), (State.UNKNOWN, True, 1))
        self.assertIn("it was written", result.text)

    def test_only_what_may_be_repeated_is(self) -> None:
        _, sent = self._result(lambda frame, at, right: [] if frame.pdu[0] == 6 else right, "Often", "5")
        self.assertEqual(sent, 2)

    def test_an_exception_on_the_third_of_five(self) -> None:
        async def work(rig: Controlled) -> None:
            names = ("Horn", "Lamp", "Mode", "Target", "Often")
            await rig.control.send(rig.order("Horn", "off"))
            began = len(rig.wrote)

            def refuses(frame: Frame, at: float, right: Pieces) -> Pieces:
                from kanaleto.wire.rtu import Rtu

                is_mode = frame.pdu[:3] == b"\x06\x00\x0b"
                return [(at + 0.01, Rtu().encode(7, b"\x86\x04"))] if is_mode else right

            rig.line.fault = refuses
            results = await rig.control.send_all([rig.order(name, "1") for name in names], lambda result: None)
            self.assertEqual([result.state for result in results], [State.DONE, State.DONE, State.REFUSED])
            self.assertEqual(len(rig.wrote) - began, 3)
            self.assertIn("exception 4", results[-1].text)

        controlled(work)

    def test_a_line_that_is_down_sends_nothing_late(self) -> None:
        """What waited too long for its line is not sent any more when it comes back."""

        async def work(rig: Controlled) -> None:
            await rig.control.send(rig.order("Target", "1"))
            rig.session.switch_line("Line", False)
            await rig.running.for_s(0.5)
            task = asyncio.create_task(rig.control.send(rig.order("Target", "65")))
            await rig.running.for_s(7)
            rig.session.switch_line("Line", True)
            result = await task
            self.assertEqual(result.state, State.NOT_SENT)
            await rig.running.for_s(5)
            self.assertEqual(len(rig.wrote), 1)
            self.assertTrue(rig.rows_match())

        controlled(work)

    def test_another_master_is_noticed(self) -> None:
        async def work(rig: Controlled) -> None:
            texts: list[str] = []
            order = rig.order("Target", "65", old_text="0.00 %")
            result = await rig.control.send(order, texts.append)
            self.assertTrue(result.is_equal)
            await rig.running.for_s(0.8)
            rig.line.units.devices[0].put("Target", 0)
            await rig.running.for_s(6)
            self.assertRegex(texts[0], r"back at 0\.00 % after [01]\.\d s: another master writes it")

        controlled(work)

    def test_writes_of_one_line_go_in_their_order(self) -> None:
        async def work(rig: Controlled) -> None:
            results = await asyncio.gather(*(rig.control.send(rig.order("Often", str(n))) for n in range(20)))
            self.assertTrue(all(result.is_equal for result in results))
            words = [pdu[-1] for pdu in rig.wrote]
            self.assertEqual(words, list(range(20)))

        controlled(work)


class Locks(unittest.TestCase):
    def setUp(self) -> None:
        self.now, self.slept = 1000.0, 0.0
        self.lock = Lock(with_sleep=lambda: self.now + self.slept, monotonic=lambda: self.now)

    def test_it_begins_locked_and_closes_by_itself(self) -> None:
        lock = self.lock
        self.assertIn("locked", lock.why_not("A"))
        lock.unlock("A")
        self.assertEqual(lock.why_not("A"), "")
        self.assertIn("only", lock.why_not("B"))
        self.assertIn("only", lock.why_not(""))
        for _ in range(100):
            self.now += UNLOCKED_S / 100
            lock.note_key()
        self.assertIn("10 minutes", lock.why_not("A"))

    def test_without_a_key(self) -> None:
        self.lock.unlock()
        self.now += IDLE_S - 1
        self.assertEqual(self.lock.why_not(""), "")
        self.now += 1
        self.assertIn("without a key", self.lock.why_not("A"))
        self.lock.note_key()
        self.assertNotEqual(self.lock.why_not("A"), "")

    def test_after_sleep(self) -> None:
        self.lock.unlock()
        self.slept = 10
        self.assertIn("slept", self.lock.why_not("A"))
        self.slept = 0
        self.assertNotEqual(self.lock.why_not("A"), "")

    def test_read_only_cannot_be_unlocked(self) -> None:
        for lock in (Lock(is_read_only=True), Lock(is_read_only=True, consents=True)):
            lock.unlock()
            self.assertIn("--read-only", lock.why_not("A"))

    def test_in_the_instant_of_sending(self) -> None:
        """It closes while the order waits for its line: nothing goes out, and no row stays."""

        async def work(rig: Controlled) -> None:
            rig.line.delay_s = 0.4
            await rig.running.for_s(1)
            task = asyncio.create_task(rig.control.send(rig.order("Target", "65")))
            await asyncio.sleep(0.2)
            rig.control.lock_now("locked now")
            result = await task
            self.assertEqual((result.state, result.text, rig.wrote), (State.NOT_SENT, "locked now", []))
            self.assertEqual(rig.ledger.rows, {})

        controlled(work)

    def test_locked_nothing_goes_by_any_way(self) -> None:
        async def work(rig: Controlled) -> None:
            order = rig.order("Target", "65")
            self.assertEqual((await rig.control.send(order)).state, State.NOT_SENT)
            self.assertEqual(
                (await rig.control.send(replace(order, consents=frozenset(Consent)))).state, State.NOT_SENT
            )
            self.assertEqual((await rig.control.send(replace(order, owner="routine 1"))).state, State.NOT_SENT)
            kept, _ = await rig.control.alives.begin(Wish(order=order, period_s=0.5))
            self.assertIsNone(kept)
            back = await rig.control.pulse(order, order, 0.1, lambda result: None)
            self.assertEqual(back.state, State.NOT_SENT)
            self.assertEqual(rig.wrote, [])

        controlled(work, lock=Lock())

    def test_an_edit_that_lands_before_the_moment_of_sending_is_seen(self) -> None:
        """While what stands there is read the point moves, or may not be written any more: nothing goes out."""
        moved = DRIVE.replace("Often,holding,9", "Often,holding,12")
        never = DRIVE.replace("Often,holding,9,uint16,,,rw,,,,,,,,yes", "Often,holding,9,uint16,,,rw,,,,,,,never,")
        for map_text, why in ((moved, "stands at 12 now"), (never, "never written")):

            async def work(rig: Controlled, map_text: str = map_text, why: str = why) -> None:
                order = rig.order("Often", "6")

                def edited(frame: Frame, at: float, right: Pieces) -> Pieces:
                    if frame.pdu == b"\x03\x00\x09\x00\x01":
                        rig.line.fault = None
                        line = replace(rig.line.line, devices=(device("Drive", 7, map_text, 0.2),))
                        asyncio.get_running_loop().call_soon(
                            rig.session.take_over, replace(rig.line.site, lines=(line,))
                        )
                    return right

                rig.line.fault = edited
                result = await rig.control.send(order)
                self.assertEqual((result.state, rig.wrote), (State.NOT_SENT, []))
                self.assertIn(why, result.text)

            controlled(work)
