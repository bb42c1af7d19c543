"""A device's registers as a ruler: every address that a point or a request covers, in order, with what begins, goes on
and ends there."""

from collections import defaultdict
from collections.abc import Sequence
from enum import Enum

from msgspec import Struct

from kanaleto.planning.plan import Block, Gap, Place, Plan
from kanaleto.site.model import Device
from kanaleto.wire.codes import Table


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


def ruler(plan: Plan, device: Device) -> list[Row]:
    """All rows of a device, table by table."""
    part = plan.part_of(device.name)
    places = part.places if part is not None else ()
    gaps = {(gap.before.request.table, gap.first): gap for gap in plan.gaps(device)}
    rows: list[Row] = []
    by_table: dict[Table, list[Place]] = {}
    for place in places:
        by_table.setdefault(place.point.table, []).append(place)
    for table in (Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE):
        if table not in by_table:
            continue
        if len(by_table) > 1:
            rows.append(TableRow(table))
        rows += _table_rows(table, by_table[table], gaps)
    return rows


def _table_rows(table: Table, places: Sequence[Place], gaps: dict[tuple[Table, int], Gap]) -> list[Row]:
    starts: dict[int, list[Place]] = defaultdict(list)
    cover: dict[int, Place] = {}
    blocks: dict[int, Block] = {}
    for place in sorted(places, key=_wide_first):
        point, block = place.point, place.block
        starts[point.address].append(place)
        for address in range(point.address, point.end):
            cover.setdefault(address, place)
            if block is not None:
                blocks.setdefault(address, block)
    for own in {id(block): block for block in blocks.values()}.values():
        for address in range(*own.span):
            blocks.setdefault(address, own)
    rows: list[Row] = []
    last = -1
    for address in sorted({*cover, *blocks}):
        if rows and address > last + 1:
            rows.append(GapRow(table, last + 1, address - 1, gaps.get((table, last + 1))))
        last = address
        begin, covering, block = starts.get(address, ()), cover.get(address), blocks.get(address)
        if len(begin) <= 1 and (not begin or begin[0] is covering):  # as nearly all are
            block_part = _part(address, *block.span) if block is not None else Part.NONE
            part = Part.NONE
            if covering is not None:
                part = _part(address, covering.point.address, covering.point.end)
            rows.append(RulerRow(table, address, block, block_part, covering, part))
        else:
            rows += _address_rows(table, address, begin, covering, block)
    return rows


def _wide_first(place: Place) -> tuple[int, int, int]:
    return place.point.address, -place.point.size, place.point.codec.bits is not None


def _address_rows(
    table: Table, address: int, begin: Sequence[Place], covering: Place | None, block: Block | None
) -> list[Row]:
    block_part = Part.NONE
    if block is not None:
        block_part = _part(address, *block.span)
    first: Place | None = None
    if covering is not None and covering.point.address < address:
        first = covering
    elif begin:
        first = begin[0]
    rows: list[Row] = []
    part = _part(address, first.point.address, first.point.end) if first is not None else Part.NONE
    rows.append(RulerRow(table, address, block, block_part, first, part))
    more = [place for place in begin if place is not first]
    going_on = Part.MIDDLE if block_part in (Part.FIRST, Part.MIDDLE) else Part.NONE
    for place in more:
        is_shared = first is not None and _is_meant(first, place)
        rows.append(RulerRow(table, address, block, going_on, place, Part.WHOLE, is_more=True, overlaps=not is_shared))
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
