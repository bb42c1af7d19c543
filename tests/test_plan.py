"""The plan: least line time against every possible one, limits, groups, gaps and their cost, load."""

import unittest
from collections.abc import Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.sitetext import with_device_keys
from kanaleto.planning.lessons import Lessons
from kanaleto.planning.partition import Joined, Rules, Spanned, items_of, partition, points_of
from kanaleto.planning.plan import Plan, plan_site
from kanaleto.site.links.link import SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import DeviceLimits, Line, Site
from kanaleto.wire.codes import Table
from tests.simulated import device
from tests.test_site import SITE, InFolder


def points(rows: str):  # type: ignore[no-untyped-def]
    found, faults = read_map(Path("map.csv"), "name,table,address,type,group\n" + rows, MapDefaults())
    assert not [fault for fault in faults if not fault.is_warning], faults
    return found


def every_partition(items: list[Joined]):  # type: ignore[no-untyped-def]
    """All ways to cut a sequence into runs."""
    if not items:
        yield []
        return
    for first in range(1, len(items) + 1):
        for rest in every_partition(items[first:]):
            yield [items[:first], *rest]


def cost_of(requests: Sequence[Sequence[Spanned]], rules: Rules) -> float | None:
    """Line time, or None when a request is not allowed."""
    total = 0.0
    for request in requests:
        if request[-1].end - request[0].address > rules.most:
            return None
        for before, behind in pairwise(request):
            if behind.address > before.end and not rules.may_read(before.end, behind.address):
                return None
        total += rules.fixed_s + (request[-1].end - request[0].address) * rules.item_s
    return total


class Optimal(unittest.TestCase):
    @settings(max_examples=150)
    @given(
        st.lists(st.tuples(st.integers(0, 12), st.integers(1, 4)), min_size=1, max_size=9),
        st.integers(4, 20),
        st.integers(0, 10),
        st.sampled_from([0.0, 0.5, 3.0, 20.0]),
    )
    def test_no_plan_is_cheaper(self, spans: list[tuple[int, int]], most: int, max_gap: int, fixed_s: float) -> None:
        items, at = [], 0
        for gap, size in spans:
            items.append(Joined(at + gap, at + gap + size, ()))
            at += gap + size
        rules = Rules(most, fixed_s, 1.0, max_gap, lambda start, end: end - start <= max_gap)
        found = cost_of(partition(items, rules), rules)
        best = min(cost for requests in every_partition(items) if (cost := cost_of(requests, rules)) is not None)
        self.assertIsNotNone(found)
        self.assertAlmostEqual(found or 0.0, best)

    @given(
        st.lists(
            st.tuples(st.integers(0, 60), st.sampled_from(["uint16", "int32", "float64"])), min_size=1, max_size=20
        ),
        st.integers(4, 12),
    )
    def test_every_point_is_in_one_block_and_whole(self, spans: list[tuple[int, str]], most: int) -> None:
        own = points("".join(f"P{n},holding,{address},{kind}\n" for n, (address, kind) in enumerate(spans)))
        rules = Rules(most, 1.0, 0.1, 0, lambda start, end: False)
        requests = partition(items_of(own, rules), rules)
        names = [point.name for request in requests for point in points_of(request)]
        self.assertEqual(sorted(names), sorted(point.name for point in own))
        for request in requests:
            self.assertLessEqual(max(item.end for item in request) - min(item.address for item in request), most)


class Rulings(unittest.TestCase):
    def _plan(self, rows: str, limits: DeviceLimits | None = None, baud: int = 9600, **settings_: Any) -> Plan:
        each_device = replace(
            device("D", 1, "name,table,address,type,group,access,period_s\n" + rows),
            limits=limits or DeviceLimits(),
            **settings_,
        )
        self.line = Line("L", SerialLink("/x", SerialSettings(baud)), (each_device,))
        return plan_site(Site("S", (self.line,)))

    def _counts(self, rows: str, limits: DeviceLimits | None = None) -> list[int]:
        return [block.request.count for block in self._plan(rows, limits).blocks]

    def test_a_gap_is_read_through_where_that_is_cheaper_and_allowed(self) -> None:
        rows = "A,holding,0\nB,holding,6\nC,holding,40\n"
        self.assertEqual(self._counts(rows), [1, 1, 1])
        self.assertEqual(self._counts(rows, DeviceLimits(max_gap=10)), [7, 1])
        self.assertEqual(self._counts(rows, DeviceLimits(max_gap=5)), [7, 1])
        self.assertEqual(self._counts(rows, DeviceLimits(max_gap=4)), [1, 1, 1])
        self.assertEqual(self._counts(rows, DeviceLimits(max_gap=124)), [7, 1])  # 33 registers cost more than a request
        self.assertEqual(self._counts(rows, DeviceLimits(max_gap=10, never_read=((Table.HOLDING, 3, 3),))), [1, 1, 1])
        self.assertEqual(self._counts(rows + "W,holding,3,uint16,,w\n", DeviceLimits(max_gap=10)), [1, 1, 1])

    def test_groups_come_from_one_request(self) -> None:
        rows = "A,holding,0,uint32\nCount,holding,2,uint16,g\nWhen,holding,3,uint32,g\nB,holding,5,uint16\n"
        plan = self._plan(rows, DeviceLimits(max_registers=3))
        blocks = {point.name: block.index for block in plan.blocks for point in block.points}
        self.assertEqual(blocks["Count"], blocks["When"])

    def test_functions_and_switches_leave_points_out_and_say_why(self) -> None:
        plan = self._plan("A,holding,0\nB,input,0\n", DeviceLimits(functions=(4,)))
        self.assertEqual([place.why_not for place in plan.places], ["the device does not know function 3", ""])

    def test_gaps_and_their_cost_and_the_load(self) -> None:
        plan = self._plan("A,holding,0\nB,holding,6\n")
        (gap,) = plan.gaps(self.line.devices[0])
        cost = self.line.link.cost()
        self.assertEqual((gap.first, gap.last, gap.is_forbidden), (1, 5, True))
        self.assertAlmostEqual(gap.through_s, 5 * 2 * 11 / 9600)
        self.assertAlmostEqual(gap.second_s, cost.fixed_s)
        self.assertAlmostEqual(plan.load(self.line), 2 * cost.request_s(Table.HOLDING, 1))

    def test_a_watchdog_is_kept_fed(self) -> None:
        plan = self._plan("A,holding,0,uint16,,r,60\nB,holding,9,uint16,,r,30\n", watchdog_s=8.0)
        self.assertEqual(sorted(block.period_s for block in plan.blocks), [4.0, 60.0])

    def test_a_network_s_requests_cost_a_round_trip(self) -> None:
        cost = TcpLink("h", 502).cost()
        self.assertLess(cost.request_s(Table.HOLDING, 125), 1.1 * cost.fixed_s)


