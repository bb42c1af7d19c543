"""The scratch reading, a device's own settings as they are read, other readings from what was polled, and surveys kept
on disk."""

import asyncio
import io
import json
import os
import random
import re
import struct
import tempfile
import time
import unittest
import unittest.mock
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.analysis.readings import off_by_one, other_readings, samples_of, verdict, window, with_present
from kanaleto.board.board import Board, Record
from kanaleto.cli.find import parse_units
from kanaleto.cli.progress import Progress
from kanaleto.finding.scratch import ScratchQuestion, ScratchReader, ScratchState
from kanaleto.planning.plan import plan_site
from kanaleto.polling.once import read_once
from kanaleto.polling.session import Session
from kanaleto.probing.known import words_of_runs
from kanaleto.probing.own_settings import read_own_settings
from kanaleto.probing.pace import Pace
from kanaleto.probing.question import MayNotTouch, first_question, is_forbidden
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.surveyfile import kept_of, load_survey, save_survey
from kanaleto.site.counting import Numbering
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import DeviceLimits, Line, Site
from kanaleto.site.ranges import parse_range
from kanaleto.values.candidates import PRESENT
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import Read, Refused
from tests.simulated import Pieces, SimulatedLine, Wires, device
from tests.virtual import run_virtual

MAP = "name,table,address,initial\nA,holding,4,10\nB,holding,5,65535\nLamp,coil,0,1\nOther,coil,1,0\n"


def read_for(wires: Wires, question: ScratchQuestion, for_s: float, **options: object) -> list[ScratchState]:
    """The states of a scratch reading, one every tenth of a second."""

    async def work() -> list[ScratchState]:
        exchanger = wires.opener(wires.link)
        await exchanger.open()
        reader = ScratchReader(wires.link, question, polled=lambda: exchanger.ask, wall=lambda: 7.0, **options)  # type: ignore[arg-type]
        task = asyncio.create_task(reader.run())
        states = []
        for _ in range(int(for_s * 10)):
            await asyncio.sleep(0.1)
            states.append(reader.state)
        task.cancel()
        return states

    return run_virtual(work())


class Scratch(unittest.TestCase):
    def test_words_come_again_and_again_and_what_changed_is_marked(self) -> None:
        wires = Wires(device("Pump", 3, MAP))
        pump = wires.units.devices[0]

        def moving(frame: Frame, at: float, right: Pieces) -> Pieces:
            pump.put("A", int(at) % 100)
            return right

        wires.fault = moving
        states = read_for(wires, ScratchQuestion(3, Table.HOLDING, 4, 2, 0.5), 4)
        last = states[-1]
        self.assertEqual((last.values[1], last.error, last.wall_s), (65535, "", 7.0))
        self.assertGreaterEqual(last.reads, 7)
        self.assertTrue(any(state.changed == {4} for state in states))
        self.assertFalse(any(5 in state.changed for state in states))

    def test_bits_too_and_a_period_of_0_reads_once(self) -> None:
        states = read_for(Wires(device("Pump", 3, MAP)), ScratchQuestion(3, Table.COIL, 0, 2, 0.0), 2)
        self.assertEqual((states[-1].values, states[-1].reads), ((1, 0), 1))

    def test_refusals_silence_and_wrong_questions_are_told(self) -> None:
        for question, reason in (
            (ScratchQuestion(3, Table.HOLDING, 40, 2, 0.5), "illegal data address"),
            (ScratchQuestion(9, Table.HOLDING, 4, 2, 0.5), "nothing came"),
            (ScratchQuestion(3, Table.HOLDING, 4, 126, 0.5), "reads 1…125"),
            (ScratchQuestion(3, Table.HOLDING, 65535, 2, 0.5), "past the last address"),
            (ScratchQuestion(300, Table.HOLDING, 4, 2, 0.5), "unit IDs are"),
        ):
            with self.subTest(reason):
                self.assertIn(reason, read_for(Wires(device("Pump", 3, MAP)), question, 3)[-1].error)

    def test_what_must_never_be_touched_is_not_asked(self) -> None:
        wires = Wires(device("Pump", 3, MAP))
        last = read_for(wires, ScratchQuestion(3, Table.HOLDING, 4, 2, 0.2), 2, never=((Table.HOLDING, 5, 5),))[-1]
        self.assertIn("never be read", last.error)
        self.assertEqual(wires.requests, [])

    def test_a_lost_line_is_told_and_tried_again(self) -> None:
        wires = Wires(device("Pump", 3, MAP))

        async def work() -> tuple[str, ScratchState]:
            exchanger = wires.opener(wires.link)
            await exchanger.open()
            reader = ScratchReader(
                wires.link, ScratchQuestion(3, Table.HOLDING, 4, 2, 0.2), polled=lambda: exchanger.ask
            )
            task = asyncio.create_task(reader.run())
            await asyncio.sleep(1)
            wires.channels[-1].break_off("the far end hung up or was unplugged")
            await asyncio.sleep(1)
            lost = reader.state.error
            wires.channels[-1].why_unreachable = None
            await exchanger.open()
            await asyncio.sleep(1)
            task.cancel()
            return lost, reader.state

        lost, last = run_virtual(work())
        self.assertIn("unplugged", lost)
        self.assertEqual((last.error, last.values), ("", (10, 65535)))

    @given(st.integers(0, 65535), st.integers(1, 125), st.integers(-9, 9), st.integers(-200, 200))
    def test_steps_and_widths_stay_within_the_addresses(self, address: int, count: int, groups: int, by: int) -> None:
        start = ScratchQuestion(1, Table.HOLDING, min(address, 65536 - count), count)
        for question in (start.step(groups), start.widen(by), start.step(groups).widen(by).step(-groups)):
            self.assertEqual(question.wrong(), "")


