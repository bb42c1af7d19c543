"""Points and devices beside each other: what differs from its pair, from what was expected, from most of its like."""

from collections import Counter
from collections.abc import Sequence
from statistics import median
from typing import NamedTuple

from kanaleto.board.board import Quality, Reading
from kanaleto.board.crossing import Level
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, Identity, Place
from kanaleto.site.model import Device, Point, Site
from kanaleto.values.codec import NoValue, Value

_OF_SIGMA, _MAD_TO_SIGMA = 4.0, 1.4826
_LEAST_SHARE = 0.02
"""Of its range, or of the median, that a number must be off at least to be reported."""


class Pair(NamedTuple):
    """One row of a comparison; a side is None where it has no such point."""

    name: str
    left: AnyPlace | None
    right: AnyPlace | None


def devices_like(site: Site, name: str) -> list[Device]:
    """The devices that share a map with that one, itself too, in the order of the site. Those without a map file are
    alike where their points have the same names."""
    like = next((device for _, device in site.devices() if device.name == name), None)
    if like is None:
        return []
    if like.map_path is not None:
        return [device for _, device in site.devices() if device.map_path == like.map_path]
    names = [point.name for point in like.points]
    return [device for _, device in site.devices() if [point.name for point in device.points] == names]


def pairs_of(snapshot: Snapshot, left: str, right: str) -> list[Pair]:
    """Points of two devices by their names: those of the left in its order, then what only the right has."""
    parts = snapshot.plan.part_of(left), snapshot.plan.part_of(right)
    sides = [dict(part.by_name) if part is not None else dict[str, Place]() for part in parts]
    names = [*sides[0], *(name for name in sides[1] if name not in sides[0])]
    return [Pair(name, sides[0].get(name), sides[1].get(name)) for name in names]


def number_of(reading: Reading, point: Point) -> float | None:
    """A reading as a number that can be taken from another; None of states, bits and text."""
    value = reading.value
    return float(value) if isinstance(value, int | float) and not point.is_state else None


def difference(left: Reading, left_point: Point, right: Reading, right_point: Point) -> float | None:
    """Right minus left."""
    one, other = number_of(left, left_point), number_of(right, right_point)
    return other - one if one is not None and other is not None else None


def odd_ones(point: Point, values: Sequence[Value | None]) -> set[int]:
    """Numbers in the list of those that differ from most of the others. Of states whoever is not as more than half are;
    of numbers whoever is far from the median by the spread of the rest."""
    known = [(at, value) for at, value in enumerate(values) if value is not None and not isinstance(value, NoValue)]
    if len(known) < 3:
        return set()
    if point.is_state or not all(isinstance(value, int | float) for _, value in known):
        usual, count = Counter(value for _, value in known).most_common(1)[0]
        return {at for at, value in known if value != usual} if 2 * count > len(known) else set()
    numbers = [(at, float(value)) for at, value in known]  # type: ignore[arg-type]
    middle = median(number for _, number in numbers)
    spread = median(abs(number - middle) for _, number in numbers) * _MAD_TO_SIGMA
    limits = point.limits
    has_range = limits.range_low is not None and limits.range_high is not None
    size = limits.range_high - limits.range_low if has_range else abs(middle)  # type: ignore[operator]
    most = max(_OF_SIGMA * spread, _LEAST_SHARE * size)
    return {at for at, number in numbers if abs(number - middle) > most}


def columns_of(snapshot: Snapshot, devices: Sequence[Device], marked: Sequence[Identity]) -> list[str]:
    """Names of the points that a comparison across devices has as columns: those that are marked, or all that are
    polled."""
    names = {device.name for device in devices}
    wanted = list(dict.fromkeys(name for device, name in marked if device in names))
    if wanted:
        return wanted
    found: dict[str, None] = {}
    for device in devices:
        part = snapshot.plan.part_of(device.name)
        found.update((place.point.name, None) for place in (part.places if part is not None else ()) if place.block)
    return list(found)


def badness(snapshot: Snapshot, device: Device) -> int:
    """How badly a device does: the worse, the greater."""
    found = snapshot.status_of(device.name)
    if found is None:
        return 0
    line, status = found
    if line.why_unreachable or status.silent_s is not None:
        return 4
    if any(crossing.identity[0] == device.name and crossing.rule.level is Level.ALARM for crossing in snapshot.past):
        return 3
    if status.trouble is not None or status.reason:
        return 2
    return int(any(crossing.identity[0] == device.name for crossing in snapshot.past))


def is_good(reading: Reading) -> bool:
    return reading.quality is Quality.GOOD
