"""Points in the order, and of the kind, that somebody wants to see."""

from collections.abc import Callable, Collection, Iterable, Mapping

from kanaleto.board.board import Quality, Reading
from kanaleto.board.crossing import Level, level_of, rules_of
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, DerivedPlace, Identity
from kanaleto.site.model import Point
from kanaleto.values.turning import Turning


class SortOrder(Turning):
    """The value is how it is shown."""

    DEVICE = "by device"
    NAME = "by name"
    MOVES = "what moves most first"
    AGE = "the oldest first"
    LIMIT = "the nearest to a limit first"


class Only(Turning):
    """The value is how it is shown."""

    ALL = "all points"
    CHANGED = "only what changed in the last minute"
    BAD = "only what is not good"
    PAST = "only what is past a limit"


def chosen(
    snapshot: Snapshot, places: Iterable[AnyPlace], only: Only, spread: Mapping[Identity, float]
) -> list[AnyPlace]:
    """Those that are wanted. `spread` is how much each moved lately (`movement.spreads`)."""
    if only is Only.CHANGED:
        return [place for place in places if spread.get(place.identity, 0.0) > 0]
    if only is Only.BAD:
        return [place for place in places if snapshot.reading(place).quality is not Quality.GOOD and _is_wanted(place)]
    if only is Only.PAST:
        past: Collection[Identity] = {crossing.identity for crossing in snapshot.past}
        return [place for place in places if place.identity in past or _is_past(snapshot, place)]
    return list(places)


def _is_wanted(place: AnyPlace) -> bool:
    """Whether somebody expects it to be good: what is asked now and then, or never, is not bad for that."""
    return isinstance(place, DerivedPlace) or place.block is not None or place.is_refused


def _is_past(snapshot: Snapshot, place: AnyPlace) -> bool:
    point = place.point
    if not point.limits.can_be_passed:
        return False
    reading = snapshot.reading(place)
    return reading.quality is Quality.GOOD and level_of(point.limits, reading.value, point) is not None


def ordered(
    snapshot: Snapshot, places: list[AnyPlace], order: SortOrder, spread: Mapping[Identity, float]
) -> list[AnyPlace]:
    """In that order; where it says nothing, in the order of the site."""
    if order is SortOrder.DEVICE:
        return places
    keys: dict[SortOrder, Callable[[AnyPlace], tuple[object, ...]]] = {
        SortOrder.NAME: lambda place: (place.point.name.casefold(), place.identity[0].casefold()),
        SortOrder.MOVES: lambda place: (-spread.get(place.identity, -1.0),),
        SortOrder.AGE: lambda place: (-_age(snapshot.reading(place)),),
        SortOrder.LIMIT: lambda place: (nearness(place.point, snapshot.reading(place)),),
    }
    return sorted(places, key=keys[order])


def _age(reading: Reading) -> float:
    return reading.age_s if reading.age_s is not None else -1.0


def nearness(point: Point, reading: Reading) -> float:
    """How far a value is from the nearest of its limits, as a share of its range, or of how far its limits are apart;
    below 0 past it, infinite where there is none."""
    value = reading.value
    if not isinstance(value, int | float) or reading.quality is Quality.NEVER or not point.limits.can_be_passed:
        return float("inf")
    limits = point.limits
    bounds = [rule for rule in rules_of(limits) if not rule.states]
    bounds = [rule for rule in bounds if rule.level is not Level.RANGE] or bounds
    if any(rule.is_past(value, False, 0.0, point) for rule in rules_of(limits) if rule.states):
        return -1.0
    if not bounds:
        return float("inf")
    if limits.range_low is not None and limits.range_high is not None and limits.range_high > limits.range_low:
        size = limits.range_high - limits.range_low
    else:
        numbers = [rule.bound for rule in bounds]
        size = (max(numbers) - min(numbers)) or max(map(abs, numbers)) or 1.0
    return min((rule.bound - value if rule.is_high else value - rule.bound) / size for rule in bounds)