class OwnSettings(unittest.TestCase):
    def test_marked_registers_are_read_and_nothing_else(self) -> None:
        rows = "Unit,holding,0,unit_id,8\nRate,holding,1,baud,96\nElse,holding,2,,5\nStop,holding,3,stop,1\n"
        pump = device("Pump", 8, "name,table,address,setting,initial\n" + rows)
        pump = replace(pump, limits=DeviceLimits(never_read=((Table.HOLDING, 3, 3),)))
        wires = Wires(pump)

        async def work() -> list[tuple[str, bool | None]]:
            exchanger = wires.opener(wires.link)
            await exchanger.open()
            return [
                (own_setting.text, own_setting.agrees)
                for own_setting in await read_own_settings(exchanger.ask, Line("W", wires.link, (pump,)), pump)
            ]

        told = run_virtual(work())
        self.assertEqual([agrees for _, agrees in told], [True, False, None])
        self.assertIn("may never be read", told[2][0])
        self.assertEqual([int.from_bytes(frame.pdu[1:3]) for frame, _ in wires.requests], [0, 1])

    def test_a_register_that_is_refused_is_told(self) -> None:
        pump = device("Pump", 8, "name,table,address,setting\nUnit,holding,0,unit_id\n")
        wires = Wires(pump)

        def refuse(frame: Frame, at: float, right: Pieces) -> Pieces:
            raw = wires.opener(wires.link).framing.encode(8, Refused(3, 4).encode())
            return [(at + 0.01, raw)]

        wires.fault = refuse

        async def work() -> str:
            exchanger = wires.opener(wires.link)
            await exchanger.open()
            return (await read_own_settings(exchanger.ask, Line("W", wires.link, (pump,)), pump))[0].text

        self.assertIn("could not be read: exception 4", run_virtual(work()))


