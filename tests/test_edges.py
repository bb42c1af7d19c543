"""More rules and bounds from both sides (`tests/mutantlist.py`): polling, control, surveys, what is kept."""

import asyncio
import json
import tempfile
import unittest
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

from msgspec.structs import replace

from kanaleto.analysis.movement import LEAST_BEFORE, WhatMoved
from kanaleto.board.board import Quality
from kanaleto.capture.jsonlines import _row
from kanaleto.capture.tape import MOST_ASIDE, aside_of, prune_aside
from kanaleto.control.alive import Wish
from kanaleto.control.snapshots import _read_row
from kanaleto.control.waits import registers_within
from kanaleto.control.wanted import CannotWrite, wanted
from kanaleto.editing.steps import _MOST_STEPS, Steps
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.simulation import _fifo
from kanaleto.history.query import History
from kanaleto.history.recording import BREAK_US, Recording
from kanaleto.history.store import Store
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.lines.readspan import split_reads
from kanaleto.probing.gently import Gently
from kanaleto.probing.hosts import MOST_HOSTS, parse_range
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.tables import TableSearch
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.serving.hearing import Hearing
from kanaleto.serving.network import NetworkServer
from kanaleto.site.counting import Numbering, OwnNumbering
from kanaleto.site.expression import _power
from kanaleto.site.links.link import SerialSettings
from kanaleto.site.links.parse import parse_link
from kanaleto.tables.csvtext import read_text_table
from kanaleto.tables.matching import guess_numbering, match_columns
from kanaleto.tui.shared.context import Stoppable
from kanaleto.tui.shared.elsewhere import begin_elsewhere
from kanaleto.unknown.reopened import Reopened
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import Read
from kanaleto.wire.records import MOST_FIFO
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from tests.controlled import Controlled, controlled
from tests.simulated import Pieces, SimulatedLine, device, silent
from tests.test_attacked import Own
from tests.test_orders import drive
from tests.test_polling import Running
from tests.test_types import point
from tests.virtual import run_virtual

_DAY_US = 86_400_000_000


class Sites(unittest.TestCase):
    def test_powers_stay_whole_while_they_are_small(self) -> None:
        self.assertEqual((_power(2, 100), _power(10, 18)), (2**100, 10**18))
        for base, exponent in ((2, 1_000_000), (10**300, 30)):
            with self.assertRaises(OverflowError):
                _power(base, exponent)

    def test_the_pause_between_frames_is_fixed_above_19200(self) -> None:
        for baud, gap_s in ((9600, 3.5 * 11 / 9600), (19200, 3.5 * 11 / 19200), (38400, 0.00175)):
            self.assertAlmostEqual(SerialSettings(baud).gap_s, gap_s, places=9)

    def test_an_address_before_the_first_of_a_maker_has_no_number(self) -> None:
        own_numbering = OwnNumbering(base=100, group=20, index=2)
        texts = [own_numbering.from_wire(address) for address in (100, 102, 120, 101, 98, 80)]
        self.assertEqual(texts, ["0.00", "0.01", "1.00", "wire 101", "wire 98", "wire 80"])

    def test_a_row_is_told_to_overlap_the_first_that_reaches_it(self) -> None:
        text = "name,table,address,type\nA,holding,0,uint64\nB,holding,2,uint32\nC,holding,3,uint16\n"
        _, faults = read_map(Path("m.csv"), text, MapDefaults())
        texts = [str(fault) for fault in faults]
        self.assertEqual(len(texts), 2)
        self.assertIn("B: overlaps 'A'", texts[0])
        self.assertIn("C: overlaps 'A'", texts[1])

    def test_a_queue_has_31_words_at_most(self) -> None:
        for count in (MOST_FIFO, MOST_FIFO + 1):
            texts: list[str] = []
            queue = _fifo("7", [1] * count, Numbering.PROTOCOL, lambda key, text, told=texts: told.append(text))  # type: ignore[misc]
            self.assertEqual((queue is None, len(texts)), (count > MOST_FIFO,) * 2)
        self.assertIn("32 words at 7, 31 are possible", texts[0])

    def test_a_table_counts_by_references_where_most_of_it_does(self) -> None:
        for texts, numbering in (
            (("40001", "40002", "7"), Numbering.REFERENCE),
            (("40001", "7", "8"), Numbering.ONE),
            (("40001", "0", "8"), Numbering.PROTOCOL),
        ):
            rows = "".join(f"P{at},{text}\n" for at, text in enumerate(texts))
            with self.subTest(texts):
                self.assertIs(guess_numbering(match_columns(read_text_table(f"name,address\n{rows}"))), numbering)

    def test_steps_are_bounded_in_number_and_the_last_ones_stay(self) -> None:
        steps = Steps()
        path = Path("m.csv")
        for number in range(_MOST_STEPS + 5):
            steps.note(f"edit {number}", {path: str(number)}, {path: str(number + 1)})
        self.assertEqual(len(steps._done), _MOST_STEPS)
        self.assertEqual(steps._done[-1].what, f"edit {_MOST_STEPS + 4}")


