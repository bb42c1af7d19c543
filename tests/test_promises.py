"""What the engine promises, edits and faults or not: every request ends, what is switched off stays off, nothing grows,
nothing is taken for something else."""

import asyncio
import math
import time
import unittest
from concurrent.futures import CancelledError
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from kanaleto.board.board import Quality
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.lines.tcp import TcpChannel
from kanaleto.planning.plan import DerivedPlace
from kanaleto.polling.engine import Engine, EngineEnded
from kanaleto.polling.session import Session
from kanaleto.probing.question import untouchable
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.site.expression import BadExpression, FormulaMemory, compile_expression
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Derived, Device, DeviceLimits, Line, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import Read
from tests.simulated import Pieces, SimulatedLine, Wires, device, silent
from tests.test_polling import Running
from tests.virtual import run_virtual

ROWS = "name,table,address,type\n" + "".join(f"P{number},holding,{number},uint16\n" for number in range(6))
MORE = ROWS + "P9,holding,9,uint16\n"


def simulated(*devices: Device) -> SimulatedLine:
    """A line whose devices have more registers than is known of them."""
    line = SimulatedLine(
        *(
            replace(each_device, points=device(each_device.name, each_device.unit_id, MORE).points)
            for each_device in devices
        )
    )
    line.line = replace(line.line, devices=devices)
    return line


class OneOff(unittest.TestCase):
    """Every one-off request has its outcome."""

    def _asked(self, change: str) -> OutcomeKind:
        line = SimulatedLine(device("Device", 7))
        line.fault = silent(7)

        async def work() -> OutcomeKind:
            async with Running(line) as running:
                await running.for_s(0.1)
                session = running.session
                poller = session.pollers[0]
                first = poller.ask(7, Read(Table.HOLDING, 0, 1), 5.0)
                await running.for_s(1)
                second = poller.ask(7, Read(Table.HOLDING, 0, 1), 5.0)
                if change == "dropped":
                    session.take_over(Site("None left", ()))
                elif change == "moved":
                    session.take_over(Site("Moved", (replace(line.line, gap_s=0.2),)))
                elif change == "switched":
                    session.switch_line("Line", False)
                outcomes = await asyncio.wait_for(asyncio.gather(first, second), 1)
                third = await asyncio.wait_for(poller.ask(7, Read(Table.HOLDING, 0, 1), 5.0), 1)
                self.assertEqual({one.kind for one in (*outcomes, third)}, {OutcomeKind.UNREACHABLE})
                return third.kind

        return run_virtual(work())

    def test_when_the_line_is_dropped_edited_or_switched_off(self) -> None:
        for change in ("dropped", "moved", "switched"):
            with self.subTest(change):
                self._asked(change)

    def test_one_that_cannot_be_asked_is_its_askers_fault(self) -> None:
        for is_serial in (True, False):
            line = SimulatedLine(device("Device", 7), is_serial=is_serial)

            async def work(line: SimulatedLine) -> None:
                async with Running(line) as running:
                    await running.for_s(1)
                    poller = running.session.pollers[0]
                    for unit_id, table in ((256, Table.HOLDING), (999, Table.COIL), (-1, Table.INPUT)):
                        with self.assertRaisesRegex(ValueError, "unit IDs are 0…255"):
                            await poller.ask(unit_id, Read(table, 0, 1), 0.5)
                    await running.for_s(2)
                    self.assertEqual(running.reading("Device", "Level").quality, Quality.GOOD)

            run_virtual(work(line))

    def test_when_the_engine_ends(self) -> None:
        engine = Engine(Site("Nothing", (Line("L", TcpLink("127.0.0.1", 9), (device("D", 1),)),)))
        engine.start()

        async def for_ever() -> None:
            await asyncio.sleep(1000)

        asked = engine.run(for_ever())
        wrong = engine.do(lambda session: session.ask_device("Nobody"))
        with self.assertRaisesRegex(KeyError, "no device 'Nobody'"):
            wrong.result(10)
        self.assertEqual(engine.do(lambda session: session.count).result(10), engine.session.count)
        engine.stop()
        with self.assertRaises((EngineEnded, CancelledError)):
            asked.result(10)
        with self.assertRaises(EngineEnded):
            engine.do(lambda session: session.hold(True)).result(10)

    def test_a_host_that_cannot_be_ends_no_engine(self) -> None:
        async def work() -> None:
            for host in ("a..b", "x" * 80 + ".invalid", "nowhere.invalid"):
                with self.subTest(host), self.assertRaises(Unreachable):
                    await TcpChannel(TcpLink(host, 502), 2.0).open(lambda data, at: None, lambda why: None)

        asyncio.run(work())


