"""The plan of a device after an edit that no request depends on: other units, scales, types of the same size, limits,
notes. The requests stay, and only blocks of points that changed are made anew."""

from collections.abc import Callable
from operator import is_not

from kanaleto.planning.blocks import Block, DevicePlan, Place
from kanaleto.site.model import Device, Line, Point


def planned_again(part: DevicePlan, line: Line, device: Device, next_index: Callable[[], int]) -> DevicePlan | None:
    """The plan of `device`, which differs from that of `part` in its points only; None where a request may be another
    one. Blocks that are fresh get their index from `next_index`."""
    old, new = part.device.points, device.points
    if len(old) != len(new):
        return None
    changed = [at for at, differs in enumerate(map(is_not, old, new)) if differs]
    if not all(_asked_alike(old[at], new[at]) for at in changed):
        return None
    points: dict[int, list[Point]] = {}  # of blocks that change
    blocks = {id(place.block): place.block for at in changed if (place := part.places[at]).block is not None}
    for at in changed:
        place = part.places[at]
        if place.block is not None:
            points.setdefault(id(place.block), list(place.block.points))[place.number] = new[at]
    fresh = {key: _with_points(blocks[key], line, device, own, next_index) for key, own in points.items()}
    places = [
        Place(line, device, point, fresh.get(id(was.block), was.block), was.number, was.why_not, was.because)
        for point, was in zip(new, part.places, strict=True)
    ]
    stays = tuple([fresh.get(id(block), block) for block in part.blocks])
    return DevicePlan(line, device, stays, tuple(places), part.switched_off)


def _with_points(block: Block, line: Line, device: Device, points: list[Point], next_index: Callable[[], int]) -> Block:
    return Block(next_index(), line, device, block.request, block.period_s, tuple(points), block.cost_s)


def _asked_alike(one: Point, other: Point) -> bool:
    """Whether nothing differs that says when and with what it is asked, and what it is called."""
    return _asked(one) == _asked(other)


def _asked(point: Point) -> tuple[object, ...]:
    return point.name, point.table, point.address, point.end, point.period_s, point.group, point.access
