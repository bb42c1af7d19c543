"""Another map for a device, as when a meter has been replaced by one of another type: its points are found again by
name, then by unit and quantity, and what was called so is called so still."""

import re
from collections.abc import Mapping, Sequence
from difflib import SequenceMatcher
from pathlib import Path

from msgspec import Struct

from kanaleto.editing.pointedit import FreeNames, free_map_path
from kanaleto.editing.workingcopy import CannotEdit, Draft, Edit
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.maprows import with_changes
from kanaleto.files.sitetext import with_device_keys
from kanaleto.site.expression import references
from kanaleto.site.model import LIMIT_MANNERS, LIMIT_STATES, LIMITS, Device, Point, Site
from kanaleto.tables.maps import point_cells

_LEAST = 0.45
_MOST_CANDIDATES = 12
_WORD = re.compile(r"[A-Za-zÀ-ÿ]+|[0-9]+")
_RISING = ("range_low", "alarm_low", "warn_low", "warn_high", "alarm_high", "range_high")


class Found(Struct, frozen=True):
    """A point of the map that goes, and what takes its place: its number in the new map, None where nothing does.
    `candidates` are the others that could, the likeliest first; `how` it was found, in words."""

    old: Point
    new: int | None
    how: str
    candidates: tuple[int, ...]


def read_other(path: Path, text: str, device: Device) -> tuple[Point, ...]:
    """The points of a map, as the device would count and order them. Raises CannotEdit with its first fault."""
    defaults = MapDefaults(device.numbering, device.order, device.period_s, device.limits)
    points, faults = read_map(path, text, defaults)
    wrong = [fault for fault in faults if not fault.is_warning]
    if wrong:
        more = f", and {len(wrong) - 1} more" if len(wrong) > 1 else ""
        raise CannotEdit(f"{wrong[0]}{more}")
    if not points:
        raise CannotEdit(f"{path.name} has no points")
    return points


def find_again(old: Sequence[Point], new: Sequence[Point]) -> list[Found]:
    """In the order of the old map. A new point takes the place of one at most."""
    by_name = {_plain(point.name): at for at, point in reversed(list(enumerate(new)))}
    taken: dict[int, tuple[int, str]] = {}
    free = set(range(len(new)))
    for at, point in enumerate(old):
        same = by_name.get(_plain(point.name))
        if same is not None and same in free:
            taken[at] = (same, "the same name")
            free.discard(same)
    likely = [
        (score, at, other)
        for at, point in enumerate(old)
        if at not in taken
        for other in free
        if (score := likeness(point, new[other])) >= _LEAST
    ]
    for _, at, other in sorted(likely, key=lambda one: (-one[0], one[1], one[2])):
        if at not in taken and other in free:
            taken[at] = (other, f"{new[other].unit}, a like name" if new[other].unit else "a like name")
            free.discard(other)
    return [_found(at, point, new, taken.get(at)) for at, point in enumerate(old)]


def _found(at: int, point: Point, new: Sequence[Point], taken: tuple[int, str] | None) -> Found:
    ranked = sorted(range(len(new)), key=lambda other: (-likeness(point, new[other]), other))
    candidates = tuple(ranked[:_MOST_CANDIDATES])
    if taken is None:
        return Found(point, None, "nothing like it", candidates)
    number, how = taken
    return Found(point, number, how, candidates if number in candidates else (number, *candidates))


def likeness(old: Point, new: Point) -> float:
    """0 to 1: by unit, and by the words of their names. Of different units only what has the same name is alike."""
    if old.unit and new.unit and _plain(old.unit) != _plain(new.unit):
        return 0.0
    if old.table.is_bits != new.table.is_bits:
        return 0.0
    words, others = set(_words(old.name)), set(_words(new.name))
    shared = len(words & others) / max(len(words | others), 1)
    letters = SequenceMatcher(None, _plain(old.name), _plain(new.name)).ratio()
    same_unit = 0.25 if old.unit and _plain(old.unit) == _plain(new.unit) else 0.0
    return min(same_unit + 0.75 * max(shared, 0.9 * letters), 1.0)


def _plain(text: str) -> str:
    return " ".join(_words(text)) or text.strip().casefold()


def _words(text: str) -> list[str]:
    return [word.casefold() for word in _WORD.findall(text)]


def used_by(site: Site, device: Device, name: str) -> list[str]:
    """What else of the site names a point, in words."""
    wanted = f"{device.name}/{name}"
    found = [f"the derived point {formula.name}" for formula in site.derived if wanted in references(formula.formula)]
    found += [f"the condition {text}" for text in site.keeping.conditions if wanted in references(text)]
    if device.enabled_by == name:
        found.append(f"enabled_by of {device.name}")
    return found


def taken_map(device: str, source: Path, text: str, new: Sequence[Point], pairs: Mapping[int, Point]) -> Edit:
    """The device gets a map of its own from that text. `pairs`: the number of a new point, and the old one whose
    name it takes, and whatever else `carried` gives."""
    names = FreeNames([point.name for point in pairs.values()])
    changes: dict[str, dict[str, str]] = {}
    for number, point in enumerate(new):
        old = pairs.get(number)
        cells = {"name": old.name if old is not None else names.give(point.name)}
        if old is not None:
            cells |= carried(old, point)[0]
        changes[point.name] = cells

    def edit(draft: Draft) -> str:
        target = draft.device(device)
        path = free_map_path(draft.path.parent / "maps", device)
        draft.put(with_changes(text, changes), path)
        relative = path.relative_to(draft.path.parent).as_posix()
        draft.put(with_device_keys(draft.text(), {device: {"map": relative}})[0])
        gone = len(target.points) - len(pairs)
        lost = f", {gone} of its points are no more" if gone > 0 else ""
        return f"give {device} the map of {source.name}{lost}"

    return edit


def carried(old: Point, new: Point) -> tuple[dict[str, str], list[str]]:
    """Cells that a new point takes from the one whose place it takes, where the new map does not say them: limits,
    hysteresis and delays of one unit, names of bits and states, and what of those warns. And the columns that are
    lost."""
    has, says = _cells_of(old), _cells_of(new)
    cells: dict[str, str] = {}
    lost: list[str] = []
    is_alike = old.codec.type.kind is new.codec.type.kind or not (_is_number(old) or _is_number(new))
    if "labels" in has and "labels" not in says:
        if is_alike and old.table.is_bits == new.table.is_bits:
            cells["labels"] = has["labels"]
        else:
            lost.append("labels")
    has_labels = "labels" in cells or old.labels == new.labels
    same_unit = _plain(old.unit) == _plain(new.unit)
    for key in (*LIMITS, *LIMIT_MANNERS, *LIMIT_STATES):
        if key not in has or key in says:
            continue
        if has_labels if key in LIMIT_STATES else same_unit:
            cells[key] = has[key]
        else:
            lost.append(key)
    taken = [key for key in LIMITS if key in cells]
    while taken and any(key in says for key in LIMITS) and not _is_ordered({**cells, **says}):
        key = taken.pop()  # the new map's own figures stand
        del cells[key]
        lost.append(key)
    return cells, lost


def _cells_of(point: Point) -> dict[str, str]:
    return point_cells(Device("", 0, (), 1.0, 0), point)


def _is_number(point: Point) -> bool:
    """Whether it measures something, and is no word of states."""
    return bool(point.unit) or point.codec.type.is_float


def _is_ordered(cells: Mapping[str, str]) -> bool:
    """Whether limits follow one another as they must."""
    rising = [float(cells[key]) for key in _RISING if key in cells]
    return rising == sorted(rising)
