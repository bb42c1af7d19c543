"""A plan made of the one before is the plan: after edits, after what was learned, with points switched off."""

import unittest
from itertools import count, pairwise

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import KnownRows, read_map
from kanaleto.planning.lessons import Lessons
from kanaleto.planning.plan import Block, DevicePlan, plan_device
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Device, DeviceLimits, Line
from tests.test_large import PATH, POINT

CHANGE = st.tuples(
    st.integers(0, 30),
    st.sampled_from(
        ["unit", "unit", "type", "wider", "factor", "address", "period", "access", "cut", "copy", "swap", "group",
         "refused", "refused", "read", "off", "on", "for now", "slower", "another"]
    ),
)  # fmt: skip


class PlannedAgain(unittest.TestCase):
    @settings(max_examples=600)
    @given(
        st.lists(POINT, min_size=1, max_size=20),
        st.lists(st.lists(CHANGE, max_size=3), max_size=6),
        st.integers(0, 3),
        st.sampled_from([None, 0.5]),
        st.sampled_from([125, 6, 4]),
    )
    def test_a_plan_after_edits_and_lessons_is_the_plan(
        self,
        rows: list[tuple[str, int, str, str, str]],
        edits: list[list[tuple[int, str]]],
        max_gap: int,
        watchdog_s: float | None,
        most: int,
    ) -> None:
        points = [
            [f"P{number}", table, str(at), "bool" if table == "coil" else "uint16" if kind == "bool" else kind,
             period, "r" if table == "input" else access, "", "", f"g{at % 5}" if at % 7 > 3 else ""]
            for number, (table, at, kind, period, access) in enumerate(rows)
        ]  # fmt: skip
        old: DevicePlan | None = None
        slots, known, lessons, off = count().__next__, KnownRows(), Lessons(most, 2000), set[str]()
        timeout_s, unit_id = 1.0, 1
        for number, edit in enumerate([[], *edits]):
            for at, what in edit:
                _change(points, at % len(points), what, number)
                timeout_s += what == "slower"
                unit_id += what == "another"
                if old is not None:
                    _learn(lessons, off, old, at, what)
            text = "name,table,address,type,period_s,access,unit,factor,group\n" + "".join(
                ",".join(row) + "\n" for row in points
            )
            found, _ = read_map(PATH, text, MapDefaults(), known)
            limits = DeviceLimits(max_gap=max_gap, max_registers=most)
            device = Device("D", unit_id, found, timeout_s, 0, limits=limits, watchdog_s=watchdog_s)
            line = Line("L", TcpLink("192.0.2.1", 502), (device,))
            again = plan_device(line, device, lessons, slots, off, old)
            whole = plan_device(line, device, lessons, count().__next__, off)
            self.assertEqual(told(again), told(whole))
            self.assertEqual(again.switched_off, whole.switched_off)
            for number, place in enumerate(again.places):
                self.assertIs(place.point, device.points[number])
                self.assertIs(place, again.place_at(number))
                self.assertEqual((place.device, place.line), (replace(device, points=()), replace(line, devices=())))
                self.assertTrue(place.block is None or place.block.points[place.number] is place.point)
            for block in again.blocks:
                self.assertIs(again.blocks_by_index[block.index], block)
                self.assertEqual((block.device.points, block.device.timeout_s), ((), timeout_s))
                data = bytes(range(7, 7 + block.request.answer_bytes))
                expected = [own.decoder.decode(data) for own in whole.blocks if own.points == block.points]
                self.assertIn(repr(block.decoder.decode(data)), list(map(repr, expected)))
            self.assertEqual(len({block.index for block in again.blocks}), len(again.blocks))
            self.assertEqual(sorted(map(asked, again.blocks)), sorted(map(asked, whole.blocks)))
            for one, other in pairwise(again.blocks):
                self.assertTrue(asked(one)[:2] != asked(other)[:2] or asked(one)[2] <= asked(other)[2])
            if old is not None:
                _stay_where_nothing_differs(self, old, again)
            old = again

    def test_a_group_is_felt_wherever_its_points_lie(self) -> None:
        """Whether B and C must come together depends on a point that lies far from them."""
        near = "A,1,\nB,2,g\nC,3,g\n"
        texts = [near + far for far in ("D,90,g\n", "D,90,\n", "D,90,\nE,70,g\n", "D,90,\nE,70,h\n", "D,4,g\n")]
        sizes, old = [], None
        slots, known, limits = count().__next__, KnownRows(), DeviceLimits(max_registers=2)
        for text in [*texts, texts[0]]:
            head = "name,address,group,table\n"
            found, _ = read_map(PATH, head + text.replace("\n", ",holding\n"), MapDefaults(), known)
            device = Device("D", 1, found, 1.0, 0, limits=limits)
            line = Line("L", TcpLink("192.0.2.1", 502), (device,))
            old = plan_device(line, device, None, slots, (), old)
            whole = plan_device(line, device, None, count().__next__)
            self.assertEqual(told(old), told(whole))
            sizes.append([block.request.count for block in old.blocks])
        self.assertNotEqual(sizes[0][:2], sizes[1][:2])  # else nothing was shown

    def test_another_limit_is_felt_everywhere(self) -> None:
        """The same points, and fewer or more registers a request: no stretch of them stays as it was."""
        rows = "".join(f"P{at},{at},holding\n" for at in (*range(30), *range(100, 130)))
        found, _ = read_map(PATH, f"name,address,table\n{rows}", MapDefaults(), KnownRows())
        device = Device("D", 1, found, 1.0, 0)
        line = Line("L", TcpLink("192.0.2.1", 502), (device,))
        slots, old = count().__next__, None
        for most, counts in ((125, [30, 30]), (20, [20, 10, 20, 10]), (15, [15, 15, 15, 15]), (125, [30, 30])):
            lessons = Lessons(most, 2000)
            old = plan_device(line, device, lessons, slots, (), old)
            self.assertEqual(told(old), told(plan_device(line, device, lessons, count().__next__)))
            self.assertEqual(sorted(block.request.count for block in old.blocks), sorted(counts))


