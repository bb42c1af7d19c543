"""What is done at once for many gives what is done for each: rows that say the same, addresses as spans, a map read
again, the ruler."""

import unittest
from collections.abc import Iterator
from operator import is_
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import astuple, replace

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import KnownRows, read_map
from kanaleto.files.maprows import MapText
from kanaleto.planning.plan import Block, Gap, Place, Plan, plan_site
from kanaleto.planning.ruler import GapRow, Row, Ruler, RulerPart, RulerRow, TableRow
from kanaleto.site.counting import Counting, Numbering, OwnNumbering
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import DeviceLimits, Line, Site, Spans
from kanaleto.wire.codes import Table
from tests.simulated import device

PATH = Path("map.csv")
HEAD = ("table", "type", "factor", "unit", "initial", "what else", "name", "address", "note")
ALIKE = st.tuples(
    st.sampled_from(["holding", "input", "coil", "Holding ", "lamp", ""]),
    st.sampled_from(["", "uint16", "float32", "float64", "bool", "text8", "int12"]),
    st.sampled_from(["", "0.1", "0,1", "ten"]),
    st.sampled_from(["", "bar", " bar"]),
    st.sampled_from(["", "1", "70000", "ab"]),
    st.sampled_from(["", "more"]),
)
OWN = st.tuples(
    st.sampled_from(["A", "Pool level", " B ", "", "x" * 201]),
    st.sampled_from(["0", "7", " 12", "007", "0x10", "40012", "3.04", "65535", "65536", "-1", "²", "", "1e2"]),
    st.sampled_from(["", "n", " seen ", '"of, two"']),
)


HEADED = "name,table,address,exponent\n"
EDITED = (
    "A,holding,1,\n", "B,holding,1,\n", "C,input,4,A\n", "A,holding,9,\n", "D,holding,4,B\n", "E,x,1,\n", "\n",
    "F,coil\n", '"G\nh",holding,7,\n', '"I, j",coil,2,\r\n', HEADED, "K,coil,3,", '"L,coil,5,\n',
)  # fmt: skip


class Rows(unittest.TestCase):
    @settings(max_examples=300)
    @given(
        st.lists(ALIKE, min_size=1, max_size=3),
        st.lists(st.tuples(st.integers(0, 2), OWN, st.integers(-1, 2)), min_size=1, max_size=20),
        st.permutations(HEAD) | st.permutations(HEAD[:-1]),
        st.sampled_from([*Numbering, OwnNumbering(100, 20, 2)]),
    )
    def test_a_map_is_what_its_rows_are(
        self,
        alike: list[tuple[str, ...]],
        rows: list[tuple[int, tuple[str, ...], int]],
        head: list[str],
        numbering: Counting,
    ) -> None:
        lines = []
        for number, (which, own, shorter) in enumerate(rows):
            said = dict(zip(HEAD, (*alike[which % len(alike)], *own), strict=True))
            said["name"] += str(number) if said["name"].strip() else ""
            lines.append(",".join([*(said[key] for key in head), "over"][: len(head) - shorter]) + "\n")
        defaults = MapDefaults(numbering=numbering)
        points, faults = read_map(PATH, ",".join(head) + "\n" + "".join(lines), defaults)
        alone = [
            read_map(PATH, ",".join(head) + "\n" * (number + 1) + line, defaults) for number, line in enumerate(lines)
        ]
        self.assertEqual(
            [astuple(point) for point in points], [astuple(point) for found, _ in alone for point in found]
        )
        wrong = [fault for fault in faults if not fault.is_warning]
        self.assertEqual(wrong, [fault for _, faults in alone for fault in faults if not fault.is_warning])