class Serving(unittest.TestCase):
    def test_a_strict_device_hears_no_frame_with_a_pause_in_it(self) -> None:
        strict = SimpleNamespace(is_strict=True, delimiter=10)
        request = Rtu().encode(7, bytes.fromhex("0300000001"))
        for silence_s, is_clean in ((0.0004, True), (0.01, False)):
            hearing = Hearing(strict, Rtu(), 0.02, 11 / 19200, 0.0)  # type: ignore[arg-type]
            self.assertEqual(hearing.take(request[:3], 1.0), [])
            self.assertEqual(hearing.take(request[3:], silence_s), [])
            (heard,) = hearing.settle()
            self.assertIs(heard.is_clean, is_clean)
            hearing.take(request, 1.0)  # a pause before a frame is none in it
            self.assertTrue(hearing.settle()[0].is_clean)

    def test_whoever_asks_and_reads_nothing_is_cut_off(self) -> None:
        async def work() -> list[str]:
            texts: list[str] = []
            server = NetworkServer(Own(), Tcp(), "127.0.0.1", 0)
            server.admission.on_client = texts.append
            await server.start()
            _, writer = await asyncio.open_connection("127.0.0.1", server.port, limit=1024)
            request = Tcp().encode(1, Read(Table.HOLDING, 0, 125).encode(), 1)
            with suppress(OSError, TimeoutError):
                for _ in range(2000):  # twenty times what is between the two
                    writer.write(request * 200)
                    await asyncio.wait_for(writer.drain(), 5)
                    if any("does not read" in line for line in texts):
                        break
            writer.transport.abort()
            await server.stop()
            return texts

        self.assertTrue(any("it asks and does not read the answers" in line for line in asyncio.run(work())))