def _stay_where_nothing_differs(test: unittest.TestCase, old: DevicePlan, again: DevicePlan) -> None:
    """Blocks of the very points and the same request are the very blocks. Blocks that make the same values of the words
    of the same request stand where those stood, and no others do."""
    is_alike = old.basis.device is again.basis.device
    before = {(block.request, block.period_s, tuple(map(id, block.points))): block for block in old.blocks}
    stood = {block.index: block for block in old.blocks}
    for block in again.blocks:
        was = before.get((block.request, block.period_s, tuple(map(id, block.points))))
        test.assertTrue(was is None or not is_alike or was is block)
        alike = [own.index for own in old.blocks if own.source == block.source and own.decodes_like(block)]
        test.assertEqual([block.index] if block.index in stood else [], alike)


def _learn(lessons: Lessons, off: set[str], part: DevicePlan, at: int, what: str) -> None:
    """What is learned of a device beside edits of its map."""
    block = part.blocks[at % len(part.blocks)] if part.blocks else None
    if what == "refused" and block is not None:
        lessons.note_refused(block.request.table, block.request.count, block.points, "refused")
    elif what == "read" and block is not None:
        lessons.note_read(block.request.table, block.request.count, block.points)
    elif what == "off":
        off.add(part.place_at(at % len(part.places)).point.name)
    elif what == "on":
        off.clear()
        lessons.try_holes_again()
    elif what == "for now":
        lessons.most_for_now = None if lessons.most_for_now else 5


def _change(points: list[list[str]], at: int, what: str, number: int) -> None:
    row = points[at]
    if what == "unit":
        row[6] = f"u{number}"
    elif what == "type":
        row[3] = {"uint16": "int16", "float32": "int32", "float64": "int64"}.get(row[3], row[3])
    elif what == "wider" and row[3] == "uint16":
        row[3] = "float32"
    elif what == "factor":
        row[7] = "" if row[3] in ("bool", "bits") or row[7] else "0.1"
    elif what == "address":
        row[2] = str(50 + number)
    elif what == "period":
        row[4] = "5"
    elif what == "access" and row[1] == "holding":
        row[5] = "rw" if row[5] == "w" else "w"
    elif what == "group":
        row[8] = f"g{at % 3}"
    elif what == "cut" and len(points) > 1:
        del points[at]
    elif what == "copy":
        names, copies = {own[0] for own in points}, 0  # a map in which a name is there twice is refused
        while (name := f"{row[0]} {number} {len(points) + copies}") in names:
            copies += 1
        points.append([name, *row[1:]])
    elif what == "swap":
        points[at], points[0] = points[0], points[at]


def told(plan: DevicePlan) -> object:
    return [
        (
            place.point,
            place.block and (place.block.request, place.block.period_s, place.block.points),
            place.number,
            place.why_not,
        )
        for place in plan.places
    ]


def asked(block: Block) -> tuple[str, float, int, int]:
    request = block.request
    return request.table.value, block.points[0].period_s, request.address, request.count
