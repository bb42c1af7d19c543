"""Which points are called otherwise since an edit, and are the same: a point by all that it is but its name, a device
by its line and unit ID."""

from kanaleto.history.definition import definition_text
from kanaleto.planning.plan import Identity
from kanaleto.site.model import Device, Line, Point, Site

Rename = tuple[Identity, Identity]
"""From and to, each as device and point; a derived point has no device."""


def renamed(old: Site, new: Site) -> list[Rename]:
    """Points that only have another name, where there is no doubt."""
    found: list[Rename] = []
    before = {device.name: (line, device) for line, device in old.devices()}
    after = {device.name: (line, device) for line, device in new.devices()}
    for name, (line, device) in after.items():
        old_place = before.get(name)
        if old_place is None:
            old_place = _same_unit(line, device, {key: place for key, place in before.items() if key not in after})
        if old_place is not None and old_place[1] is not device:
            found += _points(old_place[1], device)
    formulas = {formula.formula: formula.name for formula in old.derived}
    names = {formula.name for formula in old.derived}
    stays = {formula.name for formula in new.derived}
    for derived in new.derived:
        before_name = formulas.get(derived.formula)
        if derived.name not in names and before_name is not None and before_name not in stays:
            found.append((("", before_name), ("", derived.name)))
    return found


def _same_unit(line: Line, device: Device, gone: dict[str, tuple[Line, Device]]) -> tuple[Line, Device] | None:
    """The device that was there under another name."""
    found = [
        old_place
        for old_place in gone.values()
        if old_place[0].name == line.name and old_place[1].unit_id == device.unit_id
    ]
    return found[0] if len(found) == 1 else None


def _points(old: Device, new: Device) -> list[Rename]:
    before, after = {point.name: point for point in old.points}, {point.name: point for point in new.points}
    found: list[Rename] = []
    if old.name != new.name:
        found += [((old.name, name), (new.name, name)) for name in after if name in before]
    gone = _by_meaning([point for name, point in before.items() if name not in after])
    come = _by_meaning([point for name, point in after.items() if name not in before])
    for text, points in come.items():
        old_points = gone.get(text, [])
        if len(points) == len(old_points) == 1:
            found.append(((old.name, old_points[0].name), (new.name, points[0].name)))
    return found


def _by_meaning(points: list[Point]) -> dict[str, list[Point]]:
    by_meaning: dict[str, list[Point]] = {}
    for point in points:
        by_meaning.setdefault(definition_text(point), []).append(point)
    return by_meaning


def words(renames: list[Rename]) -> str:
    """In a few words."""
    shown = [f"{'/'.join(filter(None, old))} → {'/'.join(filter(None, new))}" for old, new in renames[:3]]
    more = f" and {len(renames) - 3} more" if len(renames) > 3 else ""
    return f"{', '.join(shown)}{more}"
