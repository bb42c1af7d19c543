"""Which requests fetch the points of a site, at the least line time: every point in one block, no point torn, points of
one group together, and no register outside the map read unless `max_gap` allows it."""

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import cached_property, partial
from itertools import count, pairwise

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.planning.again import planned_again
from kanaleto.planning.blocks import (
    AnyPlace,
    Block,
    BlockKey,
    DerivedPlace,
    DevicePlan,
    Gap,
    Identity,
    Kept,
    Place,
    SwitchedOff,
    WhyNot,
)
from kanaleto.planning.cost import LineCost, line_cost
from kanaleto.planning.lessons import Lessons
from kanaleto.planning.partition import Rules, items_of, partition
from kanaleto.site.model import DEMAND, Device, Line, Point, Site
from kanaleto.values.codec import Codec
from kanaleto.values.types import Kind, Order, ValueType
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read

__all__ = [
    "AnyPlace",
    "Block",
    "BlockKey",
    "DerivedPlace",
    "DevicePlan",
    "Gap",
    "Identity",
    "Place",
    "Plan",
    "SwitchedOff",
    "WhyNot",
    "blocks_to_keep",
    "derived_places",
    "gap_between",
    "plan_device",
    "plan_site",
]

_DERIVED_CODEC = Codec(ValueType(Kind.FLOAT64), Order.ABCD)


class Plan(Struct, frozen=True, dict=True):
    """Every block of a site, and the place of every point, device by device in the order of the site file. Frozen: a
    plan that changes is another plan, and a place is only good in the plan that it came from. What is looked up in it
    is looked up a device at a time: a plan that differs in one device has the rest in common with the one before."""

    parts: tuple[DevicePlan, ...]
    derived: tuple[DerivedPlace, ...] = ()

    @property
    def blocks(self) -> Iterator[Block]:
        return (block for part in self.parts for block in part.blocks)

    @property
    def places(self) -> Iterator[Place]:
        """Places of the points of all devices; derived ones stand in `derived`."""
        return (place for part in self.parts for place in part.places)

    @cached_property
    def _derived_by_name(self) -> dict[str, DerivedPlace]:
        return {place.own.name: place for place in self.derived}

    @cached_property
    def _by_device(self) -> dict[str, DevicePlan]:
        return {part.device.name: part for part in self.parts}

    @property
    def identities(self) -> Iterator[Identity]:
        """Every point, derived ones too."""
        yield from (place.identity for place in self.places)
        yield from (place.identity for place in self.derived)

    def place_of(self, identity: Identity) -> AnyPlace | None:
        """Where a point stands in this plan; None where there is no such point any more."""
        device, name = identity
        if not device:
            return self._derived_by_name.get(name)
        part = self._by_device.get(device)
        return part.by_name.get(name) if part is not None else None

    def part_of(self, device_name: str) -> DevicePlan | None:
        return self._by_device.get(device_name)

    def with_part(self, part: DevicePlan) -> "Plan":
        """The same with another plan for one device."""
        return Plan(tuple(part if own.device.name == part.device.name else own for own in self.parts), self.derived)

    def blocks_of(self, line: Line) -> Iterator[Block]:
        return (block for part in self.parts if part.line.name == line.name for block in part.blocks)

    def parts_by_line(self) -> dict[str, list[DevicePlan]]:
        """By the name of the line."""
        found: dict[str, list[DevicePlan]] = {}
        for part in self.parts:
            found.setdefault(part.line.name, []).append(part)
        return found

    def load(self, line: Line) -> float:
        """The share of the line's time that its blocks take at their periods; above 1 they cannot all be kept. Blocks
        without a pause and on demand do not count."""
        return sum(block.cost_s / block.period_s for block in self.blocks_of(line) if block.period_s > 0)

    def gaps(self, device: Device) -> list[Gap]:
        """What lies between neighbouring blocks of a device, and why it is two requests."""
        part = self.part_of(device.name)
        sequences = [blocks for own in part.sequences.values() for blocks in own] if part is not None else []
        pairs = (pair for blocks in sequences for pair in pairwise(blocks))
        return [gap for before, behind in pairs if (gap := gap_between(device, before, behind)) is not None]


