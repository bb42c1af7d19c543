"""Limits on a virtual clock: passed after their delay, no more once back by their hysteresis, seen, and told."""

import struct
import unittest
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from kanaleto.analysis.limits import LimitWatch
from kanaleto.board.board import Record
from kanaleto.board.crossing import Level, level_of, rules_of
from kanaleto.board.world import World
from kanaleto.events.log import Ended, EventKind, EventLog
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Line, Site
from kanaleto.tables.maps import point_cells
from tests.simulated import Fault, SimulatedLine, device, silent
from tests.test_polling import Running
from tests.virtual import run_virtual

HEAD = "name,table,address,type,warn_low,warn_high,alarm_high,hysteresis,delay_s,labels,warn_on,alarm_on\n"
TORQUE = HEAD + "Torque,holding,0,int16,,60,70,5,,,,\n"
LATE = HEAD + "Torque,holding,0,int16,10,,70,,3,,,\n"
STATE = HEAD + "State,holding,0,uint16,,,,,,0=Closed;1=Open;7=Fault,1,Fault\n"
WORD = HEAD + "Word,holding,0,bits,,,,,,0=Ready;3=Membrane fault,,Membrane fault;5\n"


class Driven(Running):
    """The one register holds what `value` says."""

    value = 0

    def __init__(self, map_text: str) -> None:
        line = SimulatedLine(device("Sluice", 1, map_text))
        super().__init__(line)

        def fault(frame, at, right):  # type: ignore[no-untyped-def]
            if right and frame.pdu[0] == 3:
                pdu = bytes((3, 2)) + struct.pack(">H", self.value & 0xFFFF)
                return [(right[-1][0], line.exchanger().framing.encode(1, pdu))]
            return right

        self.spoil: Fault = fault
        line.fault = lambda frame, at, right: self.spoil(frame, at, right)
        self.usual = fault

    @property
    def past(self) -> list[tuple[str, str]]:
        return [(crossing.rule.name, crossing.text) for crossing in self.session.limits.past]

    def told(self, kind: EventKind = EventKind.LIMIT) -> list[tuple[str, bool]]:
        return [
            (event.text, event.ended_wall_s is not None) for event in self.session.events.ring if event.kind is kind
        ]

    async def at(self, value: int, for_s: float = 1.2) -> list[tuple[str, str]]:
        self.value = value
        await self.for_s(for_s)
        return self.past


