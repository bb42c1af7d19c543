"""The plan of a device made of the one before: requests are found anew only near something that differs.

The requests of one table and period lie in stretches, and no request may read from one into the next. A point that
comes, goes or moves changes nothing but the stretches that it touches, and those that share a group with them: points
of these are parted into requests once more, and all others stay as they are.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import partial
from itertools import accumulate, groupby
from operator import is_, is_not

from msgspec import Struct

from kanaleto.planning.blocks import Block, DevicePlan, Place, WhyNot
from kanaleto.planning.requests import Asking, RequestKind, kept_of, may_read
from kanaleto.site.ends import in_common
from kanaleto.site.model import Line, Point
from kanaleto.wire.codes import Table

_PART, _FEW = 16, 1000  # where more than such a part differs nothing is won
_EVERYWHERE = (-1, 1 << 17)


def planned_again(before: DevicePlan, line: Line, asking: Asking) -> DevicePlan | None:
    """The plan of a device that differs from `before` in its points or in what was learned of it. None where it is to
    be planned from the beginning, since points changed their order, there are other periods, or most differs."""
    changes = _changes(before.device.points, asking.device.points)
    names = asking.basis.other_names(before.basis)
    if (
        changes is None
        or _PART * (len(changes.gone) + len(changes.come) + len(names)) > len(before.device.points) + _FEW
    ):
        return None
    for name in names:
        place = before.by_name.get(name)
        if place is not None:
            changes.turn(place.point)
    return _Again(before, line, asking, changes).plan()


class _Changes(Struct):
    """What differs between the points of two plans: those that are asked no more, those that are asked now, and such as
    are asked as before but of whose words something else is made; the first and the last by which object each was.
    `first` points at the beginning and `last` at the end are the very ones."""

    first: int
    last: int
    gone: dict[int, Point]
    come: list[Point]
    reworded: dict[int, Point]

    def turn(self, point: Point) -> None:
        """A point of the plan before is left out now, or was."""
        if id(point) not in self.gone:
            self.gone[id(point)] = point
            self.come.append(self.reworded.pop(id(point), point))


def _changes(old: Sequence[Point], new: Sequence[Point]) -> _Changes | None:
    """None where the order of points that stay is another one."""
    if old is new:
        return _Changes(len(old), 0, {}, [], {})
    first, last = in_common(old, new, is_not)
    old, new = old[first : len(old) - last], new[first : len(new) - last]
    before, now = {id(point) for point in old}, {id(point) for point in new}
    gone = {point.name: point for point in old if id(point) not in now}
    come, reworded = [], {}
    for point in new:
        was = gone.get(point.name)
        if was is not None and id(point) not in before and _asked(was) == _asked(point):
            reworded[id(gone.pop(point.name))] = point
        elif id(point) not in before:
            come.append(point)
    without, fresh = {id(point): point for point in gone.values()}, {id(point) for point in come}
    stood = [reworded.get(id(point), point) for point in old if id(point) not in without]
    stand = [point for point in new if id(point) not in fresh]
    return _Changes(first, last, without, come, reworded) if all(map(is_, stood, stand)) else None


def _asked(point: Point) -> tuple[object, ...]:
    """All that says when and with what it is asked."""
    return point.table, point.address, point.end, point.period_s, point.group, point.access


class _Again:
    """Makes the plan of what stays and what does not."""

    def __init__(self, before: DevicePlan, line: Line, asking: Asking, changes: _Changes) -> None:
        self._before, self._line, self._asking, self._changes = before, line, asking, changes
        self._left_out = asking.left_out(changes.come)
        self._read = [point for point in changes.come if id(point) not in self._left_out]
        now = changes.reworded
        middle = [before.place_at(number) for number in range(changes.first, len(before.device.points) - changes.last)]
        self._was = {id(now.get(id(place.point), place.point)): place for place in middle}
        self._rewording = {id(place.block) for place in middle if id(place.point) in now}
        self._places: dict[int, Place] = {}
        """Of points whose place is another one, by which object they are."""
        for point in changes.come:
            reason = self._left_out.get(id(point))
            if reason is not None:
                self._places[id(point)] = self._place(point, None, 0, reason[1], reason[0])

    def _place(
        self, point: Point, block: Block | None, number: int, why_not: str = "", because: WhyNot | None = None
    ) -> Place:
        basis = self._asking.basis
        return Place(basis.line, basis.device, point, block, number, why_not, because)

    def _as_now(self, points: Iterable[Point]) -> Iterator[Point]:
        """What stays of points of the plan before."""
        reworded, gone = self._changes.reworded, self._changes.gone
        return (reworded.get(id(point), point) for point in points if id(point) not in gone)

    def plan(self) -> DevicePlan | None:
        """None where it is to be planned from the beginning."""
        by_kind = {kind: list(run) for kind, run in groupby(self._before.blocks, lambda block: _kind(block.points[0]))}
        if not by_kind.keys() >= {_kind(point) for point in self._read}:
            return None
        asking, blocks = self._asking, list[Block]()
        parted = [(kind, own[0].period_s, *self._parted(kind, own)) for kind, own in by_kind.items()]
        if asking.device.watchdog_s is not None and not all(near or stay for _, _, _, near, stay in parted):
            return None  # another period may be the shortest now
        kept = kept_of(block for _, _, before, _, _ in parted for block in before)
        for (table, _), period_s, _, near, stay in parted:
            found = asking.blocks(table, period_s, near, kept) if near else []
            for block in found:
                self._note(block)
            rest = [self._reworded(block) if id(block) in self._rewording else block for block in stay]
            blocks += sorted([*rest, *found], key=_address) if found else rest
        places = self._all_places()
        off = sum(place.because is WhyNot.SWITCHED_OFF for place in places.values()) if asking.basis.switched_off else 0
        return DevicePlan(self._line, asking.device, asking.basis, tuple(blocks), places, off)

    def _reworded(self, block: Block) -> Block:
        """The same request, of whose words something else is made."""
        again = self._asking.like(block, tuple(self._as_now(block.points)))
        self._note(again)
        return again

    def _note(self, block: Block) -> None:
        for number, point in enumerate(block.points):
            self._places[id(point)] = self._place(point, block, number)

    def _parted(self, kind: RequestKind, own: list[Block]) -> tuple[list[Block], list[Point], list[Block]]:
        """Of one table and period: the blocks near to something that differs, the points there now, and the blocks that
        stay."""
        come = [point for point in self._read if _kind(point) == kind]
        touched = self._touched(kind[0])
        if not touched:
            return [], [], own
        near = self._near(kind, own, touched, come)
        before = [block for at, block in enumerate(own) if at in near]
        wanted = {id(point) for block in before for point in self._as_now(block.points)}
        wanted |= {id(point) for point in come}
        points = [point for point in self._asking.device.points if id(point) in wanted] if wanted else []
        return before, points, [block for at, block in enumerate(own) if at not in near] if near else own

    def _near(
        self, kind: RequestKind, own: list[Block], touched: list[tuple[int, int]], come: Sequence[Point]
    ) -> set[int]:
        """The numbers of blocks in stretches that are touched, or share a group with such as are."""
        stretches = _Stretches(own, partial(may_read, self._before.device, kind[0]))
        near: set[int] = set()
        groups = {point.group for point in come} | {""}
        waiting = {point.group for point in come} - {""}
        while touched or waiting:
            members = self._members(kind, waiting) if waiting else []
            groups |= waiting
            fresh = stretches.touched(touched + [(point.address, point.end) for point in members]) - near
            near |= fresh
            touched, waiting = [], {point.group for at in fresh for point in own[at].points} - groups
        return near

    def _members(self, kind: RequestKind, groups: Collection[str]) -> list[Point]:
        """Points of these groups as they were."""
        grouped = self._before.grouped.get(kind, {})
        return [point for group in groups for point in grouped.get(group, ())]

    def _touched(self, table: Table) -> list[tuple[int, int]]:
        """Where something differs that a request could depend on."""
        basis, before = self._asking.basis, self._before.basis
        if basis.most_of(table) != before.most_of(table):
            return [_EVERYWHERE]
        reach = self._asking.device.limits.max_gap + 1
        moved = [point for point in (*self._changes.gone.values(), *self._changes.come) if point.table is table]
        breaks = basis.breaks_of(table) ^ before.breaks_of(table)
        return [(point.address - reach, point.end + reach) for point in moved] + [(at, at + 1) for at in breaks]

    def _all_places(self) -> dict[str, Place]:
        fresh, changes, before = self._places, self._changes, self._before.by_name
        points = self._asking.device.points
        middle = points[changes.first : len(points) - changes.last]
        for point in middle:
            own = self._was.get(id(point))
            if own is not None and own.point is not point and id(point) not in fresh:  # which no block reads
                fresh[id(point)] = self._place(point, own.block, own.number, own.why_not, own.because)
        old = self._before.device.points
        if [point.name for point in middle] == [own.name for own in old[changes.first : len(old) - changes.last]]:
            return before | {place.point.name: place for place in fresh.values()}
        return {point.name: fresh.get(id(point)) or before[point.name] for point in points}


def _kind(point: Point) -> RequestKind:
    return point.table, point.period_s


def _address(block: Block) -> int:
    return block.request.address


class _Stretches:
    """Blocks of one table and period, in the order of their addresses, parted where no request may read on."""

    def __init__(self, blocks: Sequence[Block], may_read_on: Callable[[int, int], bool]) -> None:
        requests = [block.request for block in blocks]
        self._starts = [request.address for request in requests]
        self._reaches = list(accumulate([request.address + request.count for request in requests], max))
        self._may_read_on = may_read_on

    def touched(self, spans: Iterable[tuple[int, int]]) -> set[int]:
        """The numbers of the blocks of all stretches that have an address of the spans."""
        found: set[int] = set()
        for first, end in spans:
            low, high = bisect_right(self._reaches, first), bisect_left(self._starts, end)
            if low >= high or found.issuperset(range(low, high)):
                continue
            while self._goes_on(low):
                low -= 1
            while self._goes_on(high):
                high += 1
            found.update(range(low, high))
        return found

    def _goes_on(self, number: int) -> bool:
        """Whether a block is of one stretch with the one before it."""
        if not 0 < number < len(self._starts):
            return False
        start, reach = self._starts[number], self._reaches[number - 1]
        return start <= reach or self._may_read_on(reach, start)
