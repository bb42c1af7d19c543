"""Rules and bounds of which a small change once went unnoticed (`tests/mutantlist.py`): each held from both sides."""

import asyncio
import tempfile
import threading
import unittest
import unittest.mock
from pathlib import Path

from msgspec.structs import replace

from kanaleto.board.board import Quality
from kanaleto.control.alive import Wish
from kanaleto.control.order import Consent, State
from kanaleto.events.log import Ended, EventKind, EventLog
from kanaleto.history.journalfile import JournalFile, events_of
from kanaleto.history.recordsink import RecordSink
from kanaleto.history.store import Store
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.planning.lessons import Lessons, _parts_at
from kanaleto.planning.partition import Rules, requests_of
from kanaleto.planning.plan import plan_site
from kanaleto.polling.oneoff import Requests
from kanaleto.polling.schedule import DeviceState, Schedule
from kanaleto.probing.question import Sparing
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.values.candidates import _power_of_ten, parse_display
from kanaleto.values.novalue import CannotEncode, NoValue
from kanaleto.values.scale import Bounded, between
from kanaleto.values.special import encode_special
from kanaleto.values.textspans import _may_be_date
from kanaleto.values.typed import typed_value
from kanaleto.values.types import Kind, order_for, parse_order, parse_type
from kanaleto.wire.base import PduError, Refused
from kanaleto.wire.checks import crc_bytes
from kanaleto.wire.codes import Table
from kanaleto.wire.explain import explain_frame
from kanaleto.wire.frames import Frame, Garbled, Role
from kanaleto.wire.pdu import Read, Request, parse_answer, parse_request
from kanaleto.wire.reach import Items, written_by
from kanaleto.wire.rtu import Rtu
from tests.controlled import Controlled, controlled
from tests.simulated import Pieces, SimulatedLine, device, silent
from tests.test_orders import drive
from tests.test_plan import points
from tests.test_polling import Running
from tests.test_types import point as of_map
from tests.virtual import run_virtual


class Wire(unittest.TestCase):
    def test_the_last_address_may_be_asked_and_none_behind_it(self) -> None:
        self.assertEqual(parse_request(bytes.fromhex("03FFFF0001")), Read(Table.HOLDING, 0xFFFF, 1))
        self.assertEqual(parse_request(bytes.fromhex("01FFF80008")), Read(Table.COIL, 0xFFF8, 8))
        self.assertEqual(Read(Table.INPUT, 0xFFFE, 2).encode(), bytes.fromhex("04FFFE0002"))
        for request in ("03FFFF0002", "01FFF90008", "10FFFF0002040000FFFF"):
            with self.assertRaises(PduError):
                parse_request(bytes.fromhex(request))
        with self.assertRaises(ValueError):
            Read(Table.INPUT, 0xFFFF, 2)

    def test_a_byte_count_is_that_of_the_bytes(self) -> None:
        for answer in ("03 04 0001", "03 00 0001", "01 02 FF", "04 01 0001"):
            with self.subTest(answer), self.assertRaises(PduError):
                parse_answer(bytes.fromhex(answer))
        for request in ("10 0001 0001 04 0005", "10 0001 0001 00 0005", "0F 0001 0008 02 FF", "0F 0001 0009 01 FF"):
            with self.subTest(request), self.assertRaises(PduError):
                parse_request(bytes.fromhex(request))

    def test_exceptions_answer_functions_that_can_be_asked(self) -> None:
        self.assertEqual(Refused(0x7F, 0xFF).encode(), b"\xff\xff")
        for function, code in ((0x80, 1), (-1, 1), (3, 256), (3, -1)):
            with self.subTest(function=function, code=code), self.assertRaises(ValueError):
                Refused(function, code)

    def test_what_a_write_reaches_is_told_of_whole_requests_only(self) -> None:
        whole = "17 0001 0001 0002 0001 02 0005"
        self.assertEqual(written_by(bytes.fromhex(whole)), (Items(Table.HOLDING, 2, 3),))
        for text in (f"{whole} 00", whole[:-2], "17 0001 0001 0002 0001 04 0005", "17 0001 0001 0002 0001"):
            self.assertIsNone(written_by(bytes.fromhex(text)), text)

    def test_behind_noise_a_frame_has_the_length_that_it_tells(self) -> None:
        """Alone in its silence, a right CRC is enough: then what it says of its length is told as wrong."""
        short = bytes.fromhex("07 03 04 0001")
        short += crc_bytes(short)
        for noise in (b"", b"\x00\x55"):
            decoder = Rtu().decoder(Role.ANSWERS)
            (event,) = decoder.feed(noise + short) + decoder.silence()
            self.assertIs(type(event), Garbled if noise else Frame)

    def test_units_behind_247_are_reserved(self) -> None:
        for unit, said in ((0, "0, to all"), (247, "247"), (248, "248, reserved"), (255, "255, reserved")):
            field = explain_frame("rtu", Role.REQUESTS, Rtu().encode(unit, bytes.fromhex("0300000001")))[0]
            self.assertTrue(field.meaning.startswith(said), field.meaning)