class Limits(unittest.TestCase):
    def _run(self, map_text: str, work: Callable[[Driven], Awaitable[None]]) -> None:
        async def run() -> None:
            driven = Driven(map_text)
            async with driven:
                await work(driven)

        run_virtual(run())

    def test_the_worst_is_shown_and_hysteresis_holds_it(self) -> None:
        async def work(running: Driven) -> None:
            self.assertEqual(await running.at(59), [])
            self.assertEqual(await running.at(60), [("warn_high", "60 above 60")])
            self.assertEqual(await running.at(72), [("alarm_high", "72 above 70")])
            self.assertEqual(await running.at(66), [("alarm_high", "72 above 70")], "not back by 5 yet")
            self.assertEqual(await running.at(64), [("warn_high", "60 above 60")])
            self.assertEqual(await running.at(56), [("warn_high", "60 above 60")])
            self.assertEqual(await running.at(54), [])
            self.assertEqual(
                running.told(),
                [("Torque: 60 above 60 (warn)", True), ("Torque: 72 above 70 (alarm)", True)],
            )

        self._run(TORQUE, work)

    def test_a_delay_counts_from_the_first_value_beyond_and_begins_again(self) -> None:
        async def work(running: Driven) -> None:
            self.assertEqual(await running.at(80, 2.2), [])
            self.assertEqual(await running.at(50, 1.5), [])
            self.assertEqual(await running.at(80, 2.2), [])
            self.assertEqual(await running.at(81, 2.5), [("alarm_high", "81 above 70")])
            self.assertEqual(await running.at(50), [], "there is no delay back")
            self.assertEqual(await running.at(10, 5), [("warn_low", "10 below 10")])

        self._run(LATE, work)

    def test_states_and_bits(self) -> None:
        async def state(running: Driven) -> None:
            self.assertEqual(await running.at(0), [])
            self.assertEqual(await running.at(1), [("warn_on", "is Open")])
            self.assertEqual(await running.at(7), [("alarm_on", "is Fault")])
            self.assertEqual(await running.at(2), [])

        async def word(running: Driven) -> None:
            self.assertEqual(await running.at(1), [])
            self.assertEqual(await running.at(0b1001), [("alarm_on", "has Membrane fault")])
            self.assertEqual(await running.at(0b0001), [])
            self.assertEqual(await running.at(0b100000), [("alarm_on", "has bit 5")])

        self._run(STATE, state)
        self._run(WORD, word)

    def test_what_cannot_be_read_changes_nothing(self) -> None:
        async def work(running: Driven) -> None:
            await running.at(75)
            running.spoil = silent(1)
            running.value = 0
            await running.for_s(600)
            self.assertEqual(running.past, [("alarm_high", "75 above 70")])
            running.spoil = running.usual
            await running.for_s(60)
            self.assertEqual(running.past, [])

        self._run(TORQUE, work)

    def test_seen_with_a_note_until_it_is_passed_again(self) -> None:
        async def work(running: Driven) -> None:
            await running.at(75)
            limits = running.session.limits
            now = running.session.clock.now
            self.assertEqual(limits.acknowledge(("Sluice", "Other"), "Ada", "", now), 0)
            self.assertEqual(limits.acknowledge(("Sluice", "Torque"), "Ada", "crane is down", now), 2)
            (crossing,) = limits.past
            assert crossing.seen is not None
            self.assertEqual((crossing.seen.who, crossing.seen.note), ("Ada", "crane is down"))
            self.assertIn(("Torque: 75 above 70 was seen by Ada: crane is down", True), running.told(EventKind.SEEN))
            await running.at(0)
            await running.at(75)
            self.assertEqual([crossing.seen for crossing in limits.past], [None])

        self._run(TORQUE, work)

    def test_what_is_over_and_was_not_seen_stays_listed_until_it_is_seen(self) -> None:
        async def work(running: Driven) -> None:
            limits, now = running.session.limits, running.session.clock.now
            for value, seconds in ((10, 2), (75, 3), (10, 3)):
                await running.at(value, seconds)
            self.assertEqual(limits.past, ())
            (over,) = limits.over
            self.assertEqual(over.rule.name, "alarm_high")
            assert over.ended_wall_s is not None
            self.assertAlmostEqual(over.ended_wall_s - over.wall_s, 3, delta=1.1)
            running.session.publish()
            self.assertEqual(running.session.snapshot.over, limits.over)
            await running.at(75)
            self.assertEqual(limits.over, ())  # it stands again, not seen
            limits.acknowledge(("Sluice", "Torque"), "Ada", "", now)
            await running.at(10)
            self.assertEqual(limits.over, ())  # seen while it stood
            await running.at(75)
            await running.at(10)
            self.assertEqual(len(limits.over), 1)
            self.assertEqual(limits.acknowledge(("Sluice", "Torque"), "Ada", "heard", now), 2)
            self.assertEqual(limits.over, ())
            self.assertTrue(all("over by then" in text for text, _ in running.told(EventKind.SEEN)[-2:]))

        self._run(TORQUE, work)

    def test_an_edit_keeps_what_is_past_and_lets_go_of_what_is_no_more(self) -> None:
        async def work(running: Driven) -> None:
            await running.at(75)
            running.session.take_over(Site("Virtual", (SimulatedLine(device("Sluice", 1, TORQUE)).line,)))
            self.assertEqual(running.past, [("alarm_high", "75 above 70")])
            other = TORQUE.replace(",60,70,", ",60,90,")
            running.session.take_over(Site("Virtual", (SimulatedLine(device("Sluice", 1, other)).line,)))
            self.assertEqual(running.past, [])
            await running.at(75)
            self.assertEqual(running.past, [("warn_high", "75 above 60")])
            ends = [event.how for event in running.session.events.ring if event.kind is EventKind.LIMIT][:2]
            self.assertEqual(ends, [Ended.NO_MORE, Ended.NO_MORE])

        self._run(TORQUE, work)

    def test_what_was_seen_stays_seen_under_another_name(self) -> None:
        async def work(running: Driven) -> None:
            await running.at(75)
            limits, now = running.session.limits, running.session.clock.now
            limits.acknowledge(("Sluice", "Torque"), "Ada", "", now)
            other = TORQUE.replace("Torque", "Moment")
            running.session.take_over(Site("Virtual", (SimulatedLine(device("Sluice", 1, other)).line,)))
            (crossing,) = limits.past
            self.assertIsNotNone(crossing.seen)
            self.assertEqual(limits.past[0].identity, ("Sluice", "Moment"))
            await running.at(10)
            self.assertEqual(running.past, [])
            self.assertTrue(all(is_over for _, is_over in running.told()))

        self._run(TORQUE, work)