def gap_between(device: Device, before: Block, behind: Block) -> Gap | None:
    """What lies between two blocks of a device, of one table and one period; None where nothing does."""
    first, last = before.span[1], behind.span[0] - 1
    if last < first:
        return None
    table, cost = before.request.table, line_cost(before.line.link, before.line.gap_s)
    through_s = (last - first + 1) * cost.item_s(table)
    is_forbidden = not _may_read(device, table, first, last + 1)
    return Gap(before, behind, first, last, through_s, cost.fixed_s, is_forbidden)


def plan_site(
    site: Site,
    lessons: Mapping[str, Lessons] | None = None,
    switched_off: SwitchedOff | None = None,
    old: Plan | None = None,
    next_index: Callable[[], int] | None = None,
    narrowed: Collection[str] = (),
) -> Plan:
    """Plan all lines of a site, with what was learned of its devices so far (by name), without the points that are
    switched off. What is the same in the `old` plan, made with the same lessons, is not made again: whole devices, else
    blocks of the same points; others get their index from `next_index`. `narrowed` are devices whose requests were cut
    to find something out when it was made, and are to be whole again."""
    known, off = lessons or {}, switched_off or {}
    numbers = next_index or count().__next__
    parts = []
    for line, device in site.devices():
        part = old.part_of(device.name) if old is not None else None
        if part is not None and part.line is line and part.device is device:
            parts.append(part)
            continue
        is_alike = part is not None and _is_alike(part, line, device)
        if part is not None and is_alike and device.name not in narrowed:
            again = planned_again(part, line, device, numbers)
            if again is not None:
                parts.append(again)
                continue
        kept = blocks_to_keep(part) if part is not None and is_alike else None
        parts.append(plan_device(line, device, known.get(device.name), numbers, off.get(device.name, ()), kept))
    return Plan(tuple(parts), derived_places(site))


def _is_alike(part: DevicePlan, line: Line, device: Device) -> bool:
    """Whether but for points nothing differs that a block could depend on."""
    return replace(part.device, points=()) == replace(device, points=()) and (
        replace(part.line, devices=()) == replace(line, devices=())
    )


def blocks_to_keep(part: DevicePlan) -> Kept:
    """The blocks of a device by what they ask."""
    return {
        (block.request.table, block.request.address, block.request.count, block.period_s, len(block.points)): block
        for block in part.blocks
    }


def derived_places(site: Site) -> tuple[DerivedPlace, ...]:
    """Places of the derived points."""
    return tuple(
        DerivedPlace(
            own,
            Point(
                own.name,
                Table.INPUT,
                0,
                _DERIVED_CODEC,
                0.0,
                unit=own.unit,
                decimals=own.decimals,
                limits=own.limits,
                note=own.note,
            ),
        )
        for own in site.derived
    )


def plan_device(
    line: Line,
    device: Device,
    lessons: Lessons | None,
    next_index: Callable[[], int],
    switched_off: Collection[str] = (),
    kept: Kept | None = None,
) -> DevicePlan:
    """Blocks of one device, and the places of its points; those named in `switched_off` are left out. A block that
    `kept` has with the same points stays as it is, others get their index from `next_index`."""
    cost = line_cost(line.link, line.gap_s)
    known = lessons or Lessons(device.limits.max_registers, device.limits.max_bits)
    limits = device.limits
    if device.is_enabled and not (limits.never_read or limits.functions is not None or known.holes or switched_off):
        # the same as below, and quick where there are thousands
        only_written = (WhyNot.ONLY_WRITTEN, WhyNot.ONLY_WRITTEN.value)
        reasons = {id(point): only_written for point in device.points if not point.access.is_read}
    else:
        reasons = {id(point): why for point in device.points if (why := _why_not(device, point, known, switched_off))}
    places: dict[int, Place] = {}
    blocks: list[Block] = []
    for points, table, period_s in _requests(device, known, cost, reasons):
        block = _block(next_index, line, device, points, table, period_s, cost, kept or {})
        blocks.append(block)
        for number, point in enumerate(points):
            places[id(point)] = Place(line, device, point, block, number)
    off = 0
    for point in device.points if reasons else ():
        why = reasons.get(id(point))
        if why is not None:
            places[id(point)] = Place(line, device, point, None, 0, why[1], why[0])
            off += why[0] is WhyNot.SWITCHED_OFF
    return DevicePlan(line, device, tuple(blocks), tuple([places[id(point)] for point in device.points]), off)