class Values(unittest.TestCase):
    def test_what_shows_as_nought_is_nought(self) -> None:
        for text in ("0", "0.00", "0 ± 0.5"):
            self.assertEqual(_power_of_ten(0, parse_display(text)), 0)
            self.assertIsNone(_power_of_ten(3, parse_display(text)))
        self.assertEqual(_power_of_ten(241, parse_display("2.41")), -2)

    def test_beside_a_word_that_means_no_value_the_neighbour_that_shows_the_same_is_taken(self) -> None:
        columns = "type,raw_low,raw_high,eng_low,eng_high,clamp,no_value"
        codec = of_map("uint16,0,4000,0,100,yes,4000", columns).codec
        self.assertEqual(codec.encode(100, decimals=1), (3999).to_bytes(2))  # 99.975
        self.assertEqual(codec.encode(100, decimals=2), (4001).to_bytes(2))  # which is clamped to 100

    def test_dates_that_are_none(self) -> None:
        for day, hour, is_date in ((1, 0, True), (31, 23, True), (0, 0, False), (32, 0, False), (31, 24, False)):
            self.assertIs(_may_be_date(bytes((26, 12, day, hour, 59, 59)), Kind.CLOCK3), is_date)
        for year, is_date in ((26, True), (2026, True), (2100, False), (100, False)):
            words = (year, 12, 31, 23, 59, 59)
            self.assertIs(_may_be_date(b"".join(word.to_bytes(2) for word in words), Kind.CLOCK6), is_date)

    def test_one_quotation_mark_is_a_text(self) -> None:
        text = of_map("text:4", "type").codec
        self.assertEqual([typed_value(typed, text) for typed in ('"', '"a"', '""', "a")], ['"', "a", "", "a"])

    def test_each_part_of_a_version_is_a_byte(self) -> None:
        self.assertEqual(encode_special(Kind.VERSION, "255.0"), b"\xff\x00")
        for text in ("256.0", "0.256", "1", "1.2.3", "1.-1"):
            with self.assertRaisesRegex(CannotEncode, "is no version such as"):
                encode_special(Kind.VERSION, text)

    def test_the_ends_of_a_current_loop_are_still_values(self) -> None:
        loop = Bounded(between(6400, 32000, 0, 250), 0, 250, False, 6400.0, 32000.0)  # type: ignore[arg-type]
        for raw, is_value in ((5760, True), (5759, False), (33600, True), (33601, False)):  # 3.6 and 21 mA
            self.assertEqual(not isinstance(loop.to_value(raw), NoValue), is_value, raw)

    def test_an_order_of_wide_values_says_nothing_of_narrow_ones(self) -> None:
        narrow, swapped = parse_type("uint16"), parse_order("BA")
        for letters in ("CDAB", "EFGHABCD"):
            for kind in (narrow, parse_type("text:4")):
                self.assertEqual(order_for(kind, parse_order(letters), None).value, "AB")
                self.assertEqual(order_for(kind, parse_order(letters), swapped).value, "BA")
        self.assertEqual(order_for(narrow, None, parse_order("EFGHABCD")).value, "AB")
        self.assertEqual(order_for(narrow, swapped, parse_order("CDAB")).value, "BA")