class Readings(unittest.TestCase):
    def setUp(self) -> None:
        rows = "Before,holding,9,uint16,\nFlow,holding,10,float32,CDAB\nAfter,holding,12,uint16,\nLamp,coil,0,,\n"
        pump = device("Pump", 1, "name,table,address,type,order\n" + rows)
        self.plan = plan_site(Site("S", (Line("L", TcpLink("192.0.2.1", 502), (pump,)),)))
        self.places = {place.point.name: place for place in self.plan.places}
        self.board = Board(self.plan)
        block = self.places["Flow"].block
        assert block is not None
        for number in range(30):
            data = bytes.fromhex("0007") + bytes.fromhex("4020") + bytes((number % 3, 0)) + bytes.fromhex("0009")
            self.board.put(block.index, Record(data, block.decoder.decode(data), float(number), 0.0))

    def test_the_samples_are_the_last_ones_and_windows_those_that_were_read(self) -> None:
        samples = samples_of(self.board, self.places["Flow"])
        self.assertLessEqual(len(samples), 21)
        self.assertEqual(window(samples[-1:], 10, 2)[0][:2].hex(), "4020")
        self.assertEqual(window(samples, 8, 2), [])
        self.assertEqual(window(samples, 12, 2), [])
        self.assertEqual(samples_of(self.board, self.places["Lamp"]), [])

    def test_what_the_display_says_comes_first(self) -> None:
        found = other_readings(self.board, self.places["Flow"], "2.5")
        step, best = found[0]
        self.assertEqual((step, best.title, best.agrees), (0, "float32 ABCD", True))
        self.assertIn("float32 ABCD agrees", verdict(found, "2.5"))
        self.assertIn(
            "nothing here reads 77.7", verdict(other_readings(self.board, self.places["Flow"], "77.7"), "77.7")
        )

    def test_a_neighbour_that_agrees_is_named(self) -> None:
        found = other_readings(self.board, self.places["Before"], "16416")
        self.assertIn("one address up", verdict(found, "16416"))

    def test_in_a_drafted_map_a_float_comes_first_without_a_display(self) -> None:
        """Every register a point of its own, as a survey drafts them: what stands beside it says nothing."""
        rows = "".join(f"Holding {at},holding,{at},uint16,0\n" for at in range(100, 112))
        pump = device("Pump", 1, "name,table,address,type,sure\n" + rows)
        self.assertEqual({point.sure for point in pump.points}, {0.0})
        plan = plan_site(Site("S", (Line("L", TcpLink("192.0.2.1", 502), (pump,)),)))
        board = Board(plan)
        places = {place.point.name: place for place in plan.places}
        block = places["Holding 100"].block
        assert block is not None
        chance = random.Random(4)
        for number in range(20):
            levels = [21.4 + chance.gauss(0, 0.2), 3.7 + chance.gauss(0, 0.01), 480 + chance.gauss(0, 4)]
            data = b"".join(struct.pack(">f", level)[2:] + struct.pack(">f", level)[:2] for level in levels)
            data += struct.pack(">HHIH", 2310 + round(chance.gauss(0, 3)), 16, 65500 + 5 * number, 0x0900)
            data += struct.pack(">h", -12 + round(chance.gauss(0, 2)))
            board.put(block.index, Record(data, block.decoder.decode(data), float(number), 0.0))
        first = {
            at: other_readings(board, places[f"Holding {at}"])[0][1].title for at in (100, 102, 104, 106, 108, 111)
        }
        self.assertEqual(
            first,
            {
                100: "float32 CDAB",
                102: "float32 CDAB",
                104: "float32 CDAB",
                106: "uint16",
                108: "uint32 ABCD",
                111: "int16",
            },
        )

    def test_fits_fall_along_the_list(self) -> None:
        fits = [candidate.fit for _, candidate in other_readings(self.board, self.places["Flow"])]
        self.assertEqual(fits, sorted(fits, reverse=True))

    def test_the_present_reading_comes_first_and_its_scale_goes_with_it(self) -> None:
        rows = "Level,holding,10,uint16,AB,0.1,m\nCount,holding,11,uint32,CDAB,,\n"
        pump = device("Pump", 1, "name,table,address,type,order,factor,unit\n" + rows)
        plan = plan_site(Site("S", (Line("L", TcpLink("192.0.2.1", 502), (pump,)),)))
        board, (level, count) = Board(plan), plan.places
        assert level.block is not None
        for number in range(20):
            data = struct.pack(">HHH", 2000 + number, 3, 0)
            board.put(level.block.index, Record(data, level.block.decoder.decode(data), float(number), 0.0))
        found = with_present(other_readings(board, level), board, level)
        titles = [(one.title, one.value) for step, one in found if one.codec.registers == 1][:2]
        self.assertEqual(titles, [("uint16", 201.9), ("int16", 201.9)])
        self.assertEqual(found[0][1].text, PRESENT)
        self.assertEqual([one.title for _, one in found].count("uint16"), 1)
        wide = next(one for _, one in found if one.title == "uint32 ABCD")
        self.assertIsNone(wide.codec.scale)
        first = {display: with_present(other_readings(board, level, display), board, level, display)[0][1]
                 for display in ("201.9", "2019", "77.7")}  # fmt: skip
        self.assertEqual([(one.title, one.text == PRESENT) for one in first.values()],
                         [("uint16", True), ("uint16", False), ("uint16", True)])  # fmt: skip
        found = with_present(other_readings(board, count), board, count)
        self.assertEqual((found[0][1].title, found[0][1].value), ("uint32 CDAB", 3))

    def test_the_words_one_address_up_and_down(self) -> None:
        self.assertEqual([step for step, _ in off_by_one(self.board, self.places["Flow"])], [-1, 0, 1])
        self.assertEqual([step for step, _ in off_by_one(self.board, self.places["Before"])], [0, 1])

    def test_what_was_not_read_along_is_asked_once_unless_forbidden(self) -> None:
        pump = device("Pump", 1, "name,table,address,initial\nA,holding,4,10\n")
        pump = replace(pump, limits=DeviceLimits(never_read=((Table.HOLDING, 5, 5),)))
        line = SimulatedLine(pump, is_serial=False)
        session = Session(line.site, line.exchanger)

        async def work() -> list[tuple[bytes | None, str]]:
            task = asyncio.create_task(session.run())
            await asyncio.sleep(1)
            answers = [await read_once(session, next(session.plan.places), step) for step in (-5, -1, 0, 1)]
            task.cancel()
            return answers

        answers = run_virtual(work())
        self.assertEqual(answers[0], (None, "there is no such address"))
        self.assertIn("illegal data address", answers[1][1])
        self.assertEqual(answers[2], (b"\0\x0a", ""))
        self.assertEqual(answers[3], (None, "never_read covers it"))


