"""Points of one table and period into requests, at the least line time.

Points that overlap, and points of one group, are first joined into items: one request must or may as well read them.
Items do not overlap then, and a request that reads items i…j costs a fixed time and so much for each register from the
start of i to the end of j. So the cheapest way to read items up to j is the least of (best up to i) − (start of i) ×
per item, over every i from which j is within the device's limit without a forbidden gap between: a minimum over a
sliding window, kept in a queue, in one pass over the items.
"""

from collections import deque
from collections.abc import Callable, Iterable, Sequence
from operator import attrgetter, gt
from typing import Protocol, TypeVar

from msgspec import Struct

from kanaleto.site.model import Point

MayRead = Callable[[int, int], bool]
"""Whether registers from an address up to (not with) another, which no point needs, may be read along."""


class Spanned(Protocol):
    """Addresses `address` up to (not with) `end`."""

    @property
    def address(self) -> int: ...
    @property
    def end(self) -> int: ...


T = TypeVar("T", bound=Spanned)


class Joined(Struct, frozen=True):
    """Points that come from one request, and from one only."""

    address: int
    end: int
    points: tuple[Point, ...]


Item = Point | Joined
"""What one request reads whole: a point by itself, or several."""
_GROUP: Callable[[Point], str] = attrgetter("group")
_BY_PLACE: Callable[[Spanned], tuple[int, int]] = attrgetter("address", "end")


class Rules(Struct, frozen=True):
    """What holds for the requests of one device and table. Gaps of more than `most_gap` are never read along, and of
    others only those that `may_read`. `breaks` are addresses at which a request must begin."""

    most: int
    fixed_s: float
    item_s: float
    most_gap: int
    may_read: MayRead
    breaks: frozenset[int] = frozenset()

    def may_bridge(self, end: int, start: int) -> bool:
        """Whether one request may read from `end` on to `start`."""
        return start <= end or (start - end <= self.most_gap and self.may_read(end, start))


def requests_of(points: Sequence[Point], rules: Rules) -> list[list[Point]]:
    """Points into requests, cheapest in line time; each in the order of its addresses."""
    if not any(map(_GROUP, points)):
        ordered = points if _lie_apart(points) else sorted(points, key=_BY_PLACE)  # most maps are in their order
        if _lie_apart(ordered):
            return partition(ordered, rules)
    return [points_of(request) for request in partition(items_of(points, rules), rules)]


def items_of(points: Sequence[Point], rules: Rules) -> list[Item]:
    """Join groups and overlaps where one request can read them; in the order of their addresses."""
    groups: dict[str, list[Point]] = {}
    items: list[Item] = []
    for point in points:
        if point.group:
            groups.setdefault(point.group, []).append(point)
        else:
            items.append(point)
    for members in groups.values():
        joined = _join(members, rules)
        items += [joined] if joined is not None else members
    items.sort(key=_BY_PLACE)
    if _lie_apart(items):
        return items
    merged: list[Item] = []
    for item in items:
        both = _join([merged[-1], item], rules) if merged and item.address < merged[-1].end else None
        if both is not None:
            merged[-1] = both
        else:
            merged.append(item)
    return merged


def _lie_apart(ordered: Sequence[Spanned]) -> bool:
    """Whether each begins where the one before it ends, or behind."""
    return not any(map(gt, [one.end for one in ordered], [one.address for one in ordered[1:]]))


def points_of(items: Iterable[Item]) -> list[Point]:
    return [point for item in items for point in (item.points if isinstance(item, Joined) else (item,))]


def _join(items: Iterable[Item], rules: Rules) -> Joined | None:
    """One item of several, or None when no request can read them together."""
    ordered = sorted(items, key=_BY_PLACE)
    reach = ordered[0].end
    for item in ordered[1:]:
        if item.address > reach and not rules.may_bridge(reach, item.address):
            return None
        reach = max(reach, item.end)
    start = ordered[0].address
    if reach - start > rules.most or any(start < at < reach for at in rules.breaks):
        return None
    return Joined(start, reach, tuple(points_of(ordered)))


def partition(items: Sequence[T], rules: Rules) -> list[list[T]]:
    """Items into requests, cheapest in line time."""
    requests: list[list[T]] = []
    breaks, may_bridge = rules.breaks, rules.may_bridge
    run: list[T] = []
    end = 0
    has_gaps = False
    for item in items:
        start = item.address
        if run and (start in breaks or (start > end and not may_bridge(end, start))):
            requests += _cheapest(run, rules, has_gaps)
            run, has_gaps = [], False
        elif run and start != end:
            has_gaps = True
        run.append(item)
        end = item.end
    return requests + (_cheapest(run, rules, has_gaps) if run else [])


def _cheapest(run: list[T], rules: Rules, has_gaps: bool) -> list[list[T]]:
    """Items any neighbours of which may share a request; `has_gaps` says whether they are anything but one behind the
    other. Where two overlap and are more than one request can hold, an end counts as at least its forerunner's: never
    too little, so that no request becomes too long."""
    if not has_gaps and run[-1].end - run[0].address <= rules.most:
        return [run]  # nothing is left out by two requests
    best = [0.0] * (len(run) + 1)  # the least cost of the first n items
    cut = [0] * (len(run) + 1)  # where the last request of that begins
    window: deque[tuple[float, int]] = deque()  # (best[i] − start of i × item_s, i), rising
    reach = 0
    for last, item in enumerate(run):
        key = best[last] - item.address * rules.item_s
        while window and window[-1][0] >= key:
            window.pop()
        window.append((key, last))
        reach = max(reach, item.end)
        while window[0][1] < last and reach - run[window[0][1]].address > rules.most:
            window.popleft()
        least, first = window[0]
        best[last + 1] = rules.fixed_s + reach * rules.item_s + least
        cut[last + 1] = first
    requests: list[list[T]] = []
    end = len(run)
    while end:
        requests.append(run[cut[end] : end])
        end = cut[end]
    return requests[::-1]