class Polling(unittest.TestCase):
    def test_no_value_is_torn_by_a_limit(self) -> None:
        def spans(count: int, each: int, most: int) -> list[tuple[int, int]]:
            return [(read.address, read.count) for read in split_reads(Table.HOLDING, 0, count, each, most)]

        self.assertEqual(spans(8, 4, 6), [(0, 4), (4, 4)])
        self.assertEqual(spans(8, 2, 6), [(0, 6), (6, 2)])
        with self.assertRaisesRegex(ValueError, "does not fit one request"):
            spans(8, 4, 3)

    def test_powers_of_ten_from_minus_30_to_30(self) -> None:
        rows = "name,table,address,type,exponent\nV,holding,0,uint16,E\nE,holding,1,int16,\n"
        line = SimulatedLine(device("Device", 7, rows, period_s=0.1))

        async def work() -> None:
            async with Running(line) as running:
                line.units.devices[0].put("V", 3)
                for power, is_one in ((30, True), (31, False), (-30, True), (-31, False), (0, True)):
                    line.units.devices[0].put("E", power)
                    await running.for_s(0.5)
                    reading = running.reading("Device", "V")
                    self.assertEqual(reading.quality, Quality.GOOD if is_one else Quality.BAD, power)
                    if is_one:
                        self.assertAlmostEqual(float(reading.value) / (3 * 10.0**power), 1)  # type: ignore[arg-type]

        run_virtual(work())

    def test_a_clock_that_is_half_a_second_off_was_set(self) -> None:
        wall_s, now_s = 1000.0, 0.0
        clock = Clock(lambda: wall_s, lambda: now_s, lambda: now_s)
        for step_s, text in ((0.4, ""), (0.2, "forward by 0.6 s"), (-0.7, "back by 0.7 s"), (0.0, "")):
            wall_s, now_s = wall_s + step_s + 10, now_s + 10
            self.assertIn(text, clock.look())
            self.assertEqual(clock.look(), "", "it is anchored again")
            self.assertLess(abs(clock.now() - wall_s), 0.5)

    def test_a_watchdog_is_told_before_it_trips(self) -> None:
        for held_s, is_told in ((3.0, False), (4.6, True)):
            line = SimulatedLine(replace(device("Device", 7, period_s=0.2), watchdog_s=5.0))

            async def work(line: SimulatedLine = line, held_s: float = held_s) -> list[EventKind]:
                async with Running(line) as running:
                    await running.for_s(3)
                    running.session.hold(True)
                    await running.for_s(held_s)
                    running.session.hold(False)
                    await running.for_s(1)
                    return [event.kind for event in running.session.events.ring]

            self.assertEqual(run_virtual(work()), [EventKind.WATCHDOG] if is_told else [])

    def test_what_is_hardly_known_is_not_judged(self) -> None:
        """A point with fewer samples before than that is waited for, whatever it did since."""
        line = SimulatedLine(device("Device", 7, "name,table,address,type\nA,holding,0,uint16\n", period_s=1.0))

        async def work() -> None:
            async with Running(line) as running:
                session = running.session
                for samples, ranked in ((LEAST_BEFORE - 1, 0), (LEAST_BEFORE + 3, 1)):
                    while len(session.board.traces[0].read()) < samples:
                        await running.for_s(0.5)
                    session.publish()
                    moved = WhatMoved(session.snapshot)
                    line.units.devices[0].put("A", 100 + samples)
                    await running.for_s(1.1)
                    session.publish()
                    moved.look(session.snapshot)
                    self.assertEqual((len(moved.ranked()), moved.waiting), (ranked, 1 - ranked))

        run_virtual(work())


class Acting(unittest.TestCase):
    def test_what_is_kept_alive_outlives_silences_shorter_than_the_watchdog(self) -> None:
        async def work(rig: Controlled) -> None:
            wish = Wish(order=rig.order("Command word", "Enable"), period_s=0.5, safe=b"\0\0")
            kept, result = await rig.control.alives.begin(wish)
            assert kept is not None, result.text
            for silent_s, is_over in ((2.0, False), (9.0, True)):
                rig.line.fault = silent(7)
                await rig.running.for_s(silent_s)
                rig.line.fault = None
                await rig.running.for_s(2)
                self.assertIs(kept.is_over, is_over, kept.state.said)

        controlled(work, drive(watchdog_s=5.0))

    def test_a_period_as_long_as_the_watchdog_keeps_nothing_quiet(self) -> None:
        async def work(rig: Controlled) -> None:
            for period_s, begins in ((2.0, False), (2.5, False), (0.5, True)):
                wish = Wish(order=rig.order("Command word", "Enable"), period_s=period_s, safe=b"\0\0")
                kept, result = await rig.control.alives.begin(wish)
                self.assertIs(kept is not None, begins, result.text)
                if not begins:
                    self.assertIn("does not keep a watchdog of 2 s quiet", result.text)

        controlled(work, drive(watchdog_s=2.0))

    def test_reads_that_are_split_are_over_in_time_also_where_the_device_thinks(self) -> None:
        rows = "name,table,address,type\nA,holding,0,text:200\n"
        line = SimulatedLine(device("Device", 7, rows), delay_s=0.06)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(5)
                poller = running.session.pollers[0]
                for may_s in (0.15, 0.2):
                    count = registers_within(poller, may_s)
                    assert count is not None
                    outcome = await poller.ask(7, Read(Table.HOLDING, 0, count), 0.5, line.line.devices[0])
                    self.assertLessEqual(outcome.done_at - outcome.asked_at, may_s, count)
                self.assertIsNone(registers_within(poller, 0.06))

        run_virtual(work())

    def test_the_ends_of_a_range_may_be_written(self) -> None:
        each_point = point("int16,0.1,-5,10,rw", "type,factor,range_low,range_high,access")
        self.assertEqual(
            [wanted(each_point, text).data for text in ("-5", "10")], [(-50).to_bytes(2, signed=True), b"\0d"]
        )
        for text, says in (("-5.1", "is below -5"), ("10.1", "is above 10")):
            with self.assertRaisesRegex(CannotWrite, says):
                wanted(each_point, text)

    def test_a_word_of_bits_has_sixteen(self) -> None:
        each_point = point("bits,0=A;3=B,rw", "type,labels,access")
        self.assertEqual(wanted(each_point, "0xFFFF").data, b"\xff\xff")
        for text in ("0x10000", "65536"):
            with self.assertRaises(CannotWrite):
                wanted(each_point, text)

    def test_rows_of_a_snapshot_stand_at_addresses_of_the_wire(self) -> None:
        row = {"table": "holding", "device": "D", "words": "0001"}
        self.assertEqual(_read_row({**row, "address": "65535"}, 2).address, 65535)
        for address in ("65536", "-1", "", "1.5", "٣"):
            with self.assertRaisesRegex(ValueError, "is not the wire's"):
                _read_row({**row, "address": address}, 2)


