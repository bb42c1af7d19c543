"""What a device hands down to the points of its map, and faults that lie between rows: names borne twice, overlaps,
gaps."""

from pathlib import Path

from msgspec import Struct, field

from kanaleto.files.mapshared import Shared
from kanaleto.site.counting import Counting, Numbering, from_wire
from kanaleto.site.faults import Fault
from kanaleto.site.model import DeviceLimits, Point
from kanaleto.values.types import Order
from kanaleto.wire.codes import Table


class MapDefaults(Struct, frozen=True):
    """What a device hands down to the points of its map."""

    numbering: Counting = Numbering.PROTOCOL
    order: Order | None = None
    period_s: float = 1.0
    limits: DeviceLimits = field(default_factory=DeviceLimits)
    shared: Shared = field(default_factory=Shared)


def between_rows(path: Path, points: list[Point], defaults: MapDefaults) -> list[Fault]:
    """What only shows when rows are compared: two of one name, overlaps, gaps, points that may not be read."""
    found: list[Fault] = []
    names: dict[str, int] = {}
    forbids_some = bool(defaults.limits.never_read)
    for point in points:
        if point.name in names:
            found.append(Fault(path, point.row, f"{point.name}: line {names[point.name]} has this name already"))
        names.setdefault(point.name, point.row)
        if (
            forbids_some
            and point.access.is_read
            and defaults.limits.forbids_reading(point.table, point.address, point.end - 1)
        ):
            found.append(
                Fault(path, point.row, f"{point.name}: never_read covers it, so it is not polled", is_warning=True)
            )
    by_name = {point.name: point for point in points}
    for point in points:
        if point.exponent and (point.exponent not in by_name or point.exponent == point.name):
            found.append(
                Fault(
                    path,
                    point.row,
                    f"{point.name}: exponent names {point.exponent!r}, which is no other point of this map",
                )
            )
        feedback = point.writing.feedback
        if feedback and (feedback not in by_name or feedback == point.name):
            told = f"{point.name}: feedback names {feedback!r}, which is no other point of this map"
            found.append(Fault(path, point.row, told))
    for table in Table:
        found += _table_warnings(path, table, [point for point in points if point.table is table], defaults.numbering)
    return found


def _table_warnings(path: Path, table: Table, points: list[Point], numbering: Counting) -> list[Fault]:
    found: list[Fault] = []
    gaps: list[str] = []
    ordered = sorted(points, key=lambda point: (point.address, point.end))
    reach: Point | None = None
    for point in ordered:
        if reach is not None and point.address > reach.end:
            first, last = (from_wire(address, table, numbering) for address in (reach.end, point.address - 1))
            gaps.append(first if first == last else f"{first}–{last}")
        elif reach is not None and point.address < reach.end and not _share_a_word(reach, point):
            found.append(
                Fault(path, point.row, f"{point.name}: overlaps {reach.name!r} (line {reach.row})", is_warning=True)
            )
        if reach is None or point.end > reach.end:
            reach = point
    if gaps and ordered:
        shown = ", ".join(gaps[:4]) + (f" and {len(gaps) - 4} more" if len(gaps) > 4 else "")
        number = "a gap" if len(gaps) == 1 else f"{len(gaps)} gaps"
        found.append(
            Fault(path, ordered[0].row, f"{table.title}: {number} in the map, never read: {shown}", is_warning=True)
        )
    return found


def _share_a_word(one: Point, other: Point) -> bool:
    """Whether two points are meant to share one word: a status word and its bits, or two fields that do not meet."""
    if (one.address, one.end) != (other.address, other.end):
        return False
    if one.codec.bits is None or other.codec.bits is None:
        return one.codec.bits is not other.codec.bits
    return one.codec.bits[1] < other.codec.bits[0] or other.codec.bits[1] < one.codec.bits[0]
