"""Edits of composed devices: a run of points gets a run of registers, in one step."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import tomlkit

from kanaleto.editing.bridgeedit import bridge_table
from kanaleto.editing.pointedit import FreeNames, free_map_path
from kanaleto.editing.workingcopy import CannotEdit, Draft, Edit
from kanaleto.files.bridgetables import units_of
from kanaleto.files.maprows import NEW_MAP, split_assignments, with_rows
from kanaleto.files.sitetext import tables_of, with_appended
from kanaleto.site.bridges import Bridge, Composed
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Device, Point, Site
from kanaleto.site.ranges import parse_range
from kanaleto.wire.codes import Table

RUN_SETTINGS: dict[str, str] = {
    "from": "points, with ; between: Device/Point, Device/*, or Device/First..Last in the order of its map",
    "at": "the first register that they get, as holding 100 or input 0",
}
NEW_SETTINGS: dict[str, str] = {"unit_id": "the unit ID at which the new device is asked", **RUN_SETTINGS}
_SAME_CELLS = (
    "factor", "offset", "raw_low", "raw_high", "eng_low", "eng_high", "scale", "unit", "decimals", "labels", "states",
    "range_low", "range_high",
)  # fmt: skip


def parse_run(text: str, needed: Mapping[str, str]) -> dict[str, str]:
    """What was typed, by key. Raises ValueError with one sentence."""
    found: dict[str, str] = {}
    for word, key, value in split_assignments(text):
        if key not in needed:
            raise ValueError(f"{key or word} is none of {', '.join(needed)}{suggestion(key or word, list(needed))}")
        found[key] = value.strip()
    missing = [key for key in needed if not found.get(key)]
    if missing:
        raise ValueError(f"{missing[0]} is needed: {needed[missing[0]]}")
    return found


def points_named(site: Site, text: str) -> list[tuple[Device, Point]]:
    """The points that `Device/Point; Device/*; Device/First..Last` names. Raises ValueError."""
    devices = {device.name: device for _, device in site.devices()}
    found: list[tuple[Device, Point]] = []
    for part in [part.strip() for part in text.split(";") if part.strip()]:
        called, slash, names = part.partition("/")
        device = devices.get(called)
        if device is None:
            raise ValueError(f"{called!r} is no device of this site{suggestion(called, list(devices))}")
        if not slash:
            raise ValueError(f"{part!r}: write Device/Point, Device/* or Device/First..Last")
        found += [(device, point) for point in _named(device, names.strip())]
    if not found:
        raise ValueError("no point is named")
    return found


def _named(device: Device, names: str) -> Sequence[Point]:
    by_name = {point.name: number for number, point in enumerate(device.points)}
    if names == "*":
        return device.points
    first, dots, last = (names, "", names) if names in by_name else names.partition("..")
    for name in (first.strip(), last.strip()) if dots else (first,):
        if name not in by_name:
            raise ValueError(f"{name!r} is no point of {device.name}{suggestion(name, list(by_name))}")
    begin, end = by_name[first.strip()], by_name[last.strip()]
    if end < begin:
        raise ValueError(f"{last.strip()!r} stands before {first.strip()!r} in the map of {device.name}")
    return device.points[begin : end + 1]


def next_free(composed: Composed | None) -> str:
    """Where a run may begin: behind the last register, as it is typed."""
    numbering = composed.numbering if composed is not None else Numbering.PROTOCOL
    rows = composed.rows if composed is not None else ()
    table = rows[-1].table if rows else Table.HOLDING
    return (
        f"{table.value} {from_wire(max((row.end for row in rows if row.table is table), default=0), table, numbering)}"
    )


def assign_run(bridge: Bridge, unit_id: int, points: str, at: str) -> Edit:
    """Registers of a composed device for those points, one after the other from `at` on, each in its point's type,
    order and scale. A unit ID that has no device yet gets one."""

    def edit(draft: Draft) -> str:
        chosen = points_named(draft.site, points)
        document = tomlkit.parse(draft.text())
        tables = bridge_table(document, bridge.name)
        device_table = next((one for one in tables_of(tables, "device") if one.get("unit_id") == unit_id), None)
        now = next((one.composed(unit_id) for one in draft.site.bridges if one.name == bridge.name), None)
        if device_table is None:
            _check_free(draft.site, bridge.name, unit_id)
            path = free_map_path(draft.path.parent / "maps", f"{bridge.name} unit {unit_id}")
            device_table = tomlkit.table()
            device_table.update({"unit_id": unit_id, "map": path.relative_to(draft.path.parent).as_posix()})
            with_appended(tables, "device", device_table)
            draft.put(tomlkit.dumps(document))
        path = draft.path.parent / str(device_table["map"])
        table, first, _ = parse_range(at, now.numbering if now is not None else Numbering.PROTOCOL, "at")
        draft.put(with_rows(draft.text(path) or NEW_MAP, _rows(draft, chosen, table, first, now)), path)
        return f"{len(chosen)} point{'s' if len(chosen) != 1 else ''} at {at} of unit {unit_id}"

    return edit


def delete_row(bridge: Bridge, unit_id: int, name: str) -> Edit:
    """Take one value out of a composed device."""

    def edit(draft: Draft) -> str:
        path = _map_of(draft, bridge, unit_id)
        rows = draft.rows(path)
        if name not in rows.names:
            raise CannotEdit(f"{name} stands in no row of unit {unit_id}'s map any more, so nothing was changed")
        draft.put(rows.without([name]), path)
        return f"{name} out of unit {unit_id}"

    return edit


def _check_free(site: Site, bridge: str, unit_id: int) -> None:
    if not 0 <= unit_id <= 255:
        raise CannotEdit(f"unit ID {unit_id} is not in 0…255")
    for other in site.bridges:
        if other.name == bridge and other.route_of(unit_id) is not None:
            raise CannotEdit(f"unit ID {unit_id} of {bridge} has a route already; take another")


def _map_of(draft: Draft, bridge: Bridge, unit_id: int) -> Path:
    tables = tables_of(bridge_table(tomlkit.parse(draft.text()), bridge.name), "device")
    for table in tables:
        if table.get("unit_id") == unit_id:
            return draft.path.parent / str(table["map"])
    raise CannotEdit(f"{bridge.name} has no composed unit {unit_id} any more")


def _rows(
    draft: Draft, chosen: Sequence[tuple[Device, Point]], table: Table, first: int, now: Composed | None
) -> list[dict[str, str]]:
    numbering = now.numbering if now is not None else Numbering.PROTOCOL
    taken = {address: row.name for row in (now.rows if now is not None else ()) if row.table is table
             for address in range(row.address, row.end)}  # fmt: skip
    free = FreeNames({row.name for row in now.rows} if now is not None else set())
    rows: list[dict[str, str]] = []
    at = first
    for device, point in chosen:
        cells = _cells(draft, device, point, table)
        size = 1 if point.table.is_bits or point.codec.bits is not None else point.size
        for address in range(at, at + size):
            if address in taken:
                raise CannotEdit(
                    f"{point.name} would stand at {table.value} {from_wire(address, table, numbering)}, where"
                    f" {taken[address]} stands already; nothing was changed"
                )
        if at + size > 0x10000:
            raise CannotEdit(f"{point.name} would stand behind the last register, 65535; nothing was changed")
        name = free.give(point.name if sum(one.name == point.name for _, one in chosen) == 1
                         else f"{device.name} {point.name}")  # fmt: skip
        rows.append({"name": name, "table": table.value, "address": from_wire(at, table, numbering), **cells})
        at += size
    return rows


def _cells(draft: Draft, device: Device, point: Point, table: Table) -> dict[str, str]:
    if table.is_bits and not (point.table.is_bits or point.codec.bits is not None):
        raise CannotEdit(f"{point.name} is a value of registers, and {table.value} has bits only; nothing was changed")
    cells = {"from": f"{device.name}/{point.name}"}
    is_written = point.access.is_written and point.access.is_read and table in (Table.HOLDING, Table.COIL)
    cells["access"] = "rw" if is_written and point.codec.bits is None else "r"
    if table.is_bits:
        return cells
    if point.table.is_bits or point.codec.bits is not None:
        return {**cells, "type": "uint16"}
    cells["type"] = str(point.codec.type)
    if point.codec.type.is_wide or point.codec.order.swaps_bytes:
        cells["order"] = point.codec.order.value
    if device.map_path is not None:
        with_scale = draft.rows(device.map_path)
        if point.name in with_scale.names:
            scaled = with_scale.cells_of(point.name)
            cells |= {key: scaled[key] for key in _SAME_CELLS if scaled.get(key)}
    return cells


def unit_of(text: str) -> int:
    """One unit ID. Raises ValueError."""
    units = units_of(text)
    if len(units) != 1:
        raise ValueError(f"{text!r} names {len(units)} unit IDs: a composed device has one")
    return units[0]
