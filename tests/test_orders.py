"""The door for writes: bytes, checks, outcomes, the journal; the lock; kept-alive writes. On a virtual clock."""

import asyncio
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.control.alive import Wish
from kanaleto.control.lock import IDLE_S, UNLOCKED_S, Lock
from kanaleto.control.order import Consent, Order, Result, State, combined, requests_of
from kanaleto.control.wanted import CannotWrite, text_of, wanted
from kanaleto.polling.events import EventKind
from kanaleto.site.model import Device, DeviceLimits, Point, Writing
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import WriteRegister
from tests.controlled import DRIVE, Controlled, controlled
from tests.simulated import Pieces, device, silent


def drive(**changes: object) -> Device:
    return replace(device("Drive", 7, DRIVE, 0.2), **changes)


def point(name: str) -> Point:
    return next(own for own in drive().points if own.name == name)


class Typed(unittest.TestCase):
    """What is typed becomes registers."""

    def test_values(self) -> None:
        cases = (
            ("Target", "65", b"\x19\x64", "65.00 %"),
            ("Target", "65,5 %", b"\x19\x96", "65.50 %"),
            ("Target", "0x1964", b"\x19\x64", "65.00 %"),
            ("Target", "0b11", b"\x00\x03", "0.03 %"),
            ("Level", "2.5", b"\x40\x20\x00\x00", "2.5 m"),
            ("Mode", "automatic", b"\x00\x01", "Automatic"),
            ("Command word", "Enable, Open", b"\x00\x03", "Enable · Open"),
            ("Command word", "acknowledge", b"\x00\x80", "Acknowledge"),
            ("Command word", "0", b"\x00\x00", "no bit is on"),
            ("Horn", "on", b"\x01", "on"),
        )
        for name, text, data, told in cases:
            with self.subTest(name=name, text=text):
                made = wanted(point(name), text)
                self.assertEqual((made.data, made.told), (data, told))

    def test_parts_of_a_word(self) -> None:
        self.assertEqual(wanted(point("Command word"), "Open on").mask, 0x0002)
        self.assertEqual(wanted(point("Bit three"), "1").mask, 0x0008)
        self.assertEqual(wanted(point("Command word"), "Open on 2 s").pulse_s, 2)
        self.assertEqual(wanted(point("Bit three"), "on").over(b"\xff\x00"), b"\xff\x08")

    def test_what_cannot_be(self) -> None:
        cases = (
            ("Target", "140", "above 100 %.*nearest is 100"),
            ("Target", "-1", "below 0 %"),
            ("Target", "65.005", "nearest that fits is 65"),
            ("Target", "0x12345", "does not fit"),
            ("Target", "0xFFFF", "above 100"),
            ("Target", "fast", "is no number"),
            ("Position", "5", "read-only"),
            ("Never", "5", "never written"),
            ("Command word", "Run", "no bit of"),
            ("Horn", "toggle", "type on or off"),
            ("Mode", "Fast", "Manual, Automatic"),
            ("Horn", "on 700 s", "0.01 to 600"),
            ("Kept back", "70000", "does not fit"),
            ("Target", "nan", "no number"),
            ("Target", " ", "type a value"),
        )
        for name, text, why in cases:
            with self.subTest(name=name, text=text), self.assertRaisesRegex(CannotWrite, why):
                wanted(point(name), text)

    @given(
        st.sampled_from(
            ("int16", "uint16", "int32", "uint32", "int64", "float32", "float64", "bcd16", "sm16", "bcd32")
        ),
        st.sampled_from(("ABCD", "CDAB", "BADC", "DCBA")),
        st.sampled_from((("", ""), ("0.1", ""), ("0.01", "-40"), ("2.5", "10"))),
        st.integers(0, 9999),
    )
    @settings(max_examples=200, deadline=None)
    def test_the_inverse_scale_of_every_type(self, kind: str, order: str, scale: tuple[str, str], raw: int) -> None:
        """A value that registers mean is written as these registers."""
        if kind in ("bcd16", "bcd32", "sm16", "int16", "uint16"):
            order = "" if kind not in ("bcd32",) else order
        head = "name,table,address,type,order,factor,offset,access\n"
        (own,) = device("D", 1, f"{head}P,holding,0,{kind},{order},{scale[0]},{scale[1]},rw\n").points
        data = replace(own.codec, scale=None).encode(raw)
        value = own.codec.decode(data)
        assert isinstance(value, int | float)
        self.assertEqual(wanted(own, repr(value)).data, data)
        self.assertIn(text_of(own, data), (wanted(own, repr(value)).told,))


