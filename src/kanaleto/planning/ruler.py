"""A device's registers as a ruler: every address that a point or a request covers, in order, with what begins, goes on
and ends there.

A row is made when it is looked at. What is kept of a table are its stretches: addresses with a row each, an address at
which several points stand, what lies between.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from enum import Enum
from functools import cached_property
from operator import itemgetter
from typing import Generic, NamedTuple, TypeVar, overload

from msgspec import Struct

from kanaleto.planning.plan import Block, DevicePlan, Gap, Place, Plan, gap_between
from kanaleto.site.model import Device
from kanaleto.wire.codes import Table

T = TypeVar("T")


class Part(Enum):
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
    block_part: Part
    place: Place | None
    part: Part
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


class _Cover(Generic[T]):
    """What covers an address: of several that do the one that came first. They are put in by their beginnings."""

    def __init__(self, spans: Iterable[tuple[int, int, T]]) -> None:
        self._starts: list[int] = []
        self._spans: list[tuple[int, int, T]] = []
        reach = -1
        for span in spans:
            if span[1] > reach:
                self._starts.append(max(span[0], reach))
                self._spans.append(span)
                reach = span[1]

    def at(self, address: int) -> T | None:
        number = bisect_right(self._starts, address) - 1
        if number < 0:
            return None
        _, end, thing = self._spans[number]
        return thing if address < end else None


class Ruler(Sequence[Row]):
    """All rows of a device, table by table."""

    def __init__(self, part: DevicePlan | None) -> None:
        places = part.places if part is not None else ()
        by_table: dict[Table, list[Place]] = {}
        for place in places:
            by_table.setdefault(place.point.table, []).append(place)
        self._tables: list[_TableRows] = []
        row = 0
        for table in (Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE):
            if part is not None and table in by_table:
                self._tables.append(_TableRows(part, table, by_table[table], row, has_title=len(by_table) > 1))
                row = self._tables[-1].end
        self._starts = [rows.start for rows in self._tables]
        self._length = row

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
        return self._tables[bisect_right(self._starts, at) - 1].row(at)

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


def ruler(plan: Plan, device: Device) -> Ruler:
    """All rows of a device."""
    return Ruler(plan.part_of(device.name))


class _TableRows:
    """The rows of one table, from number `start` up to (not with) `end`."""

    def __init__(self, part: DevicePlan, table: Table, places: Sequence[Place], start: int, has_title: bool) -> None:
        self.table, self.start = table, start
        self._part = part
        wide_first = sorted(
            [
                (place.point.address, -place.point.size, place.point.codec.bits is not None, at)
                for at, place in enumerate(places)
            ]
        )
        self._places = [places[at] for *_, at in wide_first]
        self._addresses = [address for address, *_ in wide_first]
        self._cover = _Cover((place.point.address, place.point.end, place) for place in self._places)
        read = [(*block.span, block) for block in {id(own.block): own.block for own in self._places}.values() if block]
        self._first_block = _Cover(
            (place.point.address, place.point.end, place.block) for place in self._places if place.block is not None
        )
        self._any_block = _Cover(read)
        covered = [(place.point.address, place.point.end) for place in self._places]
        covered += [(first, end) for first, end, _ in read]
        self._stretches = [_Stretch(start, _Kind.TITLE, -1)] if has_title else []
        self.end = self._lay_out(sorted(covered), start + has_title)
        self._rows = [stretch.row for stretch in self._stretches]

    def _lay_out(self, covered: Iterable[tuple[int, int]], row: int) -> int:
        """Stretches from row `row` on; gives the number of the row behind them."""
        several = self._several()
        numbers = sorted(several)
        first, reach = -1, -1
        for start, end in covered:
            if start > reach and reach >= 0:
                row = self._stretch(first, reach, several, numbers, row)
                self._stretches.append(_Stretch(row, _Kind.GAP, reach))
                row += 1
            if start > reach:
                first = start
            reach = max(reach, end)
        return self._stretch(first, reach, several, numbers, row)

    def _stretch(self, first: int, end: int, several: dict[int, int], numbers: Sequence[int], row: int) -> int:
        """Addresses `first` up to (not with) `end`, without a gap between."""
        at, number = first, bisect_left(numbers, first)
        while at < end:
            next_several = numbers[number] if number < len(numbers) else end
            if at < min(next_several, end):
                self._stretches.append(_Stretch(row, _Kind.EACH, at))
                row += min(next_several, end) - at
            if next_several < end:
                self._stretches.append(_Stretch(row, _Kind.SEVERAL, next_several))
                row += several[next_several]
            at, number = next_several + 1, number + 1
        return row

    def _several(self) -> dict[int, int]:
        """Addresses at which other than one point begins, or one inside another; how many rows each has."""
        found: dict[int, int] = {}
        reach, last = -1, -1
        for place, address in zip(self._places, self._addresses, strict=True):
            if address == last:
                found[address] = found.get(address, 1) + 1
            elif address < reach:
                found[address] = 2
            last = address
            reach = max(reach, place.point.end)
        return found

    def row(self, number: int) -> Row:
        stretch = self._stretches[bisect_right(self._rows, number) - 1]
        address, below = stretch.address, number - stretch.row
        if stretch.kind is _Kind.TITLE:
            return TableRow(self.table)
        if stretch.kind is _Kind.GAP:
            return self._gap(address)
        if stretch.kind is _Kind.EACH:
            return self._one(address + below)
        return self._several_rows(address)[below]

    def rows_at(self, address: int) -> range:
        number = bisect_right(self._by_address, address) - 1
        if number < 0:
            return range(0)
        stretch = self._of_addresses[number]
        if stretch.kind is _Kind.EACH:
            following = stretch.row + address - stretch.address
            is_inside = following < self._row_behind(stretch)
            return range(following, following + 1) if is_inside else range(0)
        if stretch.kind is _Kind.SEVERAL and stretch.address == address:
            return range(stretch.row, self._row_behind(stretch))
        return range(0)

    @cached_property
    def _of_addresses(self) -> list[_Stretch]:
        return [stretch for stretch in self._stretches if stretch.kind is not _Kind.TITLE]

    @cached_property
    def _by_address(self) -> list[int]:
        return [stretch.address for stretch in self._of_addresses]

    def _row_behind(self, stretch: _Stretch) -> int:
        number = bisect_right(self._rows, stretch.row)
        return self._rows[number] if number < len(self._rows) else self.end

    def _gap(self, first: int) -> GapRow:
        """From an address that nothing covers to the next that something does."""
        last = self._by_address[bisect_right(self._by_address, first)] - 1
        return GapRow(self.table, first, last, next(self._gaps_from(first), None))

    def _gaps_from(self, first: int) -> Iterator[Gap]:
        """What lies between requests, from an address on: of those of the longest period first."""
        for _, blocks in self._by_period:
            at = bisect_left(blocks, first, key=lambda block: block.span[1])
            if at + 1 < len(blocks) and blocks[at].span[1] == first:
                gap = gap_between(self._part.device, blocks[at], blocks[at + 1])
                if gap is not None:
                    yield gap

    @cached_property
    def _by_period(self) -> list[tuple[float, list[Block]]]:
        """The blocks of each period, in the order of their addresses; the longest period first."""
        found: dict[float, list[Block]] = {}
        for block in self._part.blocks:
            if block.request.table is self.table:
                found.setdefault(block.period_s, []).append(block)
        for blocks in found.values():
            blocks.sort(key=lambda block: block.request.address)
        return sorted(found.items(), reverse=True)

    def _block_at(self, address: int) -> Block | None:
        """The one that fetches the point there first, else any that reads it along."""
        return self._first_block.at(address) or self._any_block.at(address)

    def _begin(self, address: int) -> Iterator[Place]:
        """The points that begin there."""
        at = bisect_left(self._addresses, address)
        while at < len(self._addresses) and self._addresses[at] == address:
            yield self._places[at]
            at += 1

    def _one(self, address: int) -> RulerRow:
        block, covering = self._block_at(address), self._cover.at(address)
        block_part = _part(address, *block.span) if block is not None else Part.NONE
        part = Part.NONE
        if covering is not None:
            part = _part(address, covering.point.address, covering.point.end)
        return RulerRow(self.table, address, block, block_part, covering, part)

    def _several_rows(self, address: int) -> list[RulerRow]:
        one = self._one(address)
        rows = [one]
        going_on = Part.MIDDLE if one.block_part in (Part.FIRST, Part.MIDDLE) else Part.NONE
        for place in self._begin(address):
            if place is not one.place:
                is_shared = one.place is not None and _is_meant(one.place, place)
                rows.append(
                    RulerRow(
                        self.table, address, one.block, going_on, place, Part.WHOLE, is_more=True,
                        overlaps=not is_shared,
                    )
                )  # fmt: skip
        return rows


def _is_meant(one: Place, other: Place) -> bool:
    """Bits and fields of one word share it on purpose."""
    return (one.point.address, one.point.end) == (other.point.address, other.point.end) and (
        other.point.codec.bits is not None or one.point.codec.bits is not None
    )


def _part(address: int, start: int, end: int) -> Part:
    if end - start == 1:
        return Part.WHOLE
    return Part.FIRST if address == start else Part.LAST if address == end - 1 else Part.MIDDLE
