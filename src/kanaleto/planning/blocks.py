"""The parts of a plan: blocks, what one request reads; places, where a point is; gaps between blocks."""

from collections.abc import Collection, Mapping, Sequence
from enum import Enum
from functools import cached_property
from typing import NamedTuple

from msgspec import Struct

from kanaleto.planning.basis import Basis
from kanaleto.site.links.link import Link
from kanaleto.site.model import NO_LIMITS, Derived, Device, Line, Point
from kanaleto.values.block import BitBlock, RegisterBlock
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read

Identity = tuple[str, str]
"""Device and point by name: what a point is called through every edit. A derived point has no device."""

BlockKey = tuple[str, Read, tuple[str, ...]]
Kept = Mapping[tuple[Table, int, int, int], Sequence["Block"]]
"""Blocks by table, first address, count, and how many points they have."""


class WhyNot(Enum):
    """Why a point is not polled. The value is a sentence, or the beginning of one."""

    SWITCHED_OFF = "it is switched off"
    DEVICE_OFF = "the device is switched off"
    ONLY_WRITTEN = "it is only written"
    NEVER_READ = "never_read covers it"
    NO_FUNCTION = "the device does not know function"
    NOT_GIVEN = "the device does not give it"


Reason = tuple[WhyNot, str]
"""Why a point is not polled, and in words."""

SwitchedOff = Mapping[str, Collection[str]]
"""Names of the points that are switched off, by device."""


class Block(Struct, frozen=True, dict=True):
    """What one request reads. `index` is its place on the board; `cost_s` is the line time of the exchange. Line and
    device are those of the basis, without devices and points. What only who asks it needs is made when it is asked
    first."""

    index: int
    line: Line
    device: Device
    request: Read
    period_s: float
    points: tuple[Point, ...]
    cost_s: float

    @cached_property
    def pdu(self) -> bytes:
        return self.request.encode()

    @cached_property
    def offsets(self) -> tuple[int, ...]:
        """Each point's first register (or bit) in it."""
        start = self.request.address
        return tuple([point.address - start for point in self.points])

    @cached_property
    def decoder(self) -> RegisterBlock | BitBlock:
        request = self.request
        if request.table.is_bits:
            return BitBlock(request.count, self.offsets)
        codecs = [point.codec for point in self.points]
        return RegisterBlock(request.count, list(zip(self.offsets, codecs, strict=True)))

    @property
    def span(self) -> tuple[int, int]:
        """Its first address, and the one after its last."""
        request = self.request
        return request.address, request.address + request.count

    @property
    def key(self) -> BlockKey:
        """The same in two plans when both read the same points with the same request."""
        return self.device.name, self.request, tuple(point.name for point in self.points)

    @property
    def source(self) -> tuple[Link, int, Read]:
        """The same in two plans when both ask the same unit the same, so that the words of one are words of the
        other."""
        return self.line.link, self.device.unit_id, self.request

    def decodes_like(self, other: "Block") -> bool:
        """Whether both make the same values of the same words, under the same names."""
        return self.offsets == other.offsets and [(one.name, one.codec) for one in self.points] == [
            (one.name, one.codec) for one in other.points
        ]


class Place(Struct, frozen=True, gc=False):
    """Where a point's value is: its block, and its number in that block. For points that are not polled, `why_not` says
    why, and `because` which kind of reason that is. Line and device are those of the basis, without devices and points:
    a place is the same in plans that differ elsewhere."""

    line: Line
    device: Device
    point: Point
    block: Block | None
    number: int
    why_not: str = ""
    because: "WhyNot | None" = None

    @property
    def identity(self) -> Identity:
        return self.device.name, self.point.name

    @property
    def is_refused(self) -> bool:
        """Whether the device itself does not give it."""
        return self.because is WhyNot.NOT_GIVEN