class ReadAgain(unittest.TestCase):
    @settings(max_examples=300)
    @given(
        st.lists(st.sampled_from(EDITED), max_size=12),
        st.lists(st.tuples(st.integers(0, 12), st.sampled_from(["cut", "put", "move"]), st.sampled_from(EDITED))),
        st.sampled_from(["", "# seen\n", "\n"]),
        st.sampled_from([HEADED, HEADED.upper(), HEADED.replace("\n", ",unit\n")]),
    )
    def test_a_map_read_again_is_what_it_is_when_read_first(
        self, rows: list[str], changes: list[tuple[int, str, str]], above: str, head: str
    ) -> None:
        defaults = MapDefaults(limits=DeviceLimits(never_read=((Table.HOLDING, 4, 4),)))
        known, other = KnownRows(), rows.copy()
        read_map(PATH, HEADED + "".join(rows), defaults, known)
        for at, what, row in changes:
            other[at : at + (what != "put")] = [row] if what != "cut" else []
        text = above + head + "".join(other)
        points, faults = read_map(PATH, text, defaults, known)
        self.assertEqual((points, faults), read_map(PATH, text, defaults))
        self.assertEqual((points, faults), read_map(PATH, text, defaults, known))

    def test_rows_that_are_still_there_keep_their_very_points(self) -> None:
        rows, known = ["A,input,1,\n", *(f'"P{n}",holding,{n},A\n' for n in range(6))], KnownRows()
        before, _ = read_map(PATH, HEADED + "".join(rows), MapDefaults(), known)
        points, _ = read_map(PATH, HEADED + "".join(["B,input,2,\n", *rows[:4], *rows[5:]]), MapDefaults(), known)
        self.assertEqual([point.name for point in points], ["B", "A", "P0", "P1", "P2", "P4", "P5"])
        self.assertTrue(all(map(is_, points[1:], [*before[:4], *before[5:]])))


class RowsOfMaps(unittest.TestCase):
    @given(
        st.lists(st.sampled_from(EDITED[:-1]), min_size=1, max_size=8),
        st.dictionaries(st.integers(0, 9), st.sampled_from([{"exponent": 'B "x"'}, {"address": "7"}])),
    )
    def test_only_rows_that_change_are_others(self, rows: list[str], changes: dict[int, dict[str, str]]) -> None:
        before = MapText(HEADED + "".join(rows))
        names = sorted(before.names)
        wanted = {names[at % len(names)]: cells for at, cells in changes.items() if names}
        again = MapText(before.changed(wanted))
        self.assertEqual(list(before.names), list(again.names))
        for name in before.names:
            self.assertEqual(again.cells_of(name), before.cells_of(name) | wanted.get(name, {}))
        self.assertEqual(before.changed({}), HEADED + "".join(rows))


class Addresses(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 60), st.integers(1, 9))), st.integers(0, 70), st.integers(1, 12))
    def test_spans_are_touched_where_any_of_them_is(
        self, spans: list[tuple[int, int]], start: int, length: int
    ) -> None:
        covered = {at for first, size in spans for at in range(first, first + size)}
        found = Spans((first, first + size) for first, size in spans).touch(start, start + length)
        self.assertEqual(found, bool(covered.intersection(range(start, start + length))))


POINT = st.tuples(
    st.sampled_from(["holding", "holding", "input", "coil"]),
    st.integers(0, 40),
    st.sampled_from(["uint16", "uint16", "float32", "float64", "bits", "bool"]),
    st.sampled_from(["1", "1", "10"]),
    st.sampled_from(["r", "r", "r", "w"]),
)