POINT = st.tuples(
    st.sampled_from("ABCD"), st.integers(0, 9), st.sampled_from(["50", "80", ""]), st.sampled_from(["1", "9"])
)
DEVICES = st.dictionaries(
    st.sampled_from(["Pump", "Sluice", "Gate"]), st.lists(POINT, max_size=4, unique_by=lambda own: own[0])
)


class AfterEdits(unittest.TestCase):
    @settings(max_examples=150)
    @given(st.lists(DEVICES, min_size=1, max_size=5))
    def test_what_is_past_is_what_one_that_begins_now_would_find(self, sites: list[dict[str, list[Any]]]) -> None:
        def now() -> float:
            return 0.0

        world, watch = World(Site("S", ()), lambda *told: None), LimitWatch(EventLog(now))
        for devices in sites:
            own = []
            for unit, (name, points) in enumerate(sorted(devices.items()), 1):
                rows = "".join(f"{point},holding,{at},{high},{period}\n" for point, at, high, period in points)
                own.append(device(name, unit, "name,table,address,alarm_high,period_s\n" + rows))
            world.take_over(Site("S", (Line("L", TcpLink("192.0.2.1", 502), tuple(own)),)))
            fresh = LimitWatch(EventLog(now))
            for one in (watch, fresh):
                one.on_plan(world)
                for block in world.plan.blocks:
                    values = tuple(60 for _ in block.points)
                    one.on_record(block, Record(bytes(2 * block.request.count), values, 0.0, 0.0), world.board)
            self.assertEqual(*({(crossing.identity, crossing.rule) for crossing in one.past} for one in (watch, fresh)))


class InMaps(unittest.TestCase):
    def test_columns_come_back_as_they_were(self) -> None:
        for text in (TORQUE, LATE, STATE, WORD):
            with self.subTest(text):
                each_device = device("Device", 1, text)
                (point,) = each_device.points
                cells = point_cells(each_device, point)
                columns = ",".join(cells)
                row = ",".join(cells.values())
                (again,), faults = read_map(Path("map.csv"), f"{columns}\n{row}\n", MapDefaults())
                self.assertEqual(faults, [])
                self.assertEqual(again.limits, point.limits)

    def test_faults_say_what_would_be_right(self) -> None:
        for row, text in (
            ("A,holding,0,int16,,,,-1,,,,", "hysteresis '-1' is not 0 or more"),
            ("A,holding,0,int16,,,,,99999,,,", "delay_s '99999' is not 0 or more, up to 86400 s"),
            ("A,holding,0,int16,,,,1..2,,,,", "hysteresis '1..2' is no number"),
            ("A,holding,0,uint16,,,,,,0=Shut,Open,", "'Open' is neither a label nor a number; there are Shut"),
            ("A,holding,0,bits,,,,,,,16,", "'16' is no bit of a word; they are 0 to 15"),
            ("A,holding,0,float32,,,,,,,1,", "type float32 has no states"),
        ):
            with self.subTest(row):
                _, faults = read_map(Path("map.csv"), HEAD + row + "\n", MapDefaults())
                self.assertTrue(any(text in str(fault) for fault in faults), faults)

    def test_the_worst_first(self) -> None:
        (point,) = device("Device", 1, TORQUE).points
        self.assertEqual([rule.name for rule in rules_of(point.limits)], ["alarm_high", "warn_high"])
        self.assertEqual(
            [level_of(point.limits, value, point) for value in (0, 60, 70)], [None, Level.WARN, Level.ALARM]
        )


if __name__ == "__main__":
    unittest.main()