class Surveys(unittest.TestCase):
    def test_ranges_of_hosts_have_an_end(self) -> None:
        self.assertEqual(len(parse_range("192.0.0.0-192.0.15.255")[0]), MOST_HOSTS)
        with self.assertRaises(ValueError):
            parse_range("192.0.0.0-192.0.16.0")

    def test_a_unit_of_which_some_answers_come_garbled_is_asked_again(self) -> None:
        for times in (2, 3, 9):
            line = SimulatedLine(device("Device", 7, "name,table,address\nA,holding,3\n"))
            asked: dict[bytes, int] = {}

            def spoilt(frame: Frame, at: float, right: Pieces, times: int = times, asked=asked) -> Pieces:  # type: ignore[no-untyped-def]
                asked[frame.pdu] = asked.get(frame.pdu, 0) + 1
                spoils = frame.pdu[1:] == b"\0\3\0\1" and asked[frame.pdu] <= times
                return [(when, raw[:-1] + bytes((raw[-1] ^ 0xFF,)) if spoils else raw) for when, raw in right]

            async def work(line: SimulatedLine = line, spoilt=spoilt) -> RegisterSurvey:  # type: ignore[no-untyped-def]
                exchanger = line.exchanger()
                await exchanger.open()
                line.fault = spoilt
                survey = RegisterSurvey(exchanger.ask, 7, (Table.HOLDING,), 0, 9, with_every=True)
                await survey.run()
                return survey

            with self.subTest(times=times):
                if times < 4:
                    self.assertEqual(run_virtual(work()).tables[0].runs, [(3, 3)])
                else:
                    with self.assertRaisesRegex(SurveyStopped, "keep coming garbled"):
                        run_virtual(work())

    def test_another_master_is_who_answers_often_within_a_short_time(self) -> None:
        strays = SimpleNamespace(unasked=0, late=0)
        fake = SimpleNamespace(
            traffic=SimpleNamespace(strays=strays), keep_apart=lambda apart_s: None,
            framing=SimpleNamespace(has_transactions=False),
        )  # fmt: skip
        for every_s, is_another in ((3.0, True), (6.0, False)):
            link = parse_link("tcp://192.0.2.1")
            reopened = Reopened(link, lambda link: fake, lambda: None, Gently(link))  # type: ignore[arg-type, return-value]

            def hear(reopened: Reopened = reopened, every_s: float = every_s) -> None:
                for number in range(12):
                    at = 1000.0 + every_s * number
                    outcome = Outcome(OutcomeKind.UNEXPECTED, 7, b"", b"", None, at, at, at, at, "unit 8 answered")
                    reopened._hear_others(outcome)

            if is_another:
                self.assertRaisesRegex(SurveyStopped, "somebody else has begun to talk", hear)
            else:
                hear()

    def test_a_request_ends_before_what_wants_care_and_before_what_must_not_be_touched(self) -> None:
        table = TableSearch(Table.HOLDING, 0, 99, ((Table.HOLDING, 40, 41),))
        table.take_care(10, 20)
        for first, count, due in ((5, 10, 5), (5, 5, 5), (30, 20, 10), (40, 2, 0), (41, 2, 0), (42, 90, 58)):
            self.assertEqual(table._touchable(first, count), due, (first, count))
        self.assertLess(table._touchable(10, 30), 12)


