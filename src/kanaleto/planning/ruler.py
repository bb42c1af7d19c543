"""A device's registers as a ruler: every address that a point or a request covers, in order, with what begins, goes on
and ends there.

A row is made when it is looked at. What is kept of a table are its stretches: addresses with a row each, an address at
which several points stand, what lies between. They hold as long as points and requests stand where they stood, whatever
else is changed.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from enum import Enum
from operator import itemgetter
from typing import NamedTuple, overload

from msgspec import Struct

from kanaleto.planning.plan import Block, DevicePlan, Gap, Place, gap_between
from kanaleto.site.model import Point
from kanaleto.wire.codes import Table


class RulerPart(Enum):
    """Where a row stands in a bracket."""

    NONE = 0
    WHOLE = 1
    FIRST = 2
    MIDDLE = 3
    LAST = 4


class RulerRow(Struct, frozen=True):
    """One address (and table): the request that fetches it, and the point on it. `is_more` rows hold further points
    of the same address; `overlaps` says that this point shares registers with another that it should not share them
    with."""

    table: Table
    address: int
    block: Block | None
    block_part: RulerPart
    place: Place | None
    part: RulerPart
    is_more: bool = False
    overlaps: bool = False


class GapRow(Struct, frozen=True):
    """Addresses that no point covers; with what reading through them would cost where two requests lie on both
    sides."""

    table: Table
    first: int
    last: int
    gap: Gap | None


class TableRow(Struct, frozen=True):
    table: Table


Row = RulerRow | GapRow | TableRow


class _Kind(Enum):
    TITLE = 0
    GAP = 1
    EACH = 2  # addresses with a row each
    SEVERAL = 3  # one address with several


class _Stretch(NamedTuple):
    """Rows from number `row` on, from an address on."""

    row: int
    kind: _Kind
    address: int


_Span = tuple[int, int, int]
"""Addresses from a first one up to (not with) an end, and the number of whose they are."""


class _Stretches:
    """In the order of their rows."""

    def __init__(self) -> None:
        self.rows, self.addresses = list[int](), list[int]()
        self._kinds = list[_Kind]()

    def add(self, row: int, kind: _Kind, address: int) -> None:
        self.rows.append(row)
        self._kinds.append(kind)
        self.addresses.append(address)

    def at(self, number: int) -> _Stretch:
        return _Stretch(self.rows[number], self._kinds[number], self.addresses[number])


class _Cover:
    """What covers an address: of several that do the one that came first. They are put in by their beginnings, and are
    known by numbers."""

    def __init__(self, spans: Iterable[_Span]) -> None:
        self._starts, self._ends, self._whose = list[int](), list[int](), list[int]()
        reach = -1
        for start, end, number in spans:
            if end > reach:
                self._starts.append(start if start > reach else reach)
                self._ends.append(end)
                self._whose.append(number)
                reach = end

    def at(self, address: int) -> int | None:
        number = bisect_right(self._starts, address) - 1
        return self._whose[number] if number >= 0 and address < self._ends[number] else None


class Ruler(Sequence[Row]):
    """All rows of a device, table by table. What it has in common with the one `before` is not laid out again."""

    def __init__(self, part: DevicePlan, before: "Ruler | None" = None) -> None:
        self.part = part
        if before is not None and _stand_alike(before.part, part):
            self._tables: list[_TableRows] = before._tables
        else:
            self._tables = _tables_of(part)
        self._starts = [rows.start for rows in self._tables]
        self._length = self._tables[-1].end if self._tables else 0

    def __len__(self) -> int:
        return self._length

    @overload
    def __getitem__(self, index: int) -> Row: ...

    @overload
    def __getitem__(self, index: slice) -> list[Row]: ...

    def __getitem__(self, index: int | slice) -> Row | list[Row]:
        if isinstance(index, slice):
            return [self[at] for at in range(*index.indices(self._length))]
        at = index + self._length if index < 0 else index
        if not 0 <= at < self._length:
            raise IndexError(index)
        return self._tables[bisect_right(self._starts, at) - 1].row(self.part, at)

    def rows_at(self, table: Table, address: int) -> range:
        """The numbers of the rows of an address."""
        return next((rows.rows_at(address) for rows in self._tables if rows.table is table), range(0))

    def rows_of(self, places: Iterable[Place]) -> list[Row]:
        """Those of some points only, in the order of the ruler."""
        found: dict[int, Row] = {}
        for place in places:
            point = place.point
            for address in range(point.address, point.end):
                for at in self.rows_at(point.table, address):
                    row = self[at]
                    if isinstance(row, RulerRow) and row.place is place:
                        found[at] = row
        return [row for _, row in sorted(found.items(), key=itemgetter(0))]


def _tables_of(part: DevicePlan) -> list["_TableRows"]:
    by_table: dict[Table, list[int]] = {}
    for number, point in enumerate(part.device.points):
        by_table.setdefault(point.table, []).append(number)
    tables: list[_TableRows] = []
    row = 0
    for table in (Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE):
        if table in by_table:
            tables.append(_TableRows(part, table, by_table[table], row, has_title=len(by_table) > 1))
            row = tables[-1].end
    return tables


def _stand_alike(one: DevicePlan, other: DevicePlan) -> bool:
    """Whether points and requests of both stand at the same addresses."""
    if len(one.places) != len(other.places) or len(one.blocks) != len(other.blocks):
        return False
    points = zip(one.device.points, other.device.points, strict=True)
    blocks = zip(one.blocks, other.blocks, strict=True)
    return all(_standing(point) == _standing(new) for point, new in points if point is not new) and all(
        block.request == new.request for block, new in blocks if block is not new
    )


def _standing(point: Point) -> tuple[object, ...]:
    return point.table, point.address, point.end, point.codec.bits is not None


class _TableRows:
    """The rows of one table, from number `start` up to (not with) `end`. Places and blocks are known by their numbers
    in the plan, so that it holds for another plan whose points stand alike."""

    def __init__(self, part: DevicePlan, table: Table, numbers: Sequence[int], start: int, has_title: bool) -> None:
        self.table, self.start = table, start
        blocks = {block.index: number for number, block in enumerate(part.blocks)}
        points = part.device.points
        ordered = sorted(numbers, key=lambda number: _rank(points[number]))
        covered = [(points[number].address, points[number].end, number) for number in ordered]
        self._addresses, self._numbers = [first for first, _, _ in covered], ordered
        self._cover = _Cover(covered)
        read = [
            (first, end, blocks[block.index])
            for first, end, number in covered
            if (block := part.place_at(number).block) is not None
        ]
        self._first_block = _Cover(read)
        whole = [(*part.blocks[number].span, number) for number in dict.fromkeys(number for _, _, number in read)]
        self._any_block = _Cover(whole)
        self._stretches = _Stretches()
        self._titles = int(has_title)
        if has_title:
            self._stretches.add(start, _Kind.TITLE, -1)
        several = _several(covered)
        bounds = sorted((first, end) for first, end, _ in [*covered, *whole])  # requests may cover more than points
        self.end = self._lay_out(bounds, several, start + has_title)

    def _lay_out(self, bounds: Iterable[tuple[int, int]], several: dict[int, int], row: int) -> int:
        """Stretches from row `row` on; gives the number of the row behind them. Each bound is an address and the one
        behind the last."""
        numbers = sorted(several)
        first = reach = -1
        for start, end in bounds:
            if start > reach:
                if reach >= 0:
                    row = self._stretch(first, reach, several, numbers, row)
                    self._stretches.add(row, _Kind.GAP, reach)
                    row += 1
                first = start
            if end > reach:
                reach = end
        return self._stretch(first, reach, several, numbers, row)

    def _stretch(self, first: int, end: int, several: dict[int, int], numbers: Sequence[int], row: int) -> int:
        """Addresses `first` up to (not with) `end`, without a gap between."""
        at, number = first, bisect_left(numbers, first)
        while at < end:
            following = numbers[number] if number < len(numbers) and numbers[number] < end else end
            if at < following:
                self._stretches.add(row, _Kind.EACH, at)
                row += following - at
            if following < end:
                self._stretches.add(row, _Kind.SEVERAL, following)
                row += several[following]
            at, number = following + 1, number + 1
        return row

    def row(self, part: DevicePlan, number: int) -> Row:
        stretch = self._stretches.at(bisect_right(self._stretches.rows, number) - 1)
        address, below = stretch.address, number - stretch.row
        if stretch.kind is _Kind.TITLE:
            return TableRow(self.table)
        if stretch.kind is _Kind.GAP:
            return self._gap(part, address)
        if stretch.kind is _Kind.EACH:
            return self._one(part, address + below)
        return self._several_rows(part, address)[below]

    def rows_at(self, address: int) -> range:
        number = self._at_address(address)
        if number < self._titles:
            return range(0)
        stretch, behind = self._stretches.at(number), self._row_behind(number)
        if stretch.kind is _Kind.EACH:
            following = stretch.row + address - stretch.address
            return range(following, following + 1) if following < behind else range(0)
        if stretch.kind is _Kind.SEVERAL and stretch.address == address:
            return range(stretch.row, behind)
        return range(0)

    def _at_address(self, address: int) -> int:
        """The number of the last stretch that begins there or before."""
        return bisect_right(self._stretches.addresses, address, self._titles) - 1

    def _row_behind(self, number: int) -> int:
        rows = self._stretches.rows
        return rows[number + 1] if number + 1 < len(rows) else self.end

    def _gap(self, part: DevicePlan, first: int) -> GapRow:
        """From an address that nothing covers to the next that something does."""
        last = self._stretches.addresses[self._at_address(first) + 1] - 1
        return GapRow(self.table, first, last, next(self._gaps_from(part, first), None))

    def _gaps_from(self, part: DevicePlan, first: int) -> Iterator[Gap]:
        """What lies between requests, from an address on: of those of the longest period first."""
        for blocks in part.sequences.get(self.table, ()):
            at = bisect_left(blocks, first, key=lambda block: block.span[1])
            if at + 1 < len(blocks) and blocks[at].span[1] == first:
                gap = gap_between(part.device, blocks[at], blocks[at + 1])
                if gap is not None:
                    yield gap

    def _one(self, part: DevicePlan, address: int) -> RulerRow:
        read, covering = self._first_block.at(address), self._cover.at(address)
        read = read if read is not None else self._any_block.at(address)
        block = part.blocks[read] if read is not None else None
        place = part.place_at(covering) if covering is not None else None
        block_part = _part(address, *block.span) if block is not None else RulerPart.NONE
        point_part = _part(address, place.point.address, place.point.end) if place is not None else RulerPart.NONE
        return RulerRow(self.table, address, block, block_part, place, point_part)

    def _several_rows(self, part: DevicePlan, address: int) -> list[RulerRow]:
        one = self._one(part, address)
        rows = [one]
        going_on = RulerPart.MIDDLE if one.block_part in (RulerPart.FIRST, RulerPart.MIDDLE) else RulerPart.NONE
        begin = slice(bisect_left(self._addresses, address), bisect_right(self._addresses, address))
        for place in [part.place_at(number) for number in self._numbers[begin]]:
            if place is not one.place:
                overlaps = one.place is None or not _is_meant(one.place, place)
                rows.append(RulerRow(self.table, address, one.block, going_on, place, RulerPart.WHOLE, True, overlaps))
        return rows


def _rank(point: Point) -> tuple[int, int, bool]:
    """By address, wide ones first, and bits of a word behind the word."""
    return point.address, -point.size, point.codec.bits is not None


def _several(covered: Iterable[_Span]) -> dict[int, int]:
    """Addresses at which other than one point begins, or one inside another; how many rows each has."""
    found: dict[int, int] = {}
    reach = -1
    for address, end, _ in covered:
        if address < reach:
            found[address] = found.get(address, 1) + 1
        if end > reach:
            reach = end
    return found


def _is_meant(one: Place, other: Place) -> bool:
    """Bits and fields of one word share it on purpose."""
    return (one.point.address, one.point.end) == (other.point.address, other.point.end) and (
        other.point.codec.bits is not None or one.point.codec.bits is not None
    )


def _part(address: int, start: int, end: int) -> RulerPart:
    if end - start == 1:
        return RulerPart.WHOLE
    return RulerPart.FIRST if address == start else RulerPart.LAST if address == end - 1 else RulerPart.MIDDLE