class Rulers(unittest.TestCase):
    """The ruler against one that is made address by address."""

    @settings(max_examples=400)
    @given(st.lists(POINT, max_size=25), st.integers(0, 4))
    def test_the_rows_are_those_of_every_address(
        self, rows: list[tuple[str, int, str, str, str]], max_gap: int
    ) -> None:
        text = "name,table,address,type,bit,period_s,access\n"
        for number, (table, address, kind, period, access) in enumerate(rows):
            is_bit = table == "coil"
            kind, access = "bool" if is_bit else kind, "r" if table == "input" else access
            bit = number % 16 if kind == "bool" and not is_bit else ""
            text += f"P{number},{table},{address},{kind},{bit},{period},{access}\n"
        each_device = replace(device("D", 1, text), limits=DeviceLimits(max_gap=max_gap))
        plan = plan_site(Site("S", (Line("L", TcpLink("192.0.2.1", 502), (each_device,)),)))
        (part,) = plan.parts
        found = Ruler(part)
        expected = list(every_row(plan))
        self.assertEqual([shown(row) for row in found], [shown(row) for row in expected])
        self.assertEqual(len(found), len(expected))
        for at, row in enumerate(found):
            if isinstance(row, RulerRow):
                self.assertIn(at, found.rows_at(row.table, row.address))
        other = Ruler(plan_site(Site("S", (Line("L", TcpLink("192.0.2.2", 502), (each_device,)),))).parts[0], found)
        self.assertEqual([shown(row) for row in other], [shown(row) for row in expected])
        chosen = list(part.places)[::2]
        names = {place.point.name for place in chosen}
        of_them = [row for row in expected if isinstance(row, RulerRow) and row.place and row.place.point.name in names]
        self.assertEqual(list(map(shown, found.rows_of(chosen))), list(map(shown, of_them)))


def shown(row: Row) -> object:
    if not isinstance(row, RulerRow):
        gap = row.gap if isinstance(row, GapRow) else None
        return type(row), row.table, getattr(row, "first", 0), getattr(row, "last", 0), gap and (gap.first, gap.last)
    place = row.place.point.name if row.place is not None else None
    block = row.block.index if row.block is not None else None
    return row.table, row.address, block, row.block_part, place, row.part, row.is_more, row.overlaps


def every_row(plan: Plan) -> Iterator[Row]:
    (part,) = plan.parts
    gaps: dict[tuple[Table, int], Gap] = {}
    for gap in sorted(plan.gaps(part.device), key=lambda gap: gap.before.period_s):
        gaps[gap.before.request.table, gap.first] = gap
    tables = [table for table in Table if any(place.point.table is table for place in part.places)]
    for table in (Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE):
        if table in tables:
            if len(tables) > 1:
                yield TableRow(table)
            yield from rows_of_table(table, [place for place in part.places if place.point.table is table], gaps)


def rows_of_table(table: Table, places: list[Place], gaps: dict[tuple[Table, int], Gap]) -> Iterator[Row]:
    places = sorted(
        places, key=lambda place: (place.point.address, -place.point.size, place.point.codec.bits is not None)
    )
    cover: dict[int, Place] = {}
    blocks: dict[int, Block] = {}
    for place in places:
        for address in range(place.point.address, place.point.end):
            cover.setdefault(address, place)
            if place.block is not None:
                blocks.setdefault(address, place.block)
    for own in {id(block): block for block in blocks.values()}.values():
        for address in range(*own.span):
            blocks.setdefault(address, own)
    last = None
    for address in sorted({*cover, *blocks}):
        if last is not None and address > last + 1:
            yield GapRow(table, last + 1, address - 1, gaps.get((table, last + 1)))
        last = address
        first, block = cover.get(address), blocks.get(address)
        block_part = part_at(address, *block.span) if block is not None else RulerPart.NONE
        part = part_at(address, first.point.address, first.point.end) if first is not None else RulerPart.NONE
        yield RulerRow(table, address, block, block_part, first, part)
        goes_on = RulerPart.MIDDLE if block_part in (RulerPart.FIRST, RulerPart.MIDDLE) else RulerPart.NONE
        for place in places:
            if place.point.address == address and place is not first:
                one, other = (first.point, place.point) if first is not None else (place.point, place.point)
                is_meant = (one.address, one.end) == (other.address, other.end) and (
                    one.codec.bits is not None or other.codec.bits is not None
                )
                yield RulerRow(table, address, block, goes_on, place, RulerPart.WHOLE, True, not is_meant)


def part_at(address: int, start: int, end: int) -> RulerPart:
    if end - start == 1:
        return RulerPart.WHOLE
    return RulerPart.FIRST if address == start else RulerPart.LAST if address == end - 1 else RulerPart.MIDDLE
