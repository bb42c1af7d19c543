"""Edits of the points of a device. Each addresses its rows by the points' names, and looks at what stands there now:
what it was opened on may have been changed or taken away meanwhile."""

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path

from kanaleto.editing.following import follow_point
from kanaleto.editing.workingcopy import CannotEdit, Clash, Draft, Edit
from kanaleto.files.mapcolumns import COLUMNS, why_unknown
from kanaleto.files.maprows import NEW_MAP, MapText, map_text, with_changes, with_rows
from kanaleto.files.mapscale import SCALE_COLUMNS
from kanaleto.files.sitetext import with_device_keys
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import Device, Point, Site
from kanaleto.values.candidates import Candidate

Cells = Mapping[str, str]
Seen = Mapping[str, Cells]
"""The rows as they stood when somebody began to edit them, by name."""


def change_points(device: str, names: Sequence[str], cells: Cells, seen: Seen | None = None, what: str = "") -> Edit:
    """The same cells in the rows of all those points."""

    def edit(draft: Draft) -> str:
        if not names:
            raise CannotEdit("no point is chosen")
        if "name" in cells and len(names) > 1:
            raise CannotEdit("two points cannot have one name; change names one by one")
        path = draft.map_of(device)
        rows = _rows(draft, device, names)
        _look_for_clash(draft, rows, names, seen, cells)
        _refuse_unknown(cells, rows.headings)
        if all(key in rows.headings for key, value in cells.items() if value):
            draft.put(rows.changed(dict.fromkeys(names, cells)), path)
        else:
            draft.put(with_changes(draft.text(path), dict.fromkeys(names, cells)), path)
        called = str(cells.get("name") or names[0])
        if called != names[0]:
            follow_point(draft, path, names[0], called)
        return what or f"change {_count(names)} of {device}"

    return edit


def make_writable(chosen: Mapping[str, Sequence[str]]) -> Edit:
    """Points of devices, by their names, may be read and written from then on."""

    def edit(draft: Draft) -> str:
        for device, names in chosen.items():
            change_points(device, names, {"access": "rw"})(draft)
        return f"make {_count([name for names in chosen.values() for name in names])} writable"

    return edit


def delete_points(device: str, names: Sequence[str], seen: Seen | None = None) -> Edit:
    """Take rows away."""

    def edit(draft: Draft) -> str:
        rows = _rows(draft, device, names)
        _look_for_clash(draft, rows, names, seen, None)
        draft.put(rows.without(names), draft.map_of(device))
        return f"delete {_count(names)} of {device}"

    return edit


def add_points(device: str, rows: Sequence[Cells]) -> Edit:
    """Rows more."""

    def edit(draft: Draft) -> str:
        path = draft.map_of(device)
        text = draft.text(path) or NEW_MAP
        _refuse_unknown((key for row in rows for key in row), map_text(text).headings)
        draft.put(with_rows(text, [dict(row) for row in rows]), path)
        return f"add {_count([str(row.get('name', '')) for row in rows])} to {device}"

    return edit


def take_points(
    device: str, rows: Sequence[Cells], replaced: Collection[str] = (), numbering: Numbering | None = None
) -> Edit:
    """Rows of an imported table: those in `replaced` take the place of what bears their name, the others are added.
    `numbering`, where it is given, becomes the device's own. A device without a map gets one."""

    def edit(draft: Draft) -> str:
        target = draft.device(device)
        keys: dict[str, object] = {}
        if numbering is not None and numbering is not target.numbering:
            if target.points:
                raise CannotEdit(f"{device} has points by now that count as before, so its numbering was left")
            keys["numbering"] = numbering.value
        path = target.map_path
        if path is None:
            path = free_map_path(draft.path.parent / "maps", device)
            keys["map"] = path.relative_to(draft.path.parent).as_posix()
        if keys:
            draft.put(with_device_keys(draft.text(), {device: keys})[0])
        text = draft.text(path) or NEW_MAP
        there = set(MapText(text).names)
        new = {str(row["name"]): row for row in rows if row["name"] in replaced and row["name"] in there}
        if new:
            whole = {name: {**dict.fromkeys(COLUMNS, ""), **row} for name, row in new.items()}
            text = with_changes(text, whole)
        more = [dict(row) for row in rows if row["name"] not in new]
        draft.put(with_rows(text, more) if more else text, path)
        return f"import {_count([str(row['name']) for row in rows])} into {device}"

    return edit


