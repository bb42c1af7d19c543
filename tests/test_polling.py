"""Polling on a virtual clock: blocks, periods, quality, silence, recovery."""

import asyncio
import os
import struct
import unittest
import unittest.mock

from msgspec.structs import replace

from kanaleto.board.board import Quality, Reading
from kanaleto.board.health import SLICES, Water, Worst
from kanaleto.board.world import HOLES_AGAIN_S
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind
from kanaleto.evidence.finding import FindingKind
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.lines.portcounters import PortCounters, port_text, read_counters
from kanaleto.planning.plan import plan_site
from kanaleto.polling.owncounters import OwnCounters, counters_text, own_counters
from kanaleto.polling.session import Session
from kanaleto.site.model import DeviceLimits, Site
from kanaleto.tui.shared.words import device_phrase, device_state, line_phrase
from kanaleto.wire.codes import Table
from kanaleto.wire.diagnostics import Diagnostic
from kanaleto.wire.pdu import Read, WriteRegister
from tests.exchanges import named
from tests.simulated import SimulatedLine, device, silent
from tests.virtual import run_virtual


class Running:
    """A session on a virtual clock; `for_s` lets time pass."""

    def __init__(self, line: SimulatedLine) -> None:
        self.line = line
        self.session = Session(line.site, line.exchanger, clock=Clock(None))

    async def __aenter__(self) -> "Running":
        self._task = asyncio.create_task(self.session.run())
        await asyncio.sleep(0)
        return self

    async def __aexit__(self, *arguments: object) -> None:
        if self._task.done():
            self._task.result()
        self._task.cancel()
        await asyncio.gather(self._task, return_exceptions=True)

    async def for_s(self, seconds: float) -> None:
        await asyncio.sleep(seconds)

    def reading(self, device_name: str, point_name: str) -> Reading:
        (place,) = [p for p in self.session.plan.places if (p.device.name, p.point.name) == (device_name, point_name)]
        return self.session.board.reading(place, asyncio.get_running_loop().time())

    def tally(self, name: str):  # type: ignore[no-untyped-def]
        return self.session.pollers[0].states[name].counts.tally()


class Counters(unittest.TestCase):
    """A device's own counters, asked once beside what is polled."""

    def test_asked_twice_they_say_how_both_grew(self) -> None:
        line = SimulatedLine(device("Pump", 7), device("Gate", 8))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(5)
                each_device = line.line.devices[0]
                first = await own_counters(running.session, line.line, each_device, running.tally("Pump"))
                self.assertGreater(first.counts[Diagnostic.SERVER_MESSAGES], 10)
                await running.for_s(5)
                second = await own_counters(running.session, line.line, each_device, running.tally("Pump"))
                text = counters_text(second, first)
                grown = second.counts[Diagnostic.SERVER_MESSAGES] - first.counts[Diagnostic.SERVER_MESSAGES]
                self.assertIn(f"server message {second.counts[Diagnostic.SERVER_MESSAGES]} (+{grown})", text)
                self.assertRegex(text, r"Ours since: \d+ good, 0 failed")
                ours = running.tally("Pump")
                text = counters_text(OwnCounters({}, ours, "", {"Errors": 7}), OwnCounters({}, ours, "", {"Errors": 4}))
                self.assertIn("Errors 7 (+3)", text)

        run_virtual(work())

    def test_who_has_none_is_asked_no_more_than_once(self) -> None:
        line = SimulatedLine(device("Pump", 7))
        line.fault = lambda frame, at, right: (
            [(at + 0.01, line._framing.encode(7, b"\x88\x01"))] if frame.pdu[0] == 8 else right
        )

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2)
                found = await own_counters(running.session, line.line, line.line.devices[0], running.tally("Pump"))
                self.assertEqual(found.counts, {})
                self.assertIn("has no counters", counters_text(found, None))
                self.assertEqual(sum(frame.pdu[0] == 8 for frame in line.requests), 1)

        run_virtual(work())