class Paths(unittest.TestCase):
    """Each way of writing, byte by byte."""

    def _sent(self, orders: list[tuple[str, str]], limits: DeviceLimits | None = None) -> list[bytes]:
        heard: list[bytes] = []

        async def work(own: Controlled) -> None:
            for name, text in orders:
                result = await own.control.send(own.order(name, text))
                self.assertEqual(result.state, State.DONE, result.text)
                self.assertIsNot(result.is_equal, False, result.text)
            heard.extend(own.wrote)
            self.assertTrue(own.rows_match())

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
        async def work(own: Controlled) -> None:
            await own.control.send(own.order("Command word", "Acknowledge"))
            result = await own.control.send(own.order("Command word", "Open on"))
            self.assertEqual((result.state, result.needs), (State.NOT_SENT, Consent.WHOLE_WORD))
            order = own.order("Command word", "Open on").with_consent(Consent.WHOLE_WORD)
            self.assertTrue((await own.control.send(order)).is_equal)
            self.assertEqual(own.wrote[-1], b"\x06\x00\x00\x00\x82")

        controlled(work, drive(limits=DeviceLimits(functions=(3, 6, 16))))

    def test_a_device_that_turns_out_to_know_no_mask_write(self) -> None:
        """It says so with 01; nothing has changed, and the other way is offered."""

        def no_mask(frame: Frame, at: float, right: Pieces) -> Pieces:
            from kanaleto.wire.rtu import Rtu

            return [(at + 0.01, Rtu().encode(7, b"\x96\x01"))] if frame.pdu[0] == 0x16 else right

        async def work(own: Controlled) -> None:
            own.line.fault = no_mask
            order = own.order("Command word", "Open on")
            self.assertEqual((await own.control.send(order)).state, State.REFUSED)
            self.assertEqual((await own.control.send(order)).needs, Consent.WHOLE_WORD)

        controlled(work)

    def test_adjoining_points_in_one_request(self) -> None:
        async def work(own: Controlled) -> None:
            orders = combined(
                [own.order("Horn", "on"), own.order("Lamp", "on"), own.order("Mode", "1")], DeviceLimits()
            )
            self.assertEqual(len(orders), 2)
            results = await own.control.send_all(orders, lambda result: None)
            self.assertTrue(all(result.is_well for result in results))
            self.assertEqual(own.wrote, [b"\x0f\x00\x00\x00\x02\x01\x03", b"\x06\x00\x0b\x00\x01"])

        controlled(work)

    def test_a_point_that_is_only_written_is_not_read(self) -> None:
        async def work(own: Controlled) -> None:
            result = await own.control.send(own.order("Only written", "5"))
            self.assertEqual((result.state, result.is_equal), (State.DONE, None))
            reads = [frame.pdu for frame in own.line.requests if frame.pdu[0] == 3]
            self.assertFalse([pdu for pdu in reads if pdu[1:3] <= b"\x00\x0a" < pdu[1:2] + bytes((pdu[2] + pdu[4],))])

        controlled(work)