class Staying(unittest.TestCase):
    """A plan made of the one before, where only one device of a line differs."""

    def test_only_what_differs_is_planned_again(self) -> None:
        text = "name,table,address,type\nA,holding,1,uint16\nB,holding,2,float32\n"
        one, two = device("One", 1, text), device("Two", 2, text)
        line = Line("L", TcpLink("192.0.2.1", 502), (one, two))
        before = plan_site(Site("S", (line,)))
        other = device("Two", 2, text.replace("2,float32", "9,float32"))
        edited = plan_site(
            Site("S", (replace(line, devices=(one, other)),)), old=before, next_index=iter(range(50, 99)).__next__
        )
        self.assertIs(edited.parts[0], before.parts[0])
        self.assertEqual([block.index for block in edited.parts[1].blocks], [50, 51])
        slower = plan_site(
            Site("S", (replace(line, timeout_s=4.0),)), old=before, next_index=iter(range(50, 99)).__next__
        )
        for part in slower.parts:
            self.assertEqual(part.line.timeout_s, 4.0)
            self.assertEqual({block.line.timeout_s for block in part.blocks}, {4.0})
        self.assertEqual([block.index for block in slower.blocks], [block.index for block in before.blocks])


class Learning(InFolder):
    def _narrowed(self, limit: int, holes: set[int]) -> tuple[Lessons, int]:
        """Plan, ask, learn, until nothing more is learned; the device reads at most `limit` and not the addresses in
        `holes`."""
        each_device = device("D", 1, "name,table,address\n" + "".join(f"P{n},holding,{n}\n" for n in range(100)))
        line = Line("L", TcpLink("h", 502), (each_device,))
        lessons, requests = Lessons(125, 2000), 0
        for _ in range(200):
            plan = plan_site(Site("S", (line,)), {"D": lessons})
            has_news = bool(lessons.settle(Table.HOLDING, max(block.request.count for block in plan.blocks)))
            for block in plan.blocks:
                requests += 1
                span = range(block.request.address, block.request.address + block.request.count)
                if block.request.count > limit or holes & set(span):
                    lessons.note_refused(Table.HOLDING, block.request.count, block.points, "refused")
                    has_news = True
                else:
                    has_news = lessons.note_read(Table.HOLDING, block.request.count, block.points) or has_news
                if has_news:
                    break
            if not has_news:
                return lessons, requests
        raise AssertionError("it never ends")

    def test_a_limit_is_found_exactly(self) -> None:
        for limit in (1, 2, 7, 16, 60, 99):
            lessons, _ = self._narrowed(limit, set())
            self.assertEqual((lessons.learned_most(Table.HOLDING), lessons.holes), (limit, {}), limit)

    def test_holes_are_found_exactly(self) -> None:
        for holes in ({0}, {50}, {3, 4, 77}, {99}):
            lessons, requests = self._narrowed(200, holes)
            self.assertEqual(set(lessons.holes), {f"P{n}" for n in holes})
            self.assertIsNone(lessons.learned_most(Table.HOLDING))
            self.assertLess(requests, 300)

    def test_lessons_are_saved_beside_the_comments(self) -> None:
        before = "# mine\n" + SITE.replace("unit_id = 2", "unit_id = 2  # on the switches")
        learned: dict[str, dict[str, object]] = {
            "Device": {"max_registers": 7, "never_read": ["holding 40009"]},
            "Nobody": {"max_bits": 1},
        }
        text, found = with_device_keys(before, learned)
        self.assertEqual(found, ["Device"])
        for part in ("# mine", "# on the switches", "max_registers = 7", 'never_read = ["holding 40009"]'):
            self.assertIn(part, text)
        (self.folder / "map.csv").write_text("name,table,address\nA,holding,40001\n")
        self.assertEqual(self.load(text).lines[0].devices[0].limits.max_registers, 7)
        self.assertEqual([one.name for one in self.folder.iterdir() if one.name.startswith(".")], [])
