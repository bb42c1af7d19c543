"""What a device hands down to the points of its map, and faults that lie between rows: names borne twice, overlaps,
gaps."""

from collections.abc import Iterator, Sequence
from itertools import accumulate, compress, islice
from operator import gt, lt
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct, field

from kanaleto.files.mapshared import Shared
from kanaleto.site.counting import Counting, Numbering, from_wire
from kanaleto.site.filefaults import Fault
from kanaleto.site.model import DeviceLimits, Point
from kanaleto.values.types import ByteOrder
from kanaleto.wire.codes import Table

_GAPS_SHOWN = 4


class MapDefaults(Struct, frozen=True):
    """What a device hands down to the points of its map."""

    numbering: Counting = Numbering.PROTOCOL
    order: ByteOrder | None = None
    period_s: float = 1.0
    limits: DeviceLimits = field(default_factory=DeviceLimits)
    shared: Shared = field(default_factory=Shared)


class MapRows(NamedTuple):
    """The points of a map, and the line of each."""

    path: Path
    points: Sequence[Point]
    lines: Sequence[int]


def between_rows(rows: MapRows, defaults: MapDefaults) -> list[Fault]:
    """What only shows when rows are compared: two of one name, overlaps, gaps, points that may not be read."""
    path, points, lines = rows
    by_name = {point.name: point for point in points}
    found: list[Fault] = []
    if len(by_name) < len(points) or defaults.limits.never_read:
        found += _each_row(rows, defaults.limits)
    for at in [at for at, point in enumerate(points) if point.exponent or point.writing.feedback]:
        point = points[at]
        for what, name in (("exponent", point.exponent), ("feedback", point.writing.feedback)):
            if name and (name not in by_name or name == point.name):
                text = f"{point.name}: {what} names {name!r}, which is no other point of this map"
                found.append(Fault(path, lines[at], text))
    tables = [point.table for point in points]
    for table in sorted(set(tables), key=list(Table).index):
        rows_here = [at for at, of in enumerate(tables) if of is table]
        found += _table_warnings(rows, table, rows_here, defaults.numbering, defaults.limits.max_gap)
    return found


def _each_row(rows: MapRows, limits: DeviceLimits) -> Iterator[Fault]:
    """Names borne twice, and points that may not be read."""
    seen: dict[str, int] = {}
    for point, line in zip(rows.points, rows.lines, strict=True):
        name = point.name
        if name in seen:
            yield Fault(rows.path, line, f"{name}: line {seen[name]} has this name already")
        seen.setdefault(name, line)
        if point.access.is_read and limits.forbids_reading(point.table, point.address, point.end - 1):
            yield Fault(rows.path, line, f"{name}: never_read covers it, so it is not polled", is_warning=True)


def _table_warnings(rows: MapRows, table: Table, numbers: Sequence[int], numbering: Counting, most: int) -> list[Fault]:
    """Overlaps and gaps of the points `own`; gaps of `most` registers may be read through."""
    path, points, lines = rows
    found: list[Fault] = []
    ordered = sorted(numbers, key=lambda at: points[at].end)
    ordered.sort(key=lambda at: points[at].address)  # twice, and no pair for each point
    starts, ends = [points[at].address for at in ordered[1:]], [points[at].end for at in ordered]
    reaches = ends
    if any(map(gt, ends, starts)):
        found += _overlaps(rows, ordered)
        reaches = list(accumulate(ends, max))
    is_gap = list(map(lt, reaches, starts))
    count = sum(is_gap)
    if count:
        gaps = islice(compress(zip(reaches, starts, strict=False), is_gap), _GAPS_SHOWN)
        shown = ", ".join(_span_text((reach, start - 1), table, numbering) for reach, start in gaps)
        more = f" and {count - _GAPS_SHOWN} more" if count > _GAPS_SHOWN else ""
        number = "a gap" if count == 1 else f"{count} gaps"
        read = f"read through up to {most} long" if most else "never read"
        text = f"{table.title}: {number} in the map, {read}: {shown}{more}"
        found.append(Fault(path, lines[ordered[0]], text, is_warning=True))
    return found


def _overlaps(rows: MapRows, ordered: Sequence[int]) -> Iterator[Fault]:
    """Of the points with these numbers, in the order of address and end, those that begin inside one before them."""
    _, points, lines = rows
    reach, reached = -1, 0
    for at in ordered:
        address, end = points[at].address, points[at].end
        if reach >= 0 and address < reached and not _share_a_word(points[reach], points[at]):
            text = f"{points[at].name}: overlaps {points[reach].name!r} (line {lines[reach]})"
            yield Fault(rows.path, lines[at], text, is_warning=True)
        if reach < 0 or end > reached:
            reach, reached = at, end


def _span_text(span: tuple[int, int], table: Table, numbering: Counting) -> str:
    first, last = (from_wire(address, table, numbering) for address in span)
    return first if first == last else f"{first}–{last}"


def _share_a_word(one: Point, other: Point) -> bool:
    """Whether two points are meant to share one word: a status word and its bits, or two fields that do not meet."""
    if (one.address, one.end) != (other.address, other.end):
        return False
    if one.codec.bits is None or other.codec.bits is None:
        return one.codec.bits is not other.codec.bits
    return one.codec.bits[1] < other.codec.bits[0] or other.codec.bits[1] < one.codec.bits[0]