class Checks(unittest.TestCase):
    """What keeps a write from going out, and what has to be said for it to go."""

    def test_needs(self) -> None:
        async def work(own: Controlled) -> None:
            async def needs(order: Order) -> Consent | None:
                result = await own.control.send(order)
                self.assertEqual(result.state, State.NOT_SENT, result.text)
                return result.needs

            self.assertEqual(await needs(own.order("Kept back", "5")), Consent.CONFIRM)
            self.assertEqual(await needs(own.order("Target", "5", seen=b"\x00\x07")), Consent.CHANGED)
            self.assertEqual(await needs(own.order("Target", "5", unit_id=0, device="", points=())), Consent.BROADCAST)
            self.assertIsNone(await needs(own.order("Target", "5", device="Other")))
            self.assertIsNone(await needs(own.order("Target", "5", unit_id=9)))
            self.assertIsNone(await needs(own.order("Target", "5", line="Other")))
            self.assertIsNone(await needs(own.order("Target", "5", address=7)))  # by its address it is Never
            self.assertEqual(own.wrote, [])
            self.assertFalse(own.ledger.rows)
            order = own.order("Kept back", "5").with_consent(Consent.CONFIRM)
            self.assertTrue((await own.control.send(order)).is_equal)

        controlled(work)

    def test_never_and_confirm_of_the_site_file(self) -> None:
        for how, needs in ((Writing.NEVER, None), (Writing.CONFIRM, Consent.CONFIRM)):
            with self.subTest(how=how):

                async def work(own: Controlled, needs: Consent | None = needs) -> None:
                    result = await own.control.send(own.order("Target", "5"))
                    self.assertEqual((result.state, result.needs, own.wrote), (State.NOT_SENT, needs, []))

                controlled(work, drive(writing=how))

    def test_a_poller_takes_no_write_from_elsewhere(self) -> None:
        async def work(own: Controlled) -> None:
            with self.assertRaises(ValueError):
                own.session.pollers[0].ask(7, WriteRegister(1, 5), 0.5)

        controlled(work)

    def test_what_cannot_be_written_down_is_not_sent(self) -> None:
        async def work(own: Controlled) -> None:
            own.ledger.why_not = "the disk is full"
            result = await own.control.send(own.order("Target", "5"))
            self.assertEqual((result.state, result.text), (State.NOT_SENT, "the disk is full"))
            self.assertEqual(own.wrote, [])

        controlled(work)

    def test_another_device_than_was_known(self) -> None:
        """Compared at the first write, and again once the line was connected anew."""

        async def work(own: Controlled) -> None:
            await own.control.send(own.order("Target", "5"))
            for simulated in own.line.units.devices:
                simulated.put("Status word", 0x8000)
            self.assertTrue((await own.control.send(own.order("Target", "6"))).is_done)
            own.session.pollers[0].reconnect()
            await own.running.for_s(3)
            result = await own.control.send(own.order("Target", "7"))
            self.assertEqual(result.needs, Consent.DEVICE, result.text)
            self.assertIn("tag", result.text)
            order = own.order("Target", "7").with_consent(Consent.DEVICE)
            self.assertTrue((await own.control.send(order)).is_equal)
            self.assertTrue((await own.control.send(own.order("Target", "8"))).is_equal)

        controlled(work, drive(tag="Status word"))


