"""What is found becomes part of a site: a line for a link, a device for a unit, points for registers."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.edit import NEW_MAP, with_device, with_line, with_link, with_rows
from kanaleto.site.link import Link, SerialLink
from kanaleto.site.model import Device, Line, Site
from kanaleto.site.workspace import CannotEdit, Workspace
from kanaleto.wire.codes import Table


@dataclass(frozen=True, slots=True)
class NewPoint:
    """A point to be: its address is the wire's; `cells` are further cells of its row, as `type`, `order`, `unit`."""

    name: str
    table: Table
    address: int
    cells: tuple[tuple[str, str], ...] = ()


def same_place(one: Link, other: Link) -> bool:
    """Whether two links lead to the same port or host, whatever their settings."""
    if isinstance(one, SerialLink) or isinstance(other, SerialLink):
        return isinstance(one, SerialLink) and isinstance(other, SerialLink) and one.port == other.port
    return type(one) is type(other) and one.place == other.place


def line_of(site: Site, link: Link) -> Line | None:
    """The line of a site that leads there."""
    return next((line for line in site.lines if same_place(line.link, link)), None)


def device_of(site: Site, link: Link, unit_id: int) -> Device | None:
    line = line_of(site, link)
    return next((device for device in line.devices if device.unit_id == unit_id), None) if line is not None else None


def add_device(
    workspace: Workspace,
    site: Site,
    link: Link,
    unit_id: int,
    name: str = "",
    points: Sequence[NewPoint] = (),
    numbering: Numbering = Numbering.PROTOCOL,
) -> Site:
    """Add the line where the site has none that leads there, the device where that unit has none, and the points to its map; names
    that are taken get a number. A new device's map counts as `numbering`. Raises CannotEdit."""
    text = workspace.text()
    texts: dict[Path, str] = {}
    line = line_of(site, link)
    line_name = line.name if line is not None else _free(_line_title(link), {other.name for other in site.lines})
    if line is None:
        text = with_line(text, line_name, str(link))
    device = device_of(site, link, unit_id)
    taken_names: set[str] = set()
    if device is None:
        device_name = _free(name or f"Unit {unit_id}", {other.name for _, other in site.devices()})
        map_path = _free_path(workspace.path.parent / "maps", _slug(f"{line_name} {device_name}"))
        counted = {"numbering": numbering.value} if numbering is not Numbering.PROTOCOL else {}
        keys: dict[str, object] = {"name": device_name, "unit_id": unit_id, "map": map_path.relative_to(workspace.path.parent).as_posix()}
        keys |= counted
        text = with_device(text, line_name, keys)
        map_text = NEW_MAP
    elif device.map_path is None:
        raise CannotEdit(f'{device.name} has no map yet; add map = "maps/{_slug(device.name)}.csv" to it in the site file')
    else:
        device_name, map_path = device.name, device.map_path
        map_text = workspace.text(map_path)
        taken_names = {point.name for point in device.points}
    rows = []
    for point in points:
        called = _free(point.name, taken_names)
        taken_names.add(called)
        address = from_wire(point.address, point.table, device.numbering if device is not None else numbering)
        rows.append({"name": called, "table": point.table.value, "address": address, **dict(point.cells)})
    texts[map_path] = with_rows(map_text, rows)
    if line is None or device is None:
        texts[workspace.path] = text
    what = f"{len(rows)} point{'s' if len(rows) != 1 else ''} of {device_name}" if rows else f"{device_name} on {line_name}"
    return workspace.change(f"add {what}", texts)


def set_link(workspace: Workspace, line: Line, link: Link) -> Site:
    """Another link, as one with other settings, for a line. Raises CannotEdit."""
    if isinstance(link, SerialLink) and isinstance(line.link, SerialLink):
        link = replace(line.link, settings=link.settings, framing=link.framing)
    return workspace.change(f"settings of {line.name}", {workspace.path: with_link(workspace.text(), line.name, str(link))})


def _free(name: str, taken: set[str]) -> str:
    if name not in taken:
        return name
    number = 2
    while f"{name} ({number})" in taken:
        number += 1
    return f"{name} ({number})"


def _free_path(folder: Path, stem: str) -> Path:
    path, number = folder / f"{stem}.csv", 2
    while path.exists():
        path, number = folder / f"{stem}-{number}.csv", number + 1
    return path


def _slug(text: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-") or "map"


def _line_title(link: Link) -> str:
    if isinstance(link, SerialLink) and not link.is_remote:
        return Path(link.port).name or link.port
    return link.place
