"""Which requests fetch the points of a site, at the least line time: every point in one block, no point torn, points of
one group together, and no register outside the map read unless `max_gap` allows it."""

from collections.abc import Callable, Collection, Iterator, Mapping
from functools import cached_property
from itertools import count, groupby, pairwise
from operator import attrgetter

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.planning.basis import basis_of
from kanaleto.planning.blocks import (
    AnyPlace,
    Block,
    BlockKey,
    DerivedPlace,
    DevicePlan,
    Gap,
    Identity,
    Place,
    SwitchedOff,
    WhyNot,
)
from kanaleto.planning.lessons import Lessons
from kanaleto.planning.requests import Asking, RequestKind, kept_below_watchdog, kept_of, may_read
from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table

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
    "derived_places",
    "gap_between",
    "plan_device",
    "plan_site",
]

_KIND: Callable[[Point], RequestKind] = attrgetter("table", "period_s")
_POINT: Callable[[Place], Point] = attrgetter("point")
_DERIVED_CODEC = Codec(ValueType(Kind.FLOAT64), ByteOrder.ABCD)


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
        return {place.derived.name: place for place in self.derived}

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

    def points_of(self, device_name: str) -> tuple[Point, ...]:
        """All points of a device in the order of its map; none of a device that is no more. Places and blocks know only
        a device without its points."""
        part = self._by_device.get(device_name)
        return part.device.points if part is not None else ()

    def part_of(self, device_name: str) -> DevicePlan | None:
        return self._by_device.get(device_name)

    def with_part(self, part: DevicePlan) -> "Plan":
        """The same with another plan for one device."""
        return Plan(
            tuple(part if device_plan.device.name == part.device.name else device_plan for device_plan in self.parts),
            self.derived,
        )

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
        sequences = (
            [blocks for block_lists in part.sequences.values() for blocks in block_lists] if part is not None else []
        )
        pairs = (pair for blocks in sequences for pair in pairwise(blocks))
        return [gap for before, behind in pairs if (gap := gap_between(device, before, behind)) is not None]


def gap_between(device: Device, before: Block, behind: Block) -> Gap | None:
    """What lies between two blocks of a device, of one table and one period; None where nothing does."""
    first, last = before.span[1], behind.span[0] - 1
    if last < first:
        return None
    table, cost = before.request.table, before.line.link.cost(before.line.gap_s)
    through_s = (last - first + 1) * cost.item_s(table)
    is_forbidden = not may_read(device, table, first, last + 1)
    return Gap(before, behind, first, last, through_s, cost.fixed_s, is_forbidden)


def plan_site(
    site: Site,
    lessons: Mapping[str, Lessons] | None = None,
    switched_off: SwitchedOff | None = None,
    old: Plan | None = None,
    next_index: Callable[[], int] | None = None,
) -> Plan:
    """Plan all lines of a site, with what was learned of its devices so far (by name), without the points that are
    switched off. Of the `old` plan what does not differ stays: the very same devices whole (of which nothing else was
    learned since), of others what `plan_device` leaves; fresh blocks get their index from `next_index`."""
    known, off = lessons or {}, switched_off or {}
    numbers = next_index or count().__next__
    parts = []
    for line in site.lines:
        bare_line = replace(line, devices=())
        for device in line.devices:
            part = old.part_of(device.name) if old is not None else None
            if part is None or part.device is not device or part.line != bare_line:
                part = plan_device(line, device, known.get(device.name), numbers, off.get(device.name, ()), part)
            parts.append(part)
    return Plan(tuple(parts), derived_places(site))


def derived_places(site: Site) -> tuple[DerivedPlace, ...]:
    """Places of the derived points."""
    return tuple(
        DerivedPlace(
            formula,
            Point(
                formula.name,
                Table.INPUT,
                0,
                _DERIVED_CODEC,
                0.0,
                unit=formula.unit,
                decimals=formula.decimals,
                limits=formula.limits,
                note=formula.note,
            ),
        )
        for formula in site.derived
    )


def plan_device(
    line: Line,
    device: Device,
    lessons: Lessons | None,
    next_index: Callable[[], int],
    switched_off: Collection[str] = (),
    before: DevicePlan | None = None,
) -> DevicePlan:
    """Blocks of one device, and the places of its points; those named in `switched_off` are left out. Of the plan
    `before` the blocks stay wherever they read the same points with the same request; others get their index from
    `next_index`. It costs 4 ms for 1000 points."""
    basis = basis_of(line, device, lessons, switched_off, before.basis if before is not None else None)
    asking = Asking(device, basis, next_index)
    reasons = asking.left_out()
    kinds: dict[RequestKind, list[Point]] = {}
    for kind, run in groupby((point for point in device.points if point.name not in reasons), _KIND):
        kinds.setdefault(kind, []).extend(run)
    periods = kept_below_watchdog(device, kinds)
    kept = kept_of(before.blocks) if before is not None and before.basis.source == basis.source else {}
    blocks = [block for kind, points in kinds.items() for block in asking.blocks(kind[0], periods[kind], points, kept)]
    found = {
        point.name: Place(basis.line, basis.device, point, block, number)
        for block in blocks
        for number, point in enumerate(block.points)
    }
    for point in device.points if reasons else ():
        if point.name in reasons:
            because, why_not = reasons[point.name]
            found[point.name] = Place(basis.line, basis.device, point, None, 0, why_not, because)
    places = {point.name: found[point.name] for point in device.points}
    off, not_given = (
        sum(why is wanted for why, _ in reasons.values()) for wanted in (WhyNot.SWITCHED_OFF, WhyNot.NOT_GIVEN)
    )
    return DevicePlan(device, basis, tuple(blocks), places, off, not_given)