class Edited(unittest.TestCase):
    def test_what_is_switched_off_stays_off(self) -> None:
        line = simulated(device("Device", 7, ROWS), device("Other", 8, ROWS))

        async def work() -> None:
            async with Running(line) as running:
                session = running.session
                await running.for_s(2)
                session.switch_points("Device", False, {"P2"})
                session.switch_points("Other", False)
                more = device("Device", 7, MORE)
                session.take_over(Site("Edited", (replace(line.line, devices=(more, line.line.devices[1])),)))
                line.requests.clear()
                await running.for_s(5)
                self.assertIn("switched off", running.reading("Device", "P2").reason)
                self.assertEqual(running.reading("Device", "P9").quality, Quality.GOOD)
                self.assertEqual({frame.unit_id for frame in line.requests}, {7})
                session.switch_line("Line", False)
                session.take_over(Site("Again", (replace(line.line, gap_s=0.1),)))
                line.requests.clear()
                await running.for_s(5)
                self.assertEqual((line.requests, session.pollers[0].is_off), ([], True))

        run_virtual(work())

    def test_words_mean_what_the_map_says_now_and_never_another_point(self) -> None:
        line = SimulatedLine(
            device("Device", 7, "name,table,address,type,initial\nA,holding,0,uint16,250\nB,holding,1,uint16,7\n")
        )

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(0.5)

                def edit(rows: str, **changes: Any) -> None:
                    each_device = replace(device("Device", 7, rows), **changes)
                    running.session.take_over(Site("Edited", (replace(line.line, devices=(each_device,)),)))

                edit("name,table,address,type,factor\nA,holding,0,uint16,0.1\nB,holding,1,uint16,\n")
                self.assertEqual([running.reading("Device", name).value for name in "AB"], [25.0, 7])
                edit("name,table,address,type\nB,holding,0,uint16\nA,holding,1,uint16\n")
                self.assertEqual([running.reading("Device", name).value for name in "AB"], [7, 250])
                edit("name,table,address,type\nA,holding,0,uint16\nB,holding,1,uint16\n", unit_id=9)  # somebody else
                self.assertEqual([running.reading("Device", name).value for name in "AB"], [None, None])

        run_virtual(work())

    def test_what_was_learned_while_a_plan_was_made_is_not_lost(self) -> None:
        line = SimulatedLine(device("Device", 7, ROWS))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2)
                session = running.session
                edited = Site("Edited", (replace(line.line, devices=(device("Device", 7, MORE),)),))
                making = session.planning(edited)
                session.switch_points("Device", False, {"P3"})
                session.take_over(edited, making())
                self.assertIn("switched off", running.reading("Device", "P3").reason)

        run_virtual(work())

    def test_lessons_survive_an_edit_of_another_row(self) -> None:
        def limited(frame: Frame, at: float, right: Pieces) -> Pieces:
            return right if frame.pdu[4] <= 4 else [(at + 0.01, line.exchanger().framing.encode(7, b"\x83\x03"))]

        line = simulated(device("Device", 7, ROWS))
        line.fault = limited

        async def work() -> None:
            async with Running(line) as running:
                session = running.session
                await running.for_s(60)
                learned = session.learned()
                self.assertEqual(learned, {"Device": {"max_registers": 4}})
                edited = replace(line.line, devices=(device("Device", 7, MORE),))
                session.take_over(Site("Edited", (edited,)))
                line.requests.clear()
                await running.for_s(30)
                self.assertEqual(session.learned(), learned)
                self.assertLessEqual(max(frame.pdu[4] for frame in line.requests), 4)

        run_virtual(work())

    def test_the_board_does_not_grow_with_lessons(self) -> None:
        line = SimulatedLine(device("Device", 7, ROWS))

        async def work() -> None:
            async with Running(line) as running:
                session = running.session
                await running.for_s(2)
                for turn in range(200):
                    session.switch_points("Device", bool(turn % 2), {f"P{turn // 2 % 6}"})
                self.assertLess(len(session.board.records), 8)
                await running.for_s(2)
                session.publish()
                before = session.snapshot
                session.switch_points("Device", False, {"P1"})
                session.publish()
                await running.for_s(3)
                place = before.place_of(("Device", "P5"))
                assert place is not None
                self.assertEqual(before.reading(place).value, 0)  # an old snapshot keeps its own board
                values = [running.reading("Device", f"P{number}") for number in (0, 2, 3, 4, 5)]
                self.assertEqual({reading.quality for reading in values}, {Quality.GOOD})

        run_virtual(work())

    def test_a_block_that_is_being_narrowed_down_says_so(self) -> None:
        line = SimulatedLine(device("Device", 7, ROWS, period_s=1.0))
        refused = line.exchanger().framing.encode(7, b"\x83\x02")
        line.fault = lambda frame, at, right: right if frame.pdu[4] <= 2 else [(at + 0.01, refused)]

        async def work() -> None:
            async with Running(line) as running:
                said = set()
                for _ in range(1500):
                    await running.for_s(0.001)
                    said.add((running.reading("Device", "P0").quality, running.reading("Device", "P0").reason))
                texts = [reason for quality, reason in said if quality is Quality.BAD]
                self.assertRegex(" ".join(texts), "6 registers in one request brought exception 2.*asked in parts")
                await running.for_s(10)
                self.assertEqual(running.reading("Device", "P0").quality, Quality.GOOD)

        run_virtual(work())