class Plans(unittest.TestCase):
    def test_a_group_is_one_request_up_to_the_limit_and_never_over_a_break(self) -> None:
        own = points("A,holding,0,uint32,g\nB,holding,2,uint32,g\n")
        for most, breaks, addresses in ((4, (), [0]), (3, (), [0, 2]), (4, (2,), [0, 2]), (4, (0, 4), [0])):
            rules = Rules(most, 10.0, 1.0, 100, lambda first, end: True, frozenset(breaks))
            with self.subTest(most=most, breaks=breaks):
                self.assertEqual([request[0].address for request in requests_of(own, rules)], addresses)

    def test_a_cut_tears_no_point_and_no_group(self) -> None:
        own = points("A,holding,0,uint16,g\nB,holding,1,uint32,\nC,holding,3,uint16,g\nD,holding,4,uint16,\n")
        self.assertEqual([at for at in range(1, 5) if _parts_at(own, at)], [4])
        self.assertEqual([at for at in range(1, 5) if _parts_at(own[:2], at)], [1, 3, 4])

    def test_a_limit_that_is_read_well_after_all_was_none(self) -> None:
        own = points("".join(f"P{at},holding,{at},uint16,\n" for at in range(40)))
        lessons = Lessons(125, 2000)
        lessons.note_refused(Table.HOLDING, 40, own, "illegal data value")
        lessons.note_read(Table.HOLDING, 20, own[:20])
        self.assertFalse(lessons.is_seeking(Table.HOLDING))
        lessons.note_read(Table.HOLDING, 20, own[20:])
        self.assertTrue(lessons.is_seeking(Table.HOLDING))
        lessons.note_read(Table.HOLDING, 39, own[:39])
        self.assertTrue(lessons.is_seeking(Table.HOLDING))
        lessons.note_read(Table.HOLDING, 40, own)  # the refusal had another cause
        self.assertFalse(lessons.is_seeking(Table.HOLDING))


class Lines(unittest.TestCase):
    def test_credit_of_silent_devices_is_that_of_two_tries(self) -> None:
        """However long nobody has used it: the line is the others' again after that."""
        line = SimulatedLine(device("Dead", 7), device("Alive", 8))
        schedule = Schedule(lambda job: True)
        states = {part.device.name: DeviceState(part.device) for part in plan_site(line.site).parts}
        for part in plan_site(line.site).parts:
            schedule.set_jobs(states[part.device.name], part, 0.0)
        dead = states["Dead"]
        dead.silent_since_s, dead.probe_cost_s = 0.0, 1.0
        tries = 0
        for now_s in (1.0, 1000.0):
            tries = 0
            while (job := schedule.take_due(now_s)) is not None:
                if job.state is dead:
                    tries += 1
                    schedule.spend(dead, 1.0, now_s)
                schedule.push(job, now_s if job.state is dead and tries < 100 else now_s + 0.5)
        self.assertEqual(tries, 2)

    def test_a_value_grows_stale_after_its_timeout_at_the_earliest(self) -> None:
        line = SimulatedLine(device("Slow", 7, period_s=0.2, timeout_s=5.0))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2)
                line.fault = silent(7)
                await running.for_s(4)
                self.assertEqual(running.reading("Slow", "Count").quality, Quality.GOOD)
                await running.for_s(2)
                self.assertEqual(running.reading("Slow", "Count").quality, Quality.STALE)

        run_virtual(work())

    def test_what_is_urgent_goes_before_what_waits_in_its_own_order(self) -> None:
        async def work() -> list[int]:
            requests = Requests()
            for address, is_urgent in ((1, False), (2, True), (3, False), (4, True)):
                requests.add(7, Read(Table.HOLDING, address, 1), 0.5, None, is_urgent=is_urgent)
            taken: list[int] = []
            while requests:
                self.assertEqual(requests.is_urgent, len(taken) < 2)
                request = requests.take().request
                assert isinstance(request, Read)
                taken.append(request.address)
            return taken

        self.assertEqual(run_virtual(work()), [2, 4, 1, 3])

    def test_a_connection_on_which_nobody_answers_is_made_anew_after_six(self) -> None:
        rows = "name,table,address\nA,holding,0\n"
        line = SimulatedLine(device("Device", 7, rows, timeout_s=0.5, retries=0), is_serial=False)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2)
                connection = running.session.pollers[0].connection
                line.fault = silent(7)
                before = running.tally("Device").timeouts
                while connection.openings == 1 and running.tally("Device").timeouts - before < 60:
                    await running.for_s(0.05)
                self.assertEqual((connection.openings, running.tally("Device").timeouts - before), (2, 6))

        run_virtual(work())

    def test_a_gateway_that_gave_up_late_is_told_for_both_of_its_codes(self) -> None:
        for code in (0x0A, 0x0B):
            line = SimulatedLine(device("Device", 7), is_serial=False)

            def late(frame: Frame, at: float, right: Pieces, code: int = code) -> Pieces:
                framing = line.exchanger().framing  # noqa: B023
                return [(at + 0.9, framing.encode(7, bytes((frame.pdu[0] | 0x80, code)), frame.transaction or 0))]

            async def work(line: SimulatedLine = line, late=late) -> list[str]:  # type: ignore[no-untyped-def]
                async with Running(line) as running:
                    line.fault = late
                    await running.for_s(5)
                    return [event.text for event in running.session.events.ring if event.kind is EventKind.GATEWAY]

            with self.subTest(code=code):
                self.assertIn("gave up 0.90 s after the request", run_virtual(work())[0])

    def test_what_goes_on_is_bounded_and_the_oldest_is_let_go(self) -> None:
        log = EventLog(lambda: 100.0)
        first = log.note(EventKind.EXCEPTION, "L", "D", "number 0", going_on=0)
        for number in range(1, 10_020):
            log.note(EventKind.EXCEPTION, "L", "D", f"number {number}", going_on=number)
        self.assertEqual(len(log.going_on), 10_000)
        self.assertEqual((first.ended_wall_s, first.how), (100.0, Ended.UNKNOWN))
        self.assertEqual(log.going_on[-1].text, "number 10019")