class Kept(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.url = f"sqlite:///{self.folder / 'r.db'}"

    def test_a_time_that_lasts_beyond_what_is_pruned_is_kept_from_there_on(self) -> None:
        store = Store(self.url)
        run = store.begin_run("S", "a test", "Ada", "here", 0)
        for begun, last in ((0, 10), (20, 90)):
            store.extend_span(store.begin_span(run, begun * _DAY_US), last * _DAY_US)
        store.commit()
        store.prune(100 * _DAY_US, 50, 10**9)
        store.close()
        with closing(History(self.url)) as history:
            self.assertEqual(list(history.span_bounds().values()), [(50 * _DAY_US, 90 * _DAY_US)])

    def test_a_clock_that_is_set_back_begins_another_time(self) -> None:
        store = Store(self.url)
        at_us = 1000 * BREAK_US
        recording = Recording(store, "S", "a test", "Ada", "here", at_us)
        for step, spans in ((0.9, 1), (-0.9, 1), (1.5, 2), (-1.5, 3), (0.1, 3)):
            at_us += round(step * BREAK_US)
            recording._look_at(at_us)
            recording.beat_us = at_us
            recording.commit()
            with closing(History(self.url)) as history:
                self.assertEqual(len(history.span_bounds()), spans, step)
        store.close()

    def test_a_row_of_a_capture_has_a_unit_id_that_there_is(self) -> None:
        row = {"at": "2026-01-01T00:00:00Z", "line": "L", "outcome": "good", "request": "0703"}
        self.assertEqual(_row({**row, "unit_id": 255}, {}).unit_id, 255)
        for unit_id in (256, -1):
            with self.assertRaisesRegex(ValueError, "is not in 0…255"):
                _row(json.loads(json.dumps({**row, "unit_id": unit_id})), {})

    def test_so_many_are_laid_aside_and_the_newest_stay(self) -> None:
        names = [f"20260101-0000{number:02d}-000000" for number in range(MOST_ASIDE + 3)]
        (self.folder / "aside").mkdir()
        for name in names:
            (self.folder / "aside" / f"{name}.tape").write_bytes(b"x")
        prune_aside(self.folder)
        self.assertEqual(sorted(path.stem for path, _ in aside_of(self.folder)), names[-MOST_ASIDE:])


if __name__ == "__main__":
    unittest.main()


class Elsewhere(unittest.TestCase):
    """What takes its time, on a thread."""

    def _done(self, work: Callable[[], str], then: Callable[[], None] | None = None) -> tuple[Stoppable, mock.Mock]:
        context = mock.Mock()
        context.later.side_effect = lambda what: what()
        done = begin_elsewhere(context, "some work", "working …", work, (KeyError,), then)
        done.exception(10)
        return done, context

    def test_it_is_told_refused_or_a_fault_and_never_waited_for_in_vain(self) -> None:
        done, context = self._done(lambda: "it is done")
        self.assertIsNone(done.exception())
        context.tell.assert_called_with("it is done")

        def refuse() -> str:
            raise KeyError("no such thing")

        def fail() -> str:
            raise ZeroDivisionError("an internal error")

        for work, text in ((refuse, "no such thing"), (fail, "a fault of this program: ZeroDivisionError")):
            with mock.patch("kanaleto.tui.shared.elsewhere.report"):
                done, context = self._done(work)
            self.assertIsNotNone(done.exception())
            self.assertIn(text, context.trouble.call_args.args[1])
