"""What is found becomes part of a site: a line for a link, a device for a unit, points for registers."""

from collections.abc import Mapping, Sequence

import tomlkit
from msgspec import Struct

from kanaleto.editing.pointedit import FreeNames, free_map_path, free_name
from kanaleto.editing.workingcopy import CannotEdit, Draft, Edit
from kanaleto.files.maprows import NEW_MAP, with_rows
from kanaleto.files.sitetext import line_table, with_device, with_device_keys, with_line, with_line_keys, with_link
from kanaleto.site.counting import Counting, Numbering, from_wire
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device, Line, Site
from kanaleto.wire.codes import Table


class NewPoint(Struct, frozen=True):
    """A point to be: its address is the wire's; `cells` are further cells of its row, as `type`, `order`, `unit`."""

    name: str
    table: Table
    address: int
    cells: tuple[tuple[str, str], ...] = ()


def same_place(one: Link, other: Link) -> bool:
    """Whether two links are the same line, whatever their settings: the same kind of link to the same place."""
    return type(one) is type(other) and one.place == other.place


def line_of(site: Site, link: Link) -> Line | None:
    """The line of a site that leads there."""
    return next((line for line in site.lines if same_place(line.link, link)), None) or next(
        (line for line in site.lines if line.led_from is not None and same_place(line.led_from, link)), None
    )


def device_of(site: Site, link: Link, unit_id: int) -> Device | None:
    line = line_of(site, link)
    return next((device for device in line.devices if device.unit_id == unit_id), None) if line is not None else None


class NewDevice(Struct, frozen=True):
    """A device to be: its unit ID, a name if it has one, its points, and further keys of the site file."""

    unit_id: int
    name: str = ""
    points: tuple[NewPoint, ...] = ()
    keys: tuple[tuple[str, object], ...] = ()


def add_device(
    link: Link, unit_id: int, name: str = "", points: Sequence[NewPoint] = (), numbering: Counting = Numbering.PROTOCOL
) -> Edit:
    """Add the line where the site has none that leads there, the device where that unit has none, and the points to its
    map; names that are taken get a number. A new device's map counts as `numbering`."""
    return add_devices(link, [NewDevice(unit_id, name, tuple(points))], {}, numbering)


def add_devices(
    link: Link, devices: Sequence[NewDevice], line_keys: Mapping[str, object], numbering: Counting = Numbering.PROTOCOL
) -> Edit:
    """Several at once; `line_keys` are for the line, where it is new."""

    def edit(draft: Draft) -> str:
        site = draft.site
        line = line_of(site, link)
        line_name = line.name if line is not None else free_name(_line_title(link), {line.name for line in site.lines})
        if line is None:
            draft.put(with_line_keys(with_line(draft.text(), line_name, str(link)), line_name, dict(line_keys)))
        taken = {other.name for _, other in site.devices()}
        said = [_put_device(draft, link, line_name, device, numbering, taken) for device in devices]
        return f"add {said[0]}" if len(said) == 1 else f"add {len(said)} devices on {line_name}"

    return edit


def _put_device(draft: Draft, link: Link, line_name: str, new: NewDevice, numbering: Counting, taken: set[str]) -> str:
    """The device with its points in the draft; `taken` are names of devices, this one's among them afterwards. What was
    added, in words."""
    device = device_of(draft.site, link, new.unit_id)
    if device is None:
        device_name = free_name(new.name or f"Unit {new.unit_id}", taken)
        taken.add(device_name)
        map_path = free_map_path(draft.path.parent / "maps", f"{line_name} {device_name}")
        keys: dict[str, object] = {
            "name": device_name,
            "unit_id": new.unit_id,
            "map": map_path.relative_to(draft.path.parent).as_posix(),
        }
        if isinstance(numbering, Numbering) and numbering is not Numbering.PROTOCOL:
            keys["numbering"] = numbering.value
        draft.put(with_device(draft.text(), line_name, {**keys, **dict(new.keys)}))
        map_text = NEW_MAP
    elif device.map_path is None:
        device_name, map_path = device.name, free_map_path(draft.path.parent / "maps", device.name)
        name_of_map = map_path.relative_to(draft.path.parent).as_posix()
        draft.put(with_device_keys(draft.text(), {device.name: {"map": name_of_map}})[0])
        map_text = NEW_MAP
    else:
        device_name, map_path = device.name, device.map_path
        map_text = draft.text(map_path)
    counting = device.numbering if device is not None else numbering
    free = FreeNames({point.name for point in device.points} if device is not None else set())
    rows = []
    for point in new.points:
        called = free.give(point.name)
        address = from_wire(point.address, point.table, counting)
        rows.append({"name": called, "table": point.table.value, "address": address, **dict(point.cells)})
    draft.put(with_rows(map_text, rows), map_path)
    count = f"{len(rows)} point{'s' if len(rows) != 1 else ''}"
    return f"{count} of {device_name}" if rows else f"{device_name} on {line_name}"


def set_link(line_name: str, link: Link) -> Edit:
    """Another link, as one with other settings, for a line."""

    def edit(draft: Draft) -> str:
        line = draft.line(line_name)
        new = link
        if link.settings is not None and line.link.is_serial:
            new = line.link.with_serial(link.settings, link.framing)
        draft.put(with_link(draft.text(), line_name, str(new)))
        return f"settings of {line_name}"

    return edit


def set_origin(line_name: str, origin: str, who: str) -> Edit:
    """What answers on a line, with who said so."""

    def edit(draft: Draft) -> str:
        draft.line(line_name)
        document = tomlkit.parse(draft.text())
        table = line_table(document, line_name)
        table["origin"] = tomlkit.item(origin).comment(f"said by {who}")
        draft.put(tomlkit.dumps(document))
        return f"{line_name} is {origin}"

    return edit


def keep_lessons(changes: Mapping[str, dict[str, object]]) -> Edit:
    """What was learned of devices, as keys of the site file by device name."""

    def edit(draft: Draft) -> str:
        text, found = with_device_keys(draft.text(), dict(changes))
        if not found:
            raise CannotEdit("the devices of which something was learned are no more")
        draft.put(text)
        return f"what was learned of {', '.join(found)}"

    return edit


def _line_title(link: Link) -> str:
    return link.title