class Plans(unittest.TestCase):
    def _requests(self, map_text: str, limits: DeviceLimits | None = None) -> list[Read]:
        each_device = replace(device("Device", 1, map_text), limits=limits or DeviceLimits())
        site = Site("S", (SimulatedLine(each_device).line,))
        plan = plan_site(site)
        polled = [place for place in plan.places if place.block is not None]
        for place in polled:
            assert place.block is not None
            self.assertIs(place.block.points[place.number], place.point)
        return [block.request for block in plan.blocks]

    def test_one_request_for_neighbours_and_none_over_a_gap(self) -> None:
        table = (
            "name,table,address,type\nA,holding,0,int32\nB,holding,2,int16\n"
            "C,holding,5,int16\nD,input,0,int16\nE,coil,0,\nF,coil,1,\n"
        )
        expected = [
            Read(Table.HOLDING, 0, 3),
            Read(Table.HOLDING, 5, 1),
            Read(Table.INPUT, 0, 1),
            Read(Table.COIL, 0, 2),
        ]
        self.assertEqual(self._requests(table), expected)

    def test_limits_split_between_points_never_inside_one(self) -> None:
        rows = "".join(f"P{n},holding,{2 * n},float32\n" for n in range(5))
        counts = [
            read.count for read in self._requests("name,table,address,type\n" + rows, DeviceLimits(max_registers=5))
        ]
        self.assertEqual(counts, [4, 4, 2])

    def test_what_must_not_be_read_is_not(self) -> None:
        table = "name,table,address,access\nA,holding,0,r\nB,holding,1,w\nC,holding,2,r\nD,holding,3,r\n"
        limits = DeviceLimits(never_read=((Table.HOLDING, 3, 3),))
        self.assertEqual(self._requests(table, limits), [Read(Table.HOLDING, 0, 1), Read(Table.HOLDING, 2, 1)])

    def test_each_period_has_its_own_blocks(self) -> None:
        table = "name,table,address,period_s\nA,holding,0,1\nB,holding,1,5\n"
        self.assertEqual(len(self._requests(table)), 2)


