"""Which requests fetch the points of a site, at the least line time: every point in one block, no point torn, points of one group
together, and no register outside the map read unless `max_gap` allows it."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

from kanaleto.polling.cost import LineCost, line_cost
from kanaleto.polling.lessons import Lessons
from kanaleto.polling.partition import Rules, items_of, partition
from kanaleto.site.link import TcpLink
from kanaleto.site.model import DEMAND, Device, Line, Point, Site
from kanaleto.values.block import BitBlock, RegisterBlock
from kanaleto.values.codec import Codec
from kanaleto.values.types import Kind, Order, ValueType
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read

DERIVED, FORMULA = "Derived", "a formula"
_DERIVED_CODEC = Codec(ValueType(Kind.FLOAT64), Order.ABCD)


@dataclass(frozen=True, slots=True)
class Block:
    """What one request reads. `index` is its place on the board; `offsets` give each point's first register (or bit) in it;
    `cost_s` is the line time of the exchange."""

    index: int
    line: Line
    device: Device
    request: Read
    pdu: bytes
    period_s: float
    points: tuple[Point, ...]
    offsets: tuple[int, ...]
    decoder: RegisterBlock | BitBlock
    cost_s: float

    @property
    def key(self) -> tuple[str, Read, tuple[str, ...]]:
        """The same in two plans when both read the same points with the same request."""
        return self.device.name, self.request, tuple(point.name for point in self.points)


class Place(NamedTuple):
    """Where a point's value is: its block, and its number in that block. For points that are not polled, `why_not` says why, and
    `is_refused` that it is since the device does not give it."""

    line: Line
    device: Device
    point: Point
    block: Block | None
    number: int
    why_not: str = ""
    is_refused: bool = False

    def with_block(self, block: Block | None) -> "Place":
        """The same in another block that reads the same points."""
        return self if block is self.block or block is None else self._replace(block=block)


@dataclass(frozen=True, slots=True)
class Gap:
    """Addresses `first`…`last` between two blocks of one table and period: what reading through them would cost, and what a second
    request costs, in seconds of line time. `is_forbidden` when they must not be read."""

    before: Block
    behind: Block
    first: int
    last: int
    through_s: float
    second_s: float
    is_forbidden: bool


@dataclass(frozen=True, slots=True)
class Plan:
    """Every block of a site, and the place of every point in the order of the site file."""

    blocks: tuple[Block, ...]
    places: tuple[Place, ...]

    def blocks_of(self, line: Line) -> Iterator[Block]:
        return (block for block in self.blocks if block.line is line)

    def blocks_by_line(self) -> dict[str, list[Block]]:
        """All blocks, by the name of their line."""
        found: dict[str, list[Block]] = {}
        for block in self.blocks:
            found.setdefault(block.line.name, []).append(block)
        return found

    def load(self, line: Line) -> float:
        """The share of the line's time that its blocks take at their periods; above 1 they cannot all be kept. Blocks without a pause
        and on demand do not count."""
        return sum(block.cost_s / block.period_s for block in self.blocks_of(line) if block.period_s > 0)

    def gaps(self, device: Device) -> list[Gap]:
        """What lies between neighbouring blocks of a device, and why it is two requests."""
        found: list[Gap] = []
        unread = [point for point in device.points if not point.access.is_read]
        own = sorted((b for b in self.blocks if b.device is device), key=lambda b: (b.request.table.value, b.period_s, b.request.address))
        for before, behind in pairwise(own):
            if (before.request.table, before.period_s) != (behind.request.table, behind.period_s):
                continue
            first, last = before.request.address + before.request.count, behind.request.address - 1
            cost, table = line_cost(before.line.link, before.line.gap_s), before.request.table
            if last >= first:
                through_s = (last - first + 1) * cost.item_s(table)
                found.append(
                    Gap(before, behind, first, last, through_s, cost.fixed_s, not _may_read(device, table, first, last + 1, unread))
                )
        return found


def plan_site(site: Site, lessons: Mapping[str, Lessons] | None = None) -> Plan:
    """Plan all lines of a site, with what was learned of its devices so far (by name)."""
    blocks: list[Block] = []
    places: list[Place] = []
    for line, device in site.devices():
        own_blocks, own_places = plan_device(line, device, (lessons or {}).get(device.name), len(blocks))
        blocks += own_blocks
        places += own_places
    return Plan(tuple(blocks), (*places, *derived_places(site)))


def derived_places(site: Site) -> list[Place]:
    """Places of the derived points: no block reads them, the board has their readings by name."""
    points = tuple(
        Point(own.name, Table.INPUT, 0, _DERIVED_CODEC, 0.0, own.unit, own.decimals, limits=own.limits, note=own.note)
        for own in site.derived
    )
    device = Device(DERIVED, 0, points, 1.0, 0)
    return [Place(Line(site.name, TcpLink("0.0.0.0", 1), (device,)), device, point, None, 0, FORMULA) for point in points]


def plan_device(
    line: Line, device: Device, lessons: Lessons | None, first_index: int, switched_off: Collection[str] = ()
) -> tuple[list[Block], list[Place]]:
    """Blocks of one device, numbered from `first_index`, and the places of its points; those named in `switched_off` are left out."""
    cost = line_cost(line.link, line.gap_s)
    known = lessons or Lessons(device.limits.max_registers, device.limits.max_bits)
    unread = [point for point in device.points if not point.access.is_read]
    limits = device.limits
    if device.is_enabled and not (limits.never_read or limits.functions is not None or known.holes or switched_off):
        reasons = {id(point): "it is only written" for point in unread}  # the same as below, and quick where there are thousands
    else:
        reasons = {id(point): why for point in device.points if (why := _why_not(device, point, known, switched_off))}
    found: dict[int, tuple[Block, int]] = {}
    blocks: list[Block] = []
    for points, table, period_s in _requests(device, known, cost, reasons, unread):
        block = _block(first_index + len(blocks), line, device, points, table, period_s, cost)
        blocks.append(block)
        found |= {id(point): (block, number) for number, point in enumerate(block.points)}
    places = []
    for point in device.points:
        block_of, number = found.get(id(point), (None, 0))
        why = reasons.get(id(point), "")
        places.append(Place(line, device, point, block_of, number, why, bool(why) and why == known.holes.get(point.name)))
    return blocks, places


def _why_not(device: Device, point: Point, known: Lessons, switched_off: Collection[str]) -> str:
    """Why a point is not polled, or nothing."""
    if point.name in switched_off:
        return "it is switched off"
    if not device.is_enabled:
        return "the device is switched off"
    if not point.access.is_read:
        return "it is only written"
    if device.limits.forbids_reading(point.table, point.address, point.end - 1):
        return "never_read covers it"
    functions = device.limits.functions
    if functions is not None and point.table.read_function not in functions:
        return f"the device does not know function {int(point.table.read_function)}"
    return known.holes.get(point.name, "")


def _may_read(device: Device, table: Table, start: int, end: int, unread: Sequence[Point]) -> bool:
    """Whether registers that no polled point needs may be read along; `unread` are the device's points that are only written."""
    if end - start > device.limits.max_gap or device.limits.forbids_reading(table, start, end - 1):
        return False
    return not any(point.table is table and point.address < end and start < point.end for point in unread)