def free_map_path(folder: Path, title: str) -> Path:
    """A map file of that name that is not there yet."""
    stem = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:80] or "map"
    path, number = folder / f"{stem}.csv", 2
    while path.exists():
        path, number = folder / f"{stem}-{number}.csv", number + 1
    return path


def copy_point(device: str, name: str) -> Edit:
    """The same point again behind itself, under another name."""

    def edit(draft: Draft) -> str:
        path = draft.map_of(device)
        rows = _rows(draft, device, [name])
        called = free_name(name, rows.names)
        draft.put(with_rows(draft.text(path), [{**rows.cells_of(name), "name": called}]), path)
        return f"copy {name} of {device}"

    return edit


def take_reading(device: str, point: Point, step: int, candidate: Candidate, seen: Seen | None = None) -> Edit:
    """A reading of the words becomes the point's own: type, order, its address where that lies beside; the scale stays
    where the reading has it too."""
    codec, had = candidate.codec, point.codec.scale
    order = codec.order.value if codec.type.is_wide or codec.order.swaps_bytes else ""
    cells = {"type": str(codec.type), "order": order, "bit": "", "sure": ""}
    what = f"read {point.name} as {candidate.title}"
    if codec.scale != had:
        cells |= dict.fromkeys((*SCALE_COLUMNS, "scale"), "")
        if codec.scale is not None:
            cells["factor"] = f"{codec.scale.factor:g}"
        what += f", ×{cells['factor']}" if codec.scale is not None else ", without its scale: it was of another width"
    elif had is not None:
        what += ", scale and unit as before"

    def edit(draft: Draft) -> str:
        target = draft.device(device)
        now = next((other for other in target.points if other.name == point.name), None)
        if now is not None and (now.table, now.address) != (point.table, point.address):
            raise CannotEdit(
                f"{point.name} of {device} stands at another address by now, so these readings are not its own any more"
            )
        if step:
            cells["address"] = from_wire(point.address + step, point.table, target.numbering)
        return change_points(device, [point.name], cells, seen, what)(draft)

    return edit


def shares_map(site: Site, device: Device) -> list[str]:
    """Other devices that the same map serves."""
    return [
        other.name for _, other in site.devices() if other.map_path == device.map_path and other.name != device.name
    ]


def free_name(name: str, taken: Collection[str]) -> str:
    """The name, or the first of `name (2)`, `name (3)` … that nobody bears."""
    return FreeNames(taken).give(name)


class FreeNames:
    """Gives names that nobody bears, one after the other, each at once however often it was asked for."""

    def __init__(self, taken: Collection[str]) -> None:
        self._taken = set(taken)
        self._next: dict[str, int] = {}

    def give(self, name: str) -> str:
        """`name`, or the first of `name (2)`, `name (3)` … that is free; it is taken then."""
        called = name
        while called in self._taken:
            number = self._next[name] = self._next.get(name, 1) + 1
            called = f"{name} ({number})"
        self._taken.add(called)
        return called


def _rows(draft: Draft, device: str, names: Sequence[str]) -> MapText:
    rows = draft.rows(draft.map_of(device))
    gone = [name for name in names if name not in rows.names]
    if gone:
        more = f" and {len(gone) - 1} more" if len(gone) > 1 else ""
        raise CannotEdit(f"{gone[0]}{more} stands in no row of {device}'s map any more, so nothing was changed")
    return rows


def _look_for_clash(draft: Draft, rows: MapText, names: Sequence[str], seen: Seen | None, cells: Cells | None) -> None:
    """Whether a cell that is to be changed (any, where rows are to go) was changed by somebody since it was looked
    at."""
    for name in names if seen is not None and not draft.anyway else ():
        before = seen.get(name) if seen is not None else None
        if before is None:
            continue
        now = rows.cells_of(name)
        keys = set(cells) if cells is not None else {*before, *now}
        other = sorted(key for key in keys if now.get(key, "") not in (before.get(key, ""), (cells or {}).get(key)))
        if other:
            text = ", ".join(f"{key} is now {now.get(key) or 'empty'}" for key in other[:3])
            raise Clash(f"{name} was changed meanwhile ({text})")


def _refuse_unknown(keys: Iterable[str], headings: Collection[str]) -> None:
    why = why_unknown(keys, headings)
    if why:
        raise CannotEdit(f"{why}; nothing was changed")


def _count(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{len(names)} points"