class Kept(unittest.TestCase):
    def test_a_survey_goes_to_disk_and_back(self) -> None:
        async def nobody(unit: int, request: object, timeout_s: float) -> object:
            raise AssertionError("nothing is asked here")

        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.json"
            survey = RegisterSurvey(nobody, 4, tables=(Table.HOLDING, Table.COIL), last=200)  # type: ignore[arg-type]
            survey.tables[0].restore([(0, 9), (40, 47)], [(10, 39)])
            survey.tables[0].most = 48
            survey.tables[1].dangerous, survey.functions = [(7, 7)], {3: True, 17: False}
            save_survey(path, "tcp://192.0.2.1:502", survey)
            again = RegisterSurvey(nobody, 4)  # type: ignore[arg-type]
            load_survey(path, "tcp://192.0.2.1:502", again)
            self.assertEqual(kept_of(again), kept_of(survey))
            self.assertEqual(again.tables[0].runs, [(0, 9), (40, 47)])
            self.assertTrue(again.tables[0].is_known(39) and not again.tables[0].is_known(48))
            for text, reason in (
                ("{}", "no survey"),
                ("[1]", "no survey"),
                ("what", "no survey"),
                (json.dumps({"link": "x", "unit_id": 9}), "not of this"),
            ):
                path.write_text(text)
                with self.subTest(text), self.assertRaisesRegex(ValueError, reason):
                    load_survey(path, "tcp://192.0.2.1:502", again)

    def test_runs_in_words(self) -> None:
        self.assertEqual(words_of_runs([(0, 17), (40, 40), (101, 104)]), "0–17, 40, 101–104")