class Outcomes(unittest.TestCase):
    """Exceptions, silence, lines that die: told as what they are, never repeated."""

    def _result(self, fault: object, name: str = "Target", text: str = "65") -> tuple[Result, int]:
        found: list[tuple[Result, int]] = []

        async def work(own: Controlled) -> None:
            await own.control.send(own.order(name, "1"))  # the device is compared by now
            before = len(own.wrote)
            own.line.fault = fault  # type: ignore[assignment]
            result = await own.control.send(own.order(name, text))
            found.append((result, len(own.wrote) - before))
            self.assertTrue(own.rows_match())

        controlled(work)
        return found[0]

    def test_no_answer_and_not_written(self) -> None:
        """The request is lost on its way: the device never saw it."""
        lost = [True]

        async def work(own: Controlled) -> None:
            await own.control.send(own.order("Target", "1"))
            answer = own.line.units.answer

            def swallow(unit_id: int, pdu: bytes) -> bytes | None:
                return None if pdu[0] == 6 and lost else answer(unit_id, pdu)

            own.line.units.answer = swallow  # type: ignore[method-assign]
            result = await own.control.send(own.order("Target", "65"))
            self.assertEqual(result.state, State.UNKNOWN)
            self.assertIn("may have been written or not", result.text)
            self.assertIn("the old value stands there", result.text)
            self.assertEqual(len(own.wrote), 2)

        controlled(work)

    def test_no_answer_and_written(self) -> None:
        result, sent = self._result(lambda frame, at, right: [] if frame.pdu[0] == 6 else right)
        self.assertEqual((result.state, result.is_equal, sent), (State.UNKNOWN, True, 1))
        self.assertIn("it was written", result.text)

    def test_only_what_may_be_repeated_is(self) -> None:
        _, sent = self._result(lambda frame, at, right: [] if frame.pdu[0] == 6 else right, "Often", "5")
        self.assertEqual(sent, 2)

    def test_an_exception_on_the_third_of_five(self) -> None:
        async def work(own: Controlled) -> None:
            names = ("Horn", "Lamp", "Mode", "Target", "Often")
            await own.control.send(own.order("Horn", "off"))
            began = len(own.wrote)

            def refuses(frame: Frame, at: float, right: Pieces) -> Pieces:
                from kanaleto.wire.rtu import Rtu

                is_mode = frame.pdu[:3] == b"\x06\x00\x0b"
                return [(at + 0.01, Rtu().encode(7, b"\x86\x04"))] if is_mode else right

            own.line.fault = refuses
            results = await own.control.send_all([own.order(name, "1") for name in names], lambda result: None)
            self.assertEqual([result.state for result in results], [State.DONE, State.DONE, State.REFUSED])
            self.assertEqual(len(own.wrote) - began, 3)
            self.assertIn("exception 4", results[-1].text)

        controlled(work)

    def test_a_line_that_is_down_sends_nothing_late(self) -> None:
        """What waited too long for its line is not sent any more when it comes back."""

        async def work(own: Controlled) -> None:
            await own.control.send(own.order("Target", "1"))
            own.session.switch_line("Line", False)
            await own.running.for_s(0.5)
            task = asyncio.create_task(own.control.send(own.order("Target", "65")))
            await own.running.for_s(7)
            own.session.switch_line("Line", True)
            result = await task
            self.assertEqual(result.state, State.NOT_SENT)
            await own.running.for_s(5)
            self.assertEqual(len(own.wrote), 1)
            self.assertTrue(own.rows_match())

        controlled(work)

    def test_another_master_is_noticed(self) -> None:
        async def work(own: Controlled) -> None:
            told: list[str] = []
            order = own.order("Target", "65", was_told="0.00 %")
            result = await own.control.send(order, told.append)
            self.assertTrue(result.is_equal)
            await own.running.for_s(0.8)
            own.line.units.devices[0].put("Target", 0)
            await own.running.for_s(6)
            self.assertRegex(told[0], r"back at 0\.00 % after [01]\.\d s: another master writes it")

        controlled(work)

    def test_writes_of_one_line_go_in_their_order(self) -> None:
        async def work(own: Controlled) -> None:
            results = await asyncio.gather(*(own.control.send(own.order("Often", str(n))) for n in range(20)))
            self.assertTrue(all(result.is_equal for result in results))
            words = [pdu[-1] for pdu in own.wrote]
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

        async def work(own: Controlled) -> None:
            own.line.delay_s = 0.4
            await own.running.for_s(1)
            task = asyncio.create_task(own.control.send(own.order("Target", "65")))
            await asyncio.sleep(0.2)
            own.control.lock_now("locked now")
            result = await task
            self.assertEqual((result.state, result.text, own.wrote), (State.NOT_SENT, "locked now", []))
            self.assertEqual(own.ledger.rows, {})

        controlled(work)

    def test_locked_nothing_goes_by_any_way(self) -> None:
        async def work(own: Controlled) -> None:
            order = own.order("Target", "65")
            self.assertEqual((await own.control.send(order)).state, State.NOT_SENT)
            self.assertEqual(
                (await own.control.send(replace(order, consents=frozenset(Consent)))).state, State.NOT_SENT
            )
            self.assertEqual((await own.control.send(replace(order, owner="routine 1"))).state, State.NOT_SENT)
            kept, _ = await own.control.alives.begin(Wish(order=order, period_s=0.5))
            self.assertIsNone(kept)
            back = await own.control.pulse(order, order, 0.1, lambda result: None)
            self.assertEqual(back.state, State.NOT_SENT)
            self.assertEqual(own.wrote, [])

        controlled(work, lock=Lock())