class Polling(unittest.TestCase):
    def test_values_arrive_at_their_period(self) -> None:
        line = SimulatedLine(device("Device", 7, period_s=0.5))

        async def work() -> None:
            async with Running(line) as running:
                self.assertEqual(running.reading("Device", "Level").quality, Quality.NEVER)
                line.units.devices[0].put("Level", 2.5)
                line.units.devices[0].put("Lamp", 1)
                await running.for_s(10.2)
                level = running.reading("Device", "Level")
                self.assertEqual((level.value, level.quality, level.data.hex()), (2.5, Quality.GOOD, "40200000"))
                self.assertEqual(running.reading("Device", "Lamp").value, 1)
                self.assertEqual(running.tally("Device").good, 3 * 21)  # three blocks, at 0, 0.5, … 10
                self.assertEqual(running.tally("Device").failed, 0)

        run_virtual(work())

    def test_a_silent_device_grows_stale_is_asked_less_and_comes_back_at_once(self) -> None:
        line = SimulatedLine(device("Dead", 7), device("Alive", 8))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(3.5)
                line.fault = silent(7)
                await running.for_s(120)
                dead, alive = running.reading("Dead", "Level"), running.reading("Alive", "Level")
                self.assertEqual((dead.quality, alive.quality), (Quality.STALE, Quality.GOOD))
                self.assertIn("nothing came", dead.reason)
                (status,) = running.session.status(asyncio.get_running_loop().time())
                self.assertEqual([silent.device.name for silent in status.silent], ["Dead"])
                (found,) = named(running.session.exchanges)
                self.assertEqual((found.kind, found.device), (FindingKind.SILENT_ONE, "Dead"))
                self.assertIn("neighbour still answers", found.text)
                self.assertLess(running.tally("Dead").timeouts, 15)
                self.assertGreater(running.tally("Alive").good, 3 * 110)
                line.fault = None
                await running.for_s(32)
                self.assertEqual(running.reading("Dead", "Level").quality, Quality.GOOD)
                self.assertEqual(running.reading("Dead", "Far").quality, Quality.GOOD)

        run_virtual(work())

    def test_a_refused_block_is_bad_and_the_others_go_on(self) -> None:
        line = SimulatedLine(device("Device", 7))

        async def work() -> None:
            async with Running(line) as running:
                raw = line.exchanger().framing.encode(7, b"\x83\x02")
                line.fault = lambda frame, at, right: [(at + 0.01, raw)] if frame.pdu[2] == 10 else right
                await running.for_s(5)
                far = running.reading("Device", "Far")
                self.assertEqual(far.quality, Quality.BAD)
                self.assertIn("exception 2", far.reason)
                self.assertEqual(running.reading("Device", "Level").quality, Quality.GOOD)
                self.assertEqual(running.tally("Device").exceptions, {2: 2})  # then it is left out, and told
                kinds = [event.kind for event in running.session.events.ring]
                self.assertEqual(kinds, [EventKind.EXCEPTION, EventKind.LEARNED])
                await running.for_s(200)  # much is read well meanwhile, and it is still not given
                self.assertIsNone(running.session.events.ring[0].ended_wall_s)
                running.session.publish()
                (shown,) = running.session.snapshot.lines
                self.assertEqual(device_state(shown, shown.devices[0]), "late")
                self.assertRegex(device_phrase(shown, shown.devices[0]), "1 point refused")
                self.assertEqual(line_phrase(shown, False), ("1 point refused", "ochre"))
                line.fault = None
                await running.for_s(HOLES_AGAIN_S + 20)
                self.assertEqual(running.reading("Device", "Far").quality, Quality.GOOD)
                self.assertIsNotNone(running.session.events.ring[0].ended_wall_s)
                line.fault = lambda frame, at, right: [(at + 0.01, raw)] if frame.pdu[2] == 10 else right
                await running.for_s(1)
                self.assertEqual(running.reading("Device", "Far").quality, Quality.BAD)

        run_virtual(work())

    def test_one_garbled_answer_is_asked_again(self) -> None:
        line = SimulatedLine(device("Device", 7))
        spoilt: list[int] = []

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2.5)

                def fault(frame, at, right):  # type: ignore[no-untyped-def]
                    if not spoilt:
                        spoilt.append(1)
                        return [(right[0][0], right[0][1][:-1] + b"\x99")]
                    return right

                line.fault = fault
                await running.for_s(2)
                self.assertEqual(running.tally("Device").garbled, 1)
                self.assertEqual([e.attempt for e in running.session.exchanges if e.attempt], [1])
                self.assertEqual(running.reading("Device", "Level").quality, Quality.GOOD)

        run_virtual(work())

    def test_what_the_port_itself_counts_is_told(self) -> None:
        line = SimulatedLine(device("Gate", 1, "name,table,address\nx,holding,0\n"))

        async def work() -> None:
            async with Running(line) as running:
                line.channel.counters = PortCounters(framing=2)  # of before: nothing failed since
                await running.for_s(3)
                self.assertIsNone(running.session.pollers[0].port)
                line.fault = lambda frame, at, right: [(at + 0.02, b"\x01\x99")]
                await running.for_s(5)
                line.channel.counters = PortCounters(framing=5, parity=1)
                await running.for_s(10)
                line.channel.counters = PortCounters(framing=1)  # opened again
                await running.for_s(10)
                self.assertEqual(running.session.pollers[0].port, PortCounters(6, 1))
                events = [event for event in running.session.events.ring if "its port itself" in event.text]
                self.assertEqual(len(events), 1)
                self.assertIn("6 framing errors, 1 parity error since the start", events[0].text)
                self.assertEqual(events[0].count, 3)

        run_virtual(work())

    def test_what_the_port_counts_says_what_to_look_at(self) -> None:
        self.assertEqual(port_text("L", None, 50), "")
        self.assertEqual(port_text("L", PortCounters(overrun=3), 0), "")
        self.assertIn("rate and parity are right", port_text("L", PortCounters(), 8))
        self.assertIn("3 overruns; overruns mean that this machine", port_text("L", PortCounters(overrun=3), 1))

    def test_the_counters_of_a_port_are_where_the_system_keeps_them(self) -> None:
        def ask(descriptor: int, request: int, counts: bytearray) -> None:
            counts[:] = struct.pack("=11i9i", *range(11), *[0] * 9)

        with unittest.mock.patch("fcntl.ioctl", ask):
            self.assertEqual(read_counters(0), PortCounters(framing=6, parity=8, overrun=7 + 10))
        master, slave = os.openpty()
        self.addCleanup(os.close, master)
        self.addCleanup(os.close, slave)
        self.assertIsNone(read_counters(slave), "a pseudo-terminal counts nothing")

    def test_a_line_that_breaks_is_told_and_comes_back(self) -> None:
        line = SimulatedLine(device("Device", 7))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(3)
                line.channel.break_off("the plug was pulled")
                await running.for_s(20)
                (status,) = running.session.status(asyncio.get_running_loop().time())
                self.assertEqual((status.is_open, status.why_unreachable), (False, "the plug was pulled"))
                self.assertEqual(running.reading("Device", "Level").reason, "the plug was pulled")
                line.channel.why_unreachable = None
                await running.for_s(31)
                self.assertEqual(running.reading("Device", "Level").quality, Quality.GOOD)

        run_virtual(work())

    def test_holding_and_one_off_requests(self) -> None:
        line = SimulatedLine(device("Device", 7, "name,table,address,access\nSet,holding,0,rw\n"))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(2)
                running.session.hold(True)
                await running.for_s(0.1)
                before = running.session.count
                await running.for_s(30)
                self.assertEqual(running.session.count, before)
                outcome = await running.session.pollers[0].order(
                    7, WriteRegister(0, 99), 0.5, line.line.devices[0], lambda: ""
                )
                self.assertEqual(outcome.kind, OutcomeKind.GOOD)
                running.session.hold(False)
                await running.for_s(1.5)
                self.assertEqual(running.reading("Device", "Set").value, 99)

        run_virtual(work())

    def test_period_nought_takes_only_what_is_left(self) -> None:
        table = "name,table,address,period_s\nFast,holding,0,0\nSlow,holding,5,1\n"
        line = SimulatedLine(device("Device", 7, table))

        async def work() -> None:
            async with Running(line) as running:
                await running.for_s(10.5)
                slow = [frame for frame in line.requests if frame.pdu[2] == 5]
                self.assertEqual(len(slow), 11)
                self.assertGreater(len(line.requests), 400)

        run_virtual(work())