class Writing(unittest.TestCase):
    def test_an_order_that_waited_too_long_for_its_line_is_not_sent(self) -> None:
        async def work(rig: Controlled) -> None:
            for silent_s, state in ((4.0, State.DONE), (6.0, State.NOT_SENT)):
                rig.line.fault = lambda frame, at, right, late_s=silent_s: [(at + late_s, raw) for _, raw in right]
                await rig.running.for_s(0.3)  # the line waits for an answer now
                rig.line.fault = None
                wrote = len(rig.wrote)
                result = await rig.control.send(rig.order("Target", "5"))
                self.assertEqual(result.state, state, result.text)
                self.assertEqual(len(rig.wrote) - wrote, state is State.DONE)
            self.assertIn("it waited for its line for more than 5 s", result.text)

        controlled(work, drive(timeout_s=10.0))

    def test_another_bit_of_the_word_may_have_changed_meanwhile(self) -> None:
        async def work(rig: Controlled) -> None:
            await rig.control.send(rig.order("Command word", "Acknowledge"))  # 0080
            other = await rig.control.send(rig.order("Command word", "Open on", seen=b"\x00\x00"))
            self.assertTrue(other.is_equal, other.text)
            same = await rig.control.send(rig.order("Command word", "Open on", seen=b"\x00\x80"))
            self.assertEqual(same.needs, Consent.CHANGED, same.text)

        controlled(work)

    def test_a_broadcast_meets_whoever_holds_the_register_of_any_unit(self) -> None:
        async def work(rig: Controlled) -> None:
            await rig.control.alives.begin(Wish(order=rig.order("Target", "50"), period_s=0.5, safe=b"\0\0"))
            to_all = rig.order("Target", "5", unit_id=0, device="", points=()).with_consent(Consent.BROADCAST)
            wrote = len(rig.wrote)
            result = await rig.control.orders.send(to_all)
            self.assertEqual((result.state, result.needs), (State.NOT_SENT, Consent.HOLDER), result.text)
            elsewhere = await rig.control.orders.send(replace(to_all, address=4, data=b"\0\1"))
            self.assertTrue(elsewhere.is_done, elsewhere.text)
            self.assertFalse([pdu for pdu in rig.wrote[wrote:] if pdu[1:5] == b"\0\1\0\5"])

        controlled(work)