class KeptAlive(unittest.TestCase):
    def test_it_is_repeated_changed_and_ended(self) -> None:
        async def work(own: Controlled) -> None:
            wish = Wish(order=own.order("Command word", "Enable"), period_s=0.5, safe=b"\0\0")
            kept, result = await own.control.alives.begin(wish)
            assert kept is not None, result
            await own.running.for_s(5)
            self.assertAlmostEqual(len(own.wrote), 11, delta=1)
            changed = await own.control.send(own.order("Command word", "Open on"))
            self.assertTrue(changed.is_done, changed.text)
            await own.running.for_s(2)
            self.assertEqual(own.value("Command word"), 3)
            self.assertNotIn(b"\x06\x00\x00\x00\x01", own.wrote[-4:])
            told = await own.control.stop_alive(1, "as was asked")
            self.assertIn("safe value", told)
            self.assertEqual((own.value("Command word"), own.wrote[-1]), (0, b"\x06\x00\x00\x00\x00"))
            count = len(own.wrote)
            await own.running.for_s(3)
            self.assertEqual(len(own.wrote), count)
            self.assertTrue(own.rows_match(), (own.ledger.counts, len(own.wrote)))

        controlled(work)

    def test_it_ends_with_the_program_and_while_polling_is_held(self) -> None:
        async def work(own: Controlled) -> None:
            wish = Wish(order=own.order("Command word", "Enable"), period_s=0.2, safe=b"\0\0")
            await own.control.alives.begin(wish)
            own.session.hold(True)
            before = len(own.wrote)
            await own.running.for_s(2)
            self.assertGreater(len(own.wrote) - before, 8)
            own.ledger.why_not = "the disk is full"  # the safe value goes out all the same
            await own.control.stop()
            self.assertEqual(own.value("Command word"), 0)

        controlled(work)

    def test_a_register_has_one_holder(self) -> None:
        async def work(own: Controlled) -> None:
            wish = Wish(order=own.order("Target", "50"), period_s=0.5, safe=b"\0\0")
            await own.control.alives.begin(wish)
            both = own.order("Target", "10", address=0, data=b"\0\1\0\1", points=())
            second = await own.control.orders.send(replace(both, device="Drive"))
            self.assertEqual(second.needs, Consent.HOLDER, second.text)
            self.assertIn("Target", second.text)
            taken = await own.control.orders.send(both.with_consent(Consent.HOLDER))
            self.assertTrue(taken.is_done, taken.text)
            await own.running.for_s(2)
            self.assertEqual((own.control.alive, own.value("Target")), ((), 0.01))

        controlled(work)

    def test_how_long_it_may_have_to_wait_is_said_before(self) -> None:
        """A silent neighbour's timeout and quarantine are longer than the watchdog leaves: refused, until silent ones
        are left out; then the lateness stays below what was reckoned."""
        neighbour = device("Neighbour", 8, timeout_s=0.9)

        async def work(own: Controlled) -> None:
            own.line.fault = silent(8)
            await own.running.for_s(10)
            wish = Wish(order=own.order("Command word", "Enable"), period_s=0.5, safe=b"\0\0")
            kept, result = await own.control.alives.begin(wish)
            self.assertIsNone(kept)
            self.assertRegex(result.text, "Neighbour is silent.*watchdog")
            kept, result = await own.control.alives.begin(replace(wish, leaves_out_silent=True))
            assert kept is not None, result.text
            await own.running.for_s(60)
            wait = kept.state.wait
            self.assertLessEqual(kept.state.worst_s, 1.1 * wait.exchange_s)
            await own.control.stop_alive(1, "as was asked")
            asked = len([frame for frame in own.line.requests if frame.unit_id == 8])
            await own.running.for_s(60)
            self.assertGreater(len([frame for frame in own.line.requests if frame.unit_id == 8]), asked)

        controlled(work, drive(watchdog_s=1.2), neighbour)

    def test_its_line_and_its_device_may_go(self) -> None:
        async def work(own: Controlled) -> None:
            await own.control.alives.begin(Wish(order=own.order("Often", "5"), period_s=0.2))
            other = drive(unit_id=9)
            own.session.take_over(replace(own.line.site, lines=(replace(own.line.line, devices=(other,)),)))
            await own.running.for_s(2)
            self.assertEqual(own.control.alive, ())
            told = [event.text for event in own.session.events.ring if event.kind is EventKind.KEPT_ALIVE]
            self.assertIn("not unit 7", told[-1])

        controlled(work)


class Requests(unittest.TestCase):
    def test_a_write_is_never_torn(self) -> None:
        order = Order(line="L", unit_id=1, table=Table.HOLDING, address=0, data=bytes(40))
        with self.assertRaises(CannotWrite):
            requests_of(order, DeviceLimits(max_write_registers=10))
        self.assertEqual(len(requests_of(order, DeviceLimits(max_write_registers=20))), 1)
        with self.assertRaises(CannotWrite):
            requests_of(order, DeviceLimits(functions=(3, 4)))