class Waters(unittest.TestCase):
    def test_the_last_day_minute_by_minute(self) -> None:
        water = Water()
        self.assertEqual(water.minutes(), [])
        for second in range(3600 * 30):
            kind = OutcomeKind.TIMEOUT if second // 60 == 1000 else OutcomeKind.GOOD
            water.add(100.0 + second, 100.5 + second, kind)
        minutes = dict(water.minutes())
        self.assertEqual((len(minutes), max(minutes)), (1440, int((100.5 + 3600 * 30 - 1) / 60)))
        self.assertEqual({level.worst for level in minutes.values()}, {Worst.GOOD, Worst.SILENT})
        self.assertEqual([number for number, level in minutes.items() if level.worst is Worst.SILENT], [1001, 1002])
        self.assertTrue(all(abs(level.busy - 0.5) < 0.02 for level in list(minutes.values())[1:-1]))
        water.add(100.0 + 3600 * 40, 100.5 + 3600 * 40, OutcomeKind.GOOD)
        later = dict(water.minutes())
        self.assertEqual(later[max(later) - 5].worst, Worst.NOTHING, "nothing was asked then")

    def test_levels_and_worst(self) -> None:
        water = Water()
        water.add(100.0, 100.25, OutcomeKind.GOOD)
        water.add(100.5, 102.0, OutcomeKind.TIMEOUT)
        levels = water.levels(102.4)
        self.assertEqual(len(levels), SLICES)
        self.assertEqual([round(level, 2) for level, _ in levels[-5:]], [0.5, 1, 1, 1, 0])
        self.assertEqual([worst for _, worst in levels[-5:-1]], [Worst.GOOD, Worst.SILENT, Worst.SILENT, Worst.SILENT])
        self.assertEqual(set(water.levels(300)), {(0.0, Worst.NOTHING)})

    def test_recent(self) -> None:
        water = Water()
        for tenth in range(100):
            water.add(50 + tenth / 10, 50 + tenth / 10 + 0.03, OutcomeKind.GOOD)
        busy, rate = water.recent(60.0)
        self.assertAlmostEqual(busy, 0.3, places=2)
        self.assertAlmostEqual(rate, 10, delta=0.5)
