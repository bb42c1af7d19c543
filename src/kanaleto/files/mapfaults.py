"""What a device hands down to the points of its map, and faults that lie between rows: names borne twice, overlaps,
gaps."""

from collections.abc import Iterator, Sequence
from operator import attrgetter
from pathlib import Path

from msgspec import Struct, field

from kanaleto.files.mapshared import Shared
from kanaleto.site.counting import Counting, Numbering, from_wire
from kanaleto.site.faults import Fault
from kanaleto.site.model import DeviceLimits, Point
from kanaleto.values.types import Order
from kanaleto.wire.codes import Table

_GAPS_SHOWN = 4


class MapDefaults(Struct, frozen=True):
    """What a device hands down to the points of its map."""

    numbering: Counting = Numbering.PROTOCOL
    order: Order | None = None
    period_s: float = 1.0
    limits: DeviceLimits = field(default_factory=DeviceLimits)
    shared: Shared = field(default_factory=Shared)


def between_rows(path: Path, points: Sequence[Point], defaults: MapDefaults) -> list[Fault]:
    """What only shows when rows are compared: two of one name, overlaps, gaps, points that may not be read."""
    by_name = {point.name: point for point in points}
    found: list[Fault] = []
    if len(by_name) < len(points) or defaults.limits.never_read:
        found += _each_row(path, points, defaults.limits)
    for point in [point for point in points if point.exponent or point.writing.feedback]:
        for what, name in (("exponent", point.exponent), ("feedback", point.writing.feedback)):
            if name and (name not in by_name or name == point.name):
                told = f"{point.name}: {what} names {name!r}, which is no other point of this map"
                found.append(Fault(path, point.row, told))
    for table in Table:
        found += _table_warnings(path, table, [point for point in points if point.table is table], defaults.numbering)
    return found


def _each_row(path: Path, points: Sequence[Point], limits: DeviceLimits) -> Iterator[Fault]:
    """Names borne twice, and points that may not be read."""
    rows: dict[str, int] = {}
    for point in points:
        name = point.name
        if name in rows:
            yield Fault(path, point.row, f"{name}: line {rows[name]} has this name already")
        rows.setdefault(name, point.row)
        if point.access.is_read and limits.forbids_reading(point.table, point.address, point.end - 1):
            yield Fault(path, point.row, f"{name}: never_read covers it, so it is not polled", is_warning=True)


def _table_warnings(path: Path, table: Table, points: list[Point], numbering: Counting) -> list[Fault]:
    found: list[Fault] = []
    gaps: list[tuple[int, int]] = []
    ordered = sorted(points, key=attrgetter("address", "end"))
    reach: Point | None = None
    end = 0
    for point in ordered:
        address = point.address
        if reach is not None and address > end:
            gaps.append((end, address - 1))
        elif reach is not None and address < end and not _share_a_word(reach, point):
            found.append(
                Fault(path, point.row, f"{point.name}: overlaps {reach.name!r} (line {reach.row})", is_warning=True)
            )
        if reach is None or point.end > end:
            reach, end = point, point.end
    if gaps:
        shown = ", ".join(_span_text(gap, table, numbering) for gap in gaps[:_GAPS_SHOWN])
        more = f" and {len(gaps) - _GAPS_SHOWN} more" if len(gaps) > _GAPS_SHOWN else ""
        number = "a gap" if len(gaps) == 1 else f"{len(gaps)} gaps"
        told = f"{table.title}: {number} in the map, never read: {shown}{more}"
        found.append(Fault(path, ordered[0].row, told, is_warning=True))
    return found


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
