"""Requests for points of one device: which points are asked at all, and which of them together."""

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from functools import partial
from operator import attrgetter, is_

from kanaleto.planning.basis import Basis
from kanaleto.planning.blocks import Block, Kept, Reason, WhyNot
from kanaleto.planning.partition import Rules, requests_of
from kanaleto.site.model import DEMAND, Access, Device, Point
from kanaleto.values.codec import Codec
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read

_MEANING: Callable[[Point], tuple[str, int, Codec]] = attrgetter("name", "address", "codec")
_ONLY_WRITTEN = (WhyNot.ONLY_WRITTEN, WhyNot.ONLY_WRITTEN.value)

RequestKind = tuple[Table, float]
"""Table and period of points that may share requests; the period is that of the map."""


class Asking:
    """Makes blocks of one device, for a basis; fresh ones get their index from `next_index`."""

    def __init__(self, device: Device, basis: Basis, next_index: Callable[[], int]) -> None:
        self.device, self.basis = device, basis
        self._next_index = next_index
        self._cost = basis.line.link.cost(basis.line.gap_s)

    def left_out(self) -> dict[str, Reason]:
        """Why points are not polled, by their names."""
        limits, basis = self.device.limits, self.basis
        is_all_read = not limits.never_read and limits.functions is None and not basis.holes and not basis.switched_off
        if self.device.is_enabled and is_all_read:  # as below, for what most devices are: a third of planning's time
            return {point.name: _ONLY_WRITTEN for point in self.device.points if point.access is Access.WRITE}
        return {point.name: why for point in self.device.points if (why := self._why_not(point)) is not None}

    def _why_not(self, point: Point) -> Reason | None:
        device, basis = self.device, self.basis
        if point.name in basis.switched_off:
            return WhyNot.SWITCHED_OFF, WhyNot.SWITCHED_OFF.value
        if not device.is_enabled:
            return WhyNot.DEVICE_OFF, WhyNot.DEVICE_OFF.value
        if not point.access.is_read:
            return _ONLY_WRITTEN
        if device.limits.forbids_reading(point.table, point.address, point.end - 1):
            return WhyNot.NEVER_READ, WhyNot.NEVER_READ.value
        functions = device.limits.functions
        if functions is not None and point.table.read_function not in functions:
            return WhyNot.NO_FUNCTION, f"{WhyNot.NO_FUNCTION.value} {int(point.table.read_function)}"
        why = basis.holes.get(point.name)
        return (WhyNot.NOT_GIVEN, why) if why else None

    def blocks(self, table: Table, period_s: float, points: Sequence[Point], kept: Kept) -> list[Block]:
        """Of points of one table and period, in the order of their addresses. Where `kept` has a block of the very
        points it stays."""
        rules = self._rules(table)
        return [self._block(table, period_s, request, kept) for request in requests_of(points, rules)]

    def _rules(self, table: Table) -> Rules:
        basis, cost = self.basis, self._cost
        may = partial(may_read, self.device, table)
        breaks = basis.breaks_of(table)
        return Rules(basis.most_of(table), cost.fixed_s, cost.item_s(table), self.device.limits.max_gap, may, breaks)

    def _block(self, table: Table, period_s: float, points: Sequence[Point], kept: Kept) -> Block:
        start = points[0].address  # they come in the order of their addresses
        count = max([point.end for point in points]) - start
        request, cost_s = Read(table, start, count), self._cost.request_s(table, count)
        line, device = self.basis.line, self.basis.device
        index = None
        for old in kept.get((table, start, count, len(points)), ()):
            is_same = old.line is line and old.device is device and old.period_s == period_s
            if is_same and all(map(is_, old.points, points)):
                return old
            if list(map(_MEANING, old.points)) == list(map(_MEANING, points)):
                index = old.index  # the same words under the same names
        index = self._next_index() if index is None else index
        return Block(index, line, device, request, period_s, tuple(points), cost_s)


def may_read(device: Device, table: Table, start: int, end: int) -> bool:
    """Whether registers that no polled point needs may be read along."""
    if end - start > device.limits.max_gap or device.limits.forbids_reading(table, start, end - 1):
        return False
    return not device.only_written[table].touch(start, end)


def kept_below_watchdog(device: Device, kinds: Collection[RequestKind]) -> Mapping[RequestKind, float]:
    """The periods, the shortest of them shortened where the device would not bear to be left alone so long: to half its
    watchdog."""
    periods = {kind: kind[1] for kind in kinds}
    asked = [kind for kind in kinds if kind[1] != DEMAND]
    if device.watchdog_s is not None and asked:
        shortest = min(asked, key=lambda kind: (kind[1], list(Table).index(kind[0])))
        periods[shortest] = min(shortest[1], device.watchdog_s / 2)
    return periods


def kept_of(blocks: Iterable[Block]) -> Kept:
    """Blocks of one link and unit by what they ask."""
    found: dict[tuple[Table, int, int, int], list[Block]] = {}
    for block in blocks:
        request = block.request
        found.setdefault((request.table, request.address, request.count, len(block.points)), []).append(block)
    return found