class DevicePlan(Struct, frozen=True, dict=True):
    """The blocks of one device, table by table and period by period in the order of their addresses; the places of its
    points by their names, in the order of its map; on what basis, and how many points are switched off for now, and how
    many the device does not give."""

    device: Device
    basis: Basis
    blocks: tuple[Block, ...]
    by_name: dict[str, Place]
    switched_off: int = 0
    not_given: int = 0

    @property
    def line(self) -> Line:
        """Without its devices: what is said of another device of the line does not concern this one."""
        return self.basis.line

    @property
    def places(self) -> Collection[Place]:
        return self.by_name.values()

    def place_at(self, number: int) -> Place:
        """That of the point with this number in the map."""
        return self.by_name[self.device.points[number].name]

    @cached_property
    def order(self) -> dict[str, int]:
        """Which of the places is that of a point."""
        return {name: at for at, name in enumerate(self.by_name)}

    @cached_property
    def blocks_by_index(self) -> dict[int, Block]:
        return {block.index: block for block in self.blocks}

    @cached_property
    def sequences(self) -> dict[Table, list[list[Block]]]:
        """The blocks of each table and period in the order of their addresses, those of the longest period first."""
        found: dict[tuple[Table, float], list[Block]] = {}
        for block in self.blocks:
            found.setdefault((block.request.table, block.period_s), []).append(block)
        sequences: dict[Table, list[list[Block]]] = {}
        for (table, _), blocks in sorted(found.items(), key=lambda kind: -kind[0][1]):
            sequences.setdefault(table, []).append(sorted(blocks, key=lambda block: block.request.address))
        return sequences

    @cached_property
    def shortest_s(self) -> float:
        """The shortest period of those that have one."""
        return min((block.period_s for block in self.blocks if block.period_s > 0), default=0.0)

    @cached_property
    def longest_cost_s(self) -> float:
        return max((block.cost_s for block in self.blocks), default=0.0)

    @cached_property
    def exponents(self) -> dict[Identity, Place]:
        """Where the points that are powers of ten for others stand, by the identity of those; both are of one
        device."""
        wanted = [place for place in self.places if place.point.exponent]
        found = {place.identity: self.by_name.get(place.point.exponent) for place in wanted}
        return {identity: place for identity, place in found.items() if place is not None}

    @cached_property
    def unread(self) -> tuple[Place, ...]:
        """Points that no block reads."""
        return tuple(place for place in self.places if place.block is None)

    @cached_property
    def limited(self) -> tuple[Place, ...]:
        """Points with limits that can be passed."""
        wanted = [place for place in self.places if place.point.limits is not NO_LIMITS]
        return tuple([place for place in wanted if place.point.limits.can_be_passed])

    def look_up(self) -> None:
        """Make now what is asked for later, where time matters more."""
        _ = self.blocks_by_index, self.shortest_s, self.longest_cost_s, self.exponents, self.limited


class PlanDiff(Struct, frozen=True):
    """Blocks of the `old` plan of a device that the `new` one has not, by their index, and those that only the new one
    has, in their order."""

    old: DevicePlan | None
    new: DevicePlan
    gone: list[int]
    fresh: list[Block]


def difference(old: DevicePlan | None, new: DevicePlan) -> PlanDiff:
    had, has = old.blocks_by_index if old is not None else {}, new.blocks_by_index
    gone = [index for index, block in had.items() if has.get(index) is not block]
    return PlanDiff(old, new, gone, [block for index, block in has.items() if had.get(index) is not block])


class DerivedPlace(NamedTuple):
    """A point computed from others: no block reads it, the board has its reading by name. `point` says how it is
    shown."""

    derived: Derived
    point: Point

    @property
    def identity(self) -> Identity:
        return "", self.derived.name


AnyPlace = Place | DerivedPlace


class Gap(Struct, frozen=True):
    """Addresses `first`…`last` between two blocks of one table and period: what reading through them would cost, and
    what a second request costs, in seconds of line time. `is_forbidden` when they must not be read."""

    before: Block
    behind: Block
    first: int
    last: int
    through_s: float
    second_s: float
    is_forbidden: bool