class Small(unittest.TestCase):
    def test_ranges_of_units_and_addresses(self) -> None:
        self.assertEqual(parse_units("1-3, 41,2"), [1, 2, 3, 41])
        for wrong in ("", "a", "3-1", "256", "1-", "-4"):
            with self.subTest(wrong), self.assertRaises(ValueError):
                parse_units(wrong)
        self.assertEqual(parse_range("holding 40001-40003", Numbering.REFERENCE), (Table.HOLDING, 0, 2))
        for wrong in ("holding", "pump 3", "holding 4-3", "holding 70000", "holding 1 2"):
            with self.subTest(wrong), self.assertRaises(ValueError):
                parse_range(wrong, Numbering.PROTOCOL)

    def test_the_first_question_avoids_what_must_not_be_touched(self) -> None:
        self.assertEqual(first_question(), Read(Table.HOLDING, 0, 1))
        self.assertEqual(first_question(((Table.HOLDING, 0, 9), (Table.HOLDING, 10, 10))), Read(Table.HOLDING, 11, 1))
        self.assertEqual(first_question(((Table.HOLDING, 0, 65535),)), Read(Table.INPUT, 0, 1))
        with self.assertRaises(MayNotTouch):
            first_question(((Table.HOLDING, 0, 65535), (Table.INPUT, 0, 65535)))
        self.assertTrue(is_forbidden(((Table.COIL, 3, 5),), Table.COIL, 0, 3))
        self.assertFalse(is_forbidden(((Table.COIL, 3, 5),), Table.HOLDING, 0, 9))

    def test_the_pace_shrinks_and_grows_back(self) -> None:
        pace = Pace(0.5)
        pace.note_answer(0.02)
        self.assertAlmostEqual(pace.timeout_s, 0.09)
        pace.note_answer(0.001)
        self.assertAlmostEqual(pace.timeout_s, 0.09)
        pace.note_late(0.4)
        self.assertAlmostEqual(pace.timeout_s, 0.6)
        pace.note_answer(0.01)
        self.assertAlmostEqual(pace.timeout_s, 0.6)
        pace.note_late()
        self.assertAlmostEqual(pace.timeout_s, 1.2)
        self.assertEqual(Pace(0.02).timeout_s, 0.02)

    def test_a_bar_is_drawn_on_a_terminal_alone(self) -> None:
        class Screen(io.StringIO):
            def isatty(self) -> bool:
                return True

        screen, pipe = Screen(), io.StringIO()
        for out in (screen, pipe):
            with unittest.mock.patch.dict(os.environ, {"TERM": "xterm-256color", "COLUMNS": "100"}):
                bar = Progress(out)
                bar(0.5, 12, "unit 41")
                bar.done()
        drawn = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", screen.getvalue())
        self.assertRegex(drawn, r"50 % +about 12 s left +unit 41")
        self.assertEqual(pipe.getvalue(), "")
        self.assertRegex(screen.getvalue(), r"\x1b\[2K$")  # it takes itself away

    def test_what_lasts_has_its_end_from_two_seconds_on(self) -> None:
        class Screen(io.StringIO):
            def isatty(self) -> bool:
                return True

        def drawn(lasts_s: float | None, waits_s: float) -> str:
            screen = Screen()
            with Progress(screen).during(lasts_s, "report.pdf is made"):
                time.sleep(waits_s)
            return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", screen.getvalue())

        with unittest.mock.patch.dict(os.environ, {"TERM": "xterm-256color", "COLUMNS": "100"}):
            self.assertEqual("", drawn(30, 0.3))
            self.assertRegex(drawn(60, 2.8), r"about 5\d s left +report.pdf is made")
            self.assertRegex(drawn(None, 2.8), r"report.pdf is made, for 2 s")
            pipe = io.StringIO()
            with Progress(pipe).during(1, "nothing"):
                time.sleep(2.5)
            self.assertEqual("", pipe.getvalue())
            screen = Screen()
            bar = Progress(screen)
            bar.step(1, 4, "Pump asked")
            self.assertEqual("", screen.getvalue())
            bar._begun_s -= 10
            bar.step(1, 4, "Pump asked")
            bar.done()
            self.assertRegex(screen.getvalue(), r"about 30 s left")