class Formulas(unittest.TestCase):
    def test_they_follow_a_replan_and_remember_through_it(self) -> None:
        line = SimulatedLine(
            device(
                "Device",
                7,
                "name,table,address,type,initial\nA,holding,0,uint16,5\nB,holding,1,uint16,7\nC,holding,2,uint16,9\n",
            )
        )
        derived = (
            Derived("Since", "time_in([Device/B] > 3)"),
            Derived("Both", "time_in([Device/B] == 0) + 100 * time_in([Device/C] == 9)"),
            Derived("Sum", "[Device/B] + [Device/C]"),
        )
        site = Site("S", (line.line,), None, derived)
        session = Session(site, line.exchanger)

        async def work() -> None:
            task = asyncio.create_task(session.run())

            def value(name: str) -> float:
                place = session.plan.place_of(("", name))
                assert isinstance(place, DerivedPlace)
                found = session.board.reading(place, asyncio.get_running_loop().time()).value
                assert isinstance(found, float)
                return found

            await asyncio.sleep(10)
            before = value("Since")
            self.assertGreater(before, 8)
            session.switch_points("Device", False, {"A"})  # B and C stand elsewhere now
            await asyncio.sleep(5)
            self.assertEqual(value("Sum"), 16)
            self.assertGreater(value("Since"), before + 4)
            self.assertGreater(value("Both"), 1300)  # each call counts for itself
            session.take_over(replace(site, name="Edited"))
            await asyncio.sleep(1)
            self.assertGreater(value("Since"), before + 5)
            task.cancel()

        run_virtual(work())

    def test_numbers_only_bounded_and_quick_to_refuse(self) -> None:
        for text in (
            "9**3999999**9", "().__class__", "[A].real", "'a' * 9", "lambda: 1", "__import__('os')", "1 if",
            "1_000_000j",
            "+".join("1" for _ in range(3000)), "-" * 200 + "1", "abs()", "min", "bit([A], 'None')", "f'{1}'",
            "True", "9" * 5000,
        ):  # fmt: skip
            with self.subTest(text[:40]), self.assertRaises((BadExpression, ArithmeticError)):
                start = time.monotonic()
                expression = compile_expression(text)
                expression.evaluate([1.0] * len(expression.names), FormulaMemory())
                self.assertLess(time.monotonic() - start, 1)

    def test_what_they_compute(self) -> None:
        labels = {"W": {0: "Ready", 3: "Fault"}}
        for text, values, expected in (
            ("2 ** 10 + 7 % 4", [], 1027), ("max([A], [B], 3)", [4, 9], 9), ("mean([A], [B])", [4, 9], 6.5),
            ("1 if [A] > 3 else 0", [4], 1),
            ("bit([W], 'Fault') + bit([W], 0)", [8], 1), ("round([A], 1)", [2.55], round(2.55, 1)),
            ("not [A]", [0], 1), ("sqrt([A])", [9], 3),
            ("[A] and [B]", [0, 5], 0), ("-[A] ** 2", [3], -9), ("[Device/A b] * [Device/A b]", [3], 9),
            ("3 < [A] <= 4", [4], 1),
        ):  # fmt: skip
            with self.subTest(text):
                expression = compile_expression(text, lambda name: labels.get(name, {}))
                self.assertEqual(expression.evaluate(values, FormulaMemory()), expected)

    def test_rises_and_falls(self) -> None:
        expression, memory = compile_expression("rises([A]) + 10 * falls([A]) + 100 * rises([A] > 1)"), FormulaMemory()
        self.assertEqual([expression.evaluate([value], memory) for value in (1, 0, 1, 2, 2, 0)], [0, 10, 1, 100, 0, 10])