def _requests(
    device: Device, known: Lessons, cost: LineCost, reasons: Mapping[int, str], unread: Sequence[Point]
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
            lambda start, end, table=table: _may_read(device, table, start, end, unread),  # type: ignore[misc]
            known.breaks(table),
        )
        for request in partition(items_of(points, rules), rules):
            yield [point for item in request for point in item.points], table, periods[table, period_s]


def _kept_below_watchdog(device: Device, kinds: Mapping[tuple[Table, float], Sequence[Point]]) -> dict[tuple[Table, float], float]:
    """The periods, the shortest of them shortened where the device would not bear to be left alone so long: to half its watchdog."""
    periods = {kind: kind[1] for kind in kinds}
    asked = [kind for kind in kinds if kind[1] != DEMAND]
    if device.watchdog_s is not None and asked:
        shortest = min(asked, key=lambda kind: kind[1])
        periods[shortest] = min(shortest[1], device.watchdog_s / 2)
    return periods


def _block(index: int, line: Line, device: Device, points: Sequence[Point], table: Table, period_s: float, cost: LineCost) -> Block:
    start, end = min(point.address for point in points), max(point.end for point in points)
    request = Read(table, start, end - start)
    offsets = tuple(point.address - start for point in points)
    decoder: RegisterBlock | BitBlock
    if table.is_bits:
        decoder = BitBlock(request.count, offsets)
    else:
        decoder = RegisterBlock(request.count, [(point.address - start, point.codec) for point in points])
    cost_s = cost.request_s(table, request.count)
    return Block(index, line, device, request, request.encode(), period_s, tuple(points), offsets, decoder, cost_s)
