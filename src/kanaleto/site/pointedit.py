"""Edits of the points of a device, as text for its map file: added, changed, taken away. The workspace writes and undoes them."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from kanaleto.site.counting import from_wire
from kanaleto.site.edit import NEW_MAP, with_rows
from kanaleto.site.maprows import cells_of, with_changes, without_rows
from kanaleto.site.model import Device, Point, Site
from kanaleto.site.workspace import CannotEdit, Workspace
from kanaleto.values.candidates import Candidate


def change_points(workspace: Workspace, device: Device, points: Sequence[Point], cells: Mapping[str, str], what: str = "") -> Site:
    """The same cells in all of `points`. Raises CannotEdit."""
    if not points:
        raise CannotEdit("no point is chosen")
    text = workspace.text(_map(device))
    if "name" in cells and len(points) > 1:
        raise CannotEdit("two points cannot have one name; change names one by one")
    changed = with_changes(text, {point.row: cells for point in points})
    names = points[0].name if len(points) == 1 else f"{len(points)} points"
    return workspace.change(what or f"change {names} of {device.name}", {_map(device): changed})


def delete_points(workspace: Workspace, device: Device, points: Sequence[Point]) -> Site:
    """Take rows away. Raises CannotEdit."""
    text = without_rows(workspace.text(_map(device)), {point.row for point in points})
    names = points[0].name if len(points) == 1 else f"{len(points)} points"
    return workspace.change(f"delete {names} of {device.name}", {_map(device): text})


def add_points(workspace: Workspace, device: Device, rows: Sequence[Mapping[str, str]]) -> Site:
    """Rows more. Raises CannotEdit."""
    text = with_rows(workspace.text(_map(device)) or NEW_MAP, [dict(row) for row in rows])
    names = str(rows[0].get("name", "")) if len(rows) == 1 else f"{len(rows)} points"
    return workspace.change(f"add {names} to {device.name}", {_map(device): text})


def copy_point(workspace: Workspace, device: Device, point: Point) -> Site:
    """The same point again behind itself, under another name. Raises CannotEdit."""
    cells = cells_of(workspace.text(_map(device)), point.row)
    taken = {other.name for other in device.points}
    number = 2
    while f"{point.name} ({number})" in taken:
        number += 1
    return add_points(workspace, device, [{**cells, "name": f"{point.name} ({number})"}])


def take_reading(workspace: Workspace, device: Device, point: Point, step: int, candidate: Candidate) -> Site:
    """A reading of the words becomes the point's own: type, order, scale, and its address where that lies beside. Raises CannotEdit."""
    codec = candidate.codec
    scale = codec.scale
    factor = f"{scale.factor:g}" if scale is not None else ""
    cells = {"type": str(codec.type), "order": codec.order.value if codec.type.is_wide or codec.order.swaps_bytes else "", "factor": factor}
    cells |= dict.fromkeys(("offset", "raw_low", "raw_high", "eng_low", "eng_high", "curve", "signal", "clamp", "bit"), "")
    if step:
        cells["address"] = from_wire(point.address + step, point.table, device.numbering)
    return change_points(workspace, device, [point], cells, f"read {point.name} as {candidate.title}")


def cells_of_point(workspace: Workspace, device: Device, point: Point) -> dict[str, str]:
    """What its row says. Raises CannotEdit."""
    try:
        return cells_of(workspace.text(_map(device)), point.row)
    except KeyError:
        raise CannotEdit(f"{point.name} stands in no row of the map any more") from None


def shares_map(site: Site, device: Device) -> list[str]:
    """Other devices that the same map serves."""
    return [other.name for _, other in site.devices() if other.map_path == device.map_path and other.name != device.name]


def _map(device: Device) -> Path:
    if device.map_path is None:
        raise CannotEdit(f"{device.name} has no map yet")
    return device.map_path