class Devices(unittest.TestCase):
    def test_a_nan_in_a_block_is_that_points_alone(self) -> None:
        line = SimulatedLine(device("Device", 7, "name,table,address,type\nA,holding,0,float32\nB,holding,2,uint16\n"))
        line.fault = lambda frame, at, right: [
            (right[0][0], line.exchanger().framing.encode(7, bytes.fromhex("0306 7FC00000 0007")))
        ]

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(3)
                bad, good = running.reading("Device", "A"), running.reading("Device", "B")
                self.assertEqual((bad.quality, good.quality, good.value), (Quality.BAD, Quality.GOOD, 7))
                self.assertIn("NaN", bad.reason)
                self.assertFalse(isinstance(bad.value, float) and not math.isnan(bad.value))

        run_virtual(work())

    def test_a_connection_on_which_nobody_answers_any_more_is_made_again(self) -> None:
        line = SimulatedLine(device("Device", 7), is_serial=False)

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(3)
                first = line.channel._generation
                dead = [first]
                line.fault = lambda frame, at, right: [] if line.channel._generation in dead else right
                await running.for_s(30)
                self.assertGreater(line.channel._generation, first)
                self.assertEqual(running.reading("Device", "Level").quality, Quality.GOOD)

        run_virtual(work())

    def test_transaction_numbers_begin_anew_after_the_last(self) -> None:
        line = SimulatedLine(device("Device", 7), is_serial=False, delay_s=0.0)

        async def work() -> None:
            exchanger = line.exchanger()
            await exchanger.open()
            exchanger._transaction = 0xFFFD
            for _ in range(6):
                self.assertTrue((await exchanger.ask(7, Read(Table.HOLDING, 0, 1), 0.5)).is_good)
            numbers = [frame.transaction for frame in line.requests]
            self.assertEqual(numbers, [0xFFFE, 0xFFFF, 1, 2, 3, 4])

        run_virtual(work())

    def test_surveys_leave_alone_what_is_only_written_and_what_is_dangerous(self) -> None:
        rows = "name,table,address,type,access\n" + "".join(
            f"P{n},holding,{n},uint16,{'w' if n == 5 else 'r'}\n" for n in range(12)
        )
        points, _ = read_map(Path("m.csv"), rows, MapDefaults())
        each_device = Device("Device", 3, points, 0.5, 0, limits=DeviceLimits(never_read=((Table.HOLDING, 8, 9),)))
        self.assertEqual(untouchable(each_device), ((Table.HOLDING, 8, 9), (Table.HOLDING, 5, 5)))
        wires = Wires(each_device)

        async def work() -> None:
            exchanger = wires.opener(wires.link)
            await exchanger.open()
            survey = RegisterSurvey(exchanger.ask, 3, [Table.HOLDING], 0, 11, untouchable(each_device))
            await survey.run()
            self.assertEqual(survey.tables[0].runs, [(0, 4), (6, 7), (10, 11)])

        run_virtual(work())
        asked = [
            (int.from_bytes(frame.pdu[1:3]), int.from_bytes(frame.pdu[3:5]))
            for frame, _ in wires.requests
            if frame.pdu[0] == 3
        ]
        touched = {address for first, count in asked for address in range(first, first + count)}
        self.assertFalse(touched & {5, 8, 9})