class Surveys(unittest.TestCase):
    def test_a_device_that_is_busy_is_asked_again_for_both_of_its_codes(self) -> None:
        for code in (5, 6):
            line = SimulatedLine(device("Device", 7, "name,table,address\nA,holding,3\n"))

            async def work(line: SimulatedLine = line, code: int = code) -> RegisterSurvey:
                exchanger = line.exchanger()
                await exchanger.open()
                asked: dict[bytes, int] = {}

                def busy(frame: Frame, at: float, right: Pieces, code: int = code) -> Pieces:
                    asked[frame.pdu] = asked.get(frame.pdu, 0) + 1
                    raw = Rtu().encode(7, bytes((frame.pdu[0] | 0x80, code)))
                    return [(at + 0.01, raw)] if asked[frame.pdu] == 1 else right

                line.fault = busy
                survey = RegisterSurvey(exchanger.ask, 7, (Table.HOLDING,), 0, 9, with_every=True)
                await survey.run()
                return survey

            with self.subTest(code=code):
                self.assertEqual(run_virtual(work()).tables[0].runs, [(3, 3)])

    def test_who_is_silent_takes_a_tenth_of_a_line_that_others_use(self) -> None:
        async def silence(unit_id: int, request: Request, timeout_s: float) -> Outcome:
            await asyncio.sleep(timeout_s)
            now = asyncio.get_running_loop().time()
            return Outcome(OutcomeKind.TIMEOUT, unit_id, b"", b"", None, now, now, 0.0, now, "nothing came")

        async def work() -> int:
            loop, sparing, times = asyncio.get_running_loop(), Sparing(silence), 0
            end_s = loop.time() + 100
            while loop.time() < end_s:
                await sparing(9, Read(Table.HOLDING, 0, 1), 0.5)
                times += 1
            return times

        times = run_virtual(work())
        self.assertLessEqual(0.5 * times, 0.1 * 100 + 1.6 + 1.0)  # and the first moment, and the last one
        self.assertGreater(0.5 * times, 0.1 * 100 - 1.0)


class Kept(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_what_goes_on_still_is_kept_however_long_ago_it_began(self) -> None:
        file = JournalFile(self.folder / "j.db", "a test", "Ada", 0)
        log = EventLog(lambda: 86_400.0)
        over = log.note(EventKind.NOTE, "", "", "long over")
        file.put([log.note(EventKind.DEVICE_LOST, "L", "D", "fell silent", going_on="lost"), over], {})
        file.prune(60 * 86_400_000_000, days=30)
        file.prune(60 * 86_400_000_000, days=30, most_bytes=0)
        self.assertEqual([event.text for event in events_of(file.path) if event.kind != "run"], ["fell silent"])
        file.end(0)

    def test_a_record_that_no_pruning_makes_small_enough_is_left(self) -> None:
        store = Store(f"sqlite:///{self.folder / 'r.db'}")
        span = store.begin_span(store.begin_run("S", "a test", "Ada", "here", 0), 1000)
        store.extend_span(span, 1005)
        store.commit()
        pruning = threading.Thread(target=store.prune, args=(2000, 400, 0), daemon=True)
        pruning.start()
        pruning.join(20)
        self.assertFalse(pruning.is_alive(), "it prunes for ever")

    def test_words_that_nobody_takes_are_bounded_counted_and_told_again(self) -> None:
        line = SimulatedLine(device("Device", 7, "name,table,address,type\nA,holding,0,text:200\n", period_s=0.1))
        sink = RecordSink()

        async def work() -> None:
            async with Running(line) as running:
                running.session.listen(sink)
                for number in range(100):
                    line.units.devices[0].put("A", f"{number:03d}" * 60)
                    await running.for_s(0.1)
                waiting = sum(len(row[2]) for message in sink.take() for row in message.get("rows", ()))
                self.assertLess(waiting, 3000)
                self.assertGreater(sink.lost, 50)
                lost = sink.lost
                line.units.devices[0].put("A", "at last")
                await running.for_s(0.3)
                rows = [row for message in sink.take() for row in message.get("rows", ())]
                self.assertTrue(bytes.fromhex(rows[-1][2]).startswith(b"at last"))
                self.assertEqual(sink.lost, lost)

        with unittest.mock.patch("kanaleto.history.recordsink.MOST_WAITING_BYTES", 2000):
            run_virtual(work())


if __name__ == "__main__":
    unittest.main()
