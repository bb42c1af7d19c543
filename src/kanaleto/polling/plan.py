"""Which requests fetch the points of a site: every point in one block, no point torn, no register outside the map read."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.values.block import BitBlock, RegisterBlock
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read


@dataclass(frozen=True, slots=True)
class Block:
    """What one request reads. `index` is its place on the board; `offsets` give each point's first register (or bit) in it."""

    index: int
    line: Line
    device: Device
    request: Read
    pdu: bytes
    period_s: float
    points: tuple[Point, ...]
    offsets: tuple[int, ...]
    decoder: RegisterBlock | BitBlock


@dataclass(frozen=True, slots=True)
class Place:
    """Where a point's value is: its block, and its number in that block. None for points that are not polled."""

    line: Line
    device: Device
    point: Point
    block: Block | None
    number: int


@dataclass(frozen=True, slots=True)
class Plan:
    """Every block of a site, and the place of every point in the order of the site file."""

    blocks: tuple[Block, ...]
    places: tuple[Place, ...]

    def blocks_of(self, line: Line) -> Iterator[Block]:
        return (block for block in self.blocks if block.line is line)


def plan_site(site: Site) -> Plan:
    """Plan all lines of a site."""
    blocks: list[Block] = []
    places: list[Place] = []
    for line, device in site.devices():
        found: dict[int, tuple[Block, int]] = {}
        if device.is_enabled:
            for points in _runs(device):
                block = _block(len(blocks), line, device, points)
                blocks.append(block)
                found |= {id(point): (block, number) for number, point in enumerate(block.points)}
        for point in device.points:
            block_of, number = found.get(id(point), (None, 0))
            places.append(Place(line, device, point, block_of, number))
    return Plan(tuple(blocks), tuple(places))


def _is_polled(device: Device, point: Point) -> bool:
    return point.access.is_read and not device.limits.forbids_reading(point.table, point.address, point.end - 1)


def _runs(device: Device) -> Iterator[list[Point]]:
    """Points that one request can fetch: one table and period, registers without a gap, within the device's limit."""
    kinds: dict[tuple[Table, float], list[Point]] = {}
    for point in device.points:
        if _is_polled(device, point):
            kinds.setdefault((point.table, point.period_s), []).append(point)
    for (table, _), points in kinds.items():
        yield from _split(sorted(points, key=lambda point: (point.address, point.end)), device.limits.most_read(table))


def _split(points: Iterable[Point], most: int) -> Iterator[list[Point]]:
    run: list[Point] = []
    end = 0
    for point in points:
        reach = max(end, point.end)
        if run and (point.address > end or reach - run[0].address > most):
            yield run
            run, reach = [], point.end
        run.append(point)
        end = reach
    if run:
        yield run


def _block(index: int, line: Line, device: Device, points: list[Point]) -> Block:
    first = points[0]
    start, end = first.address, max(point.end for point in points)
    request = Read(first.table, start, end - start)
    offsets = tuple(point.address - start for point in points)
    decoder: RegisterBlock | BitBlock
    if first.table.is_bits:
        decoder = BitBlock(request.count, offsets)
    else:
        decoder = RegisterBlock(request.count, [(point.address - start, point.codec) for point in points])
    return Block(index, line, device, request, request.encode(), first.period_s, tuple(points), offsets, decoder)
