"""What the engine learns of a device: how much one request may ask, and which points it does not give.

A block that is refused (02 or 03), or never answered though its device answers others, is cut in half at a boundary
between points, again and again. If in the end every part is read well, the block was too long: the limit lies between
what was read and what was refused, and is narrowed by halving until no plan can try anything between. If a single point
is refused, it is left out and reported.
"""

from collections.abc import Collection, Mapping
from copy import deepcopy

from msgspec import Struct, field

from kanaleto.site.counting import from_wire
from kanaleto.site.model import Device, Point, Site
from kanaleto.wire.codes import Table


class _Suspect(Struct):
    """A block that failed as a whole, cut at `at`. `unread` are the names of its points that have not been read
    since."""

    count: int
    at: int
    unread: set[str]
    has_hole: bool = False


class _Known(Struct):
    """Of one table: the largest request that was answered, the smallest that was too long, and what may be asked until
    both meet."""

    most: int
    read_well: int = 0
    refused: int | None = None
    is_given: bool = False
    breaks: set[int] = field(default_factory=set)
    suspects: list[_Suspect] = field(default_factory=list)

    @property
    def is_seeking(self) -> bool:
        """Whether the limit lies between what was read and what was refused."""
        return self.refused is not None and not self.is_given


class Lessons:
    """Lessons of one device. A `note_…` gives whether to plan again."""

    def __init__(self, most_registers: int, most_bits: int) -> None:
        self._tables = {table: _Known(most_bits if table.is_bits else most_registers) for table in Table}
        self.holes: dict[str, str] = {}  # the point's name, and why
        self.most_for_now: int | None = None
        """So few registers a request, for as long as something may not wait for longer ones."""
        self.holes_since_s = 0.0  # loop time of the last of them

    def most(self, table: Table) -> int:
        """How many items a request may ask, as far as is known."""
        most = self._tables[table].most
        return (
            most if self.most_for_now is None else max(min(most, self.most_for_now * (16 if table.is_bits else 1)), 1)
        )

    def breaks(self, table: Table) -> frozenset[int]:
        """Addresses at which a request must begin while something is being narrowed down."""
        return frozenset(self._tables[table].breaks)

    def learned_most(self, table: Table) -> int | None:
        """The limit, once it is found."""
        known = self._tables[table]
        return known.most if known.is_given else None

    def note_read(self, table: Table, count: int, points: tuple[Point, ...]) -> bool:
        """A block was read well."""
        known = self._tables[table]
        has_news = False
        if count > known.read_well:
            known.read_well = count
            if known.refused is not None and count >= known.refused:  # the refusal had another cause
                known.refused, known.is_given = None, False
            has_news = self._narrow(known)
        if known.suspects:
            has_news = self._clear(known, {point.name for point in points}) or has_news
        return has_news

    def _clear(self, known: _Known, names: set[str]) -> bool:
        has_news = False
        for suspect in list(known.suspects):
            suspect.unread -= names
            if suspect.unread:
                continue
            known.suspects.remove(suspect)
            known.breaks.discard(suspect.at)
            has_news = True
            if not suspect.has_hole and suspect.count > known.read_well:
                known.refused = min(known.refused or suspect.count, suspect.count)
                self._narrow(known)
        return has_news

    def _narrow(self, known: _Known) -> bool:
        if known.refused is None or not known.is_seeking:
            return False
        known.most = max((known.read_well + known.refused) // 2, known.read_well)
        return True

    def note_refused(self, table: Table, count: int, points: tuple[Point, ...], why: str) -> str:
        """A block was refused, or never answered: plan again. Gives the sentence to tell when a point turned out not to
        be there."""
        known = self._tables[table]
        cut_at = _middle(points)
        if cut_at is not None:
            known.suspects.append(_Suspect(count, cut_at, {point.name for point in points}))
            known.breaks.add(cut_at)
            return ""
        names = {point.name for point in points}
        for suspect in known.suspects:
            suspect.has_hole = suspect.has_hole or bool(suspect.unread & names)
        self.holes |= dict.fromkeys(names, why)
        self._clear(known, names)
        return f"does not give {' and '.join(sorted(names))}: {why}"

    def for_edited(self, names: Collection[str]) -> "Lessons":
        """What still holds for a device whose map was edited; of the points that it does not give, `names` stand where
        they stood. What was being narrowed down is begun again, since its parts may lie elsewhere now."""
        kept = deepcopy(self)
        kept.holes = {name: why for name, why in self.holes.items() if name in names}
        for known in kept._tables.values():
            known.suspects.clear()
            known.breaks.clear()
        return kept

    def try_holes_again(self) -> None:
        """Forget which points the device does not give: it may have been starting up, or another one stands there
        now."""
        self.holes.clear()

    def is_seeking(self, table: Table) -> bool:
        """Whether how much a request may ask is being looked for."""
        return self._tables[table].is_seeking

    def settle(self, table: Table, largest_planned: int) -> str:
        """Told the largest request of a new plan: when it is nothing that was not read well already, the limit is
        found. Gives the sentence to tell, once."""
        known = self._tables[table]
        if self.most_for_now is not None or not known.is_seeking or known.suspects or largest_planned > known.read_well:
            return ""
        known.most, known.is_given = known.read_well, True
        what = "bits" if table.is_bits else "registers"
        return f"reads at most {known.read_well} {what} in one request: {known.refused} were refused"


def _middle(points: tuple[Point, ...]) -> int | None:
    """The boundary between points that is nearest the middle of the block, or None when they cannot be parted."""
    start, end = min(point.address for point in points), max(point.end for point in points)
    boundaries = [at for at in {point.address for point in points if point.address > start} if _parts_at(points, at)]
    return min(boundaries, key=lambda at: (abs(2 * at - start - end), at), default=None)


def _parts_at(points: tuple[Point, ...], at: int) -> bool:
    """Whether a cut there tears neither a point nor a group."""
    before, behind = {p.group for p in points if p.end <= at}, {p.group for p in points if p.address >= at}
    return all(point.end <= at or point.address >= at for point in points) and not (before & behind - {""})


def learned(site: Site, lessons_by_name: Mapping[str, Lessons]) -> dict[str, dict[str, object]]:
    """What was learned, as keys of the site file by device name: limits, and addresses that a device does not give."""
    changes: dict[str, dict[str, object]] = {}
    for _, device in site.devices():
        lessons = lessons_by_name.get(device.name)
        if lessons is None:
            continue
        found: dict[str, object] = {}
        for key, tables in (
            ("max_registers", (Table.HOLDING, Table.INPUT)),
            ("max_bits", (Table.COIL, Table.DISCRETE)),
        ):
            limits = [most for table in tables if (most := lessons.learned_most(table)) is not None]
            if limits:
                found[key] = min(limits)
        ranges = [_range_text(device, point) for point in device.points if point.name in lessons.holes]
        if ranges:
            found["never_read"] = ranges
        if found:
            changes[device.name] = found
    return changes


def _range_text(device: Device, point: Point) -> str:
    """A point's addresses as `never_read` has them, counted as the device's map counts."""
    first, last = (from_wire(address, point.table, device.numbering) for address in (point.address, point.end - 1))
    return f"{point.table.value} {first}" + (f"-{last}" if first != last else "")