def _why_not(device: Device, point: Point, known: Lessons, switched_off: Collection[str]) -> tuple[WhyNot, str] | None:
    """Why a point is not polled, and in words; None where it is."""
    if point.name in switched_off:
        return WhyNot.SWITCHED_OFF, WhyNot.SWITCHED_OFF.value
    if not device.is_enabled:
        return WhyNot.DEVICE_OFF, WhyNot.DEVICE_OFF.value
    if not point.access.is_read:
        return WhyNot.ONLY_WRITTEN, WhyNot.ONLY_WRITTEN.value
    if device.limits.forbids_reading(point.table, point.address, point.end - 1):
        return WhyNot.NEVER_READ, WhyNot.NEVER_READ.value
    functions = device.limits.functions
    if functions is not None and point.table.read_function not in functions:
        return WhyNot.NO_FUNCTION, f"{WhyNot.NO_FUNCTION.value} {int(point.table.read_function)}"
    why = known.holes.get(point.name)
    return (WhyNot.NOT_GIVEN, why) if why else None


def _may_read(device: Device, table: Table, start: int, end: int) -> bool:
    """Whether registers that no polled point needs may be read along."""
    if end - start > device.limits.max_gap or device.limits.forbids_reading(table, start, end - 1):
        return False
    return not device.only_written[table].touch(start, end)


def _requests(
    device: Device, known: Lessons, cost: LineCost, reasons: Collection[int]
) -> Iterator[tuple[list[Point], Table, float]]:
    kinds: dict[tuple[Table, float], list[Point]] = {}
    for point in device.points:
        if id(point) not in reasons:
            kinds.setdefault((point.table, point.period_s), []).append(point)
    periods = _kept_below_watchdog(device, kinds)
    for (table, period_s), points in kinds.items():
        rules = Rules(
            min(known.most(table), device.limits.most_read(table)),
            cost.fixed_s,
            cost.item_s(table),
            device.limits.max_gap,
            partial(_may_read, device, table),
            known.breaks(table),
        )
        for request in partition(items_of(points, rules), rules):
            yield [point for item in request for point in item.points], table, periods[table, period_s]


def _kept_below_watchdog(
    device: Device, kinds: Mapping[tuple[Table, float], Sequence[Point]]
) -> dict[tuple[Table, float], float]:
    """The periods, the shortest of them shortened where the device would not bear to be left alone so long: to half its
    watchdog."""
    periods = {kind: kind[1] for kind in kinds}
    asked = [kind for kind in kinds if kind[1] != DEMAND]
    if device.watchdog_s is not None and asked:
        shortest = min(asked, key=lambda kind: kind[1])
        periods[shortest] = min(shortest[1], device.watchdog_s / 2)
    return periods


def _block(
    next_index: Callable[[], int],
    line: Line,
    device: Device,
    points: Sequence[Point],
    table: Table,
    period_s: float,
    cost: LineCost,
    kept: Kept,
) -> Block:
    start, end = points[0].address, max([point.end for point in points])  # they come in the order of their addresses
    if kept:
        old = kept.get((table, start, end - start, period_s, len(points)))
        if old is not None and old.points == tuple(points):
            return old
    request = Read(table, start, end - start)
    cost_s = cost.request_s(table, request.count)
    return Block(next_index(), line, device, request, period_s, tuple(points), cost_s)
