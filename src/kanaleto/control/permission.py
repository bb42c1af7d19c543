"""The one place that decides what may be written, and what may be read back: for orders of every kind (a person's, kept
alive, of routines, of snapshots, to all), for what is owed, and for the commands `write` and `raw`.

By what the site file says of the line and of each device that a request reaches (`writing`), and by what their maps say
of each point that it touches (`access`, `write`); for reading by `never_read` and by points that are only written. A
broadcast reaches every device of its line. What must never be written has no way past; what wants each write confirmed
is said, and whoever asks a person goes on.
"""

from collections.abc import Iterable, Sequence

from msgspec import Struct

from kanaleto.control.wanted import WHOLE, mask_of, why_not_writable
from kanaleto.site.links.link import FramingKind, is_same_place
from kanaleto.site.model import Access, Device, Line, Point, Writing
from kanaleto.site.origin import Origin
from kanaleto.wire.reach import Items, only_reads, read_by, written_by

_DEVICE_ITSELF = (0, 255)
"""Unit IDs of a device that is itself the server (messaging guide 1.0b, 4.4.2)."""


class Touched(Struct, frozen=True):
    """Items of a table; of a single word perhaps only the bits of `mask`. `points` are those that are meant by name."""

    items: Items
    mask: int = WHOLE
    points: tuple[str, ...] = ()


class Permission(Struct, frozen=True):
    """Why it is never written, or nothing; who wants each write confirmed, or nothing."""

    never: str = ""
    confirms: str = ""


def is_broadcast(line: Line, unit_id: int) -> bool:
    """Whether it goes to all devices of a line (serial line 1.02, 2.1)."""
    return unit_id == 0 and line.link.framing is not FramingKind.TCP


def reached(line: Line, unit_id: int) -> tuple[Device, ...]:
    """The devices of a site that a request to that unit reaches."""
    if is_broadcast(line, unit_id):
        return line.devices
    found = tuple(device for device in line.devices if device.unit_id == unit_id)
    if found or unit_id not in _DEVICE_ITSELF or line.link.framing is not FramingKind.TCP:
        return found
    itself = tuple(device for device in line.devices if device.unit_id in _DEVICE_ITSELF)
    return itself or (line.devices if len(line.devices) == 1 else ())


def permission_at(lines: Iterable[Line], line: Line, unit_id: int, touched: Sequence[Touched]) -> Permission:
    """What is to be said of writing there, by `line` and by all of `lines` that lead to the same place: a line that the
    site does not have, or has twice, is no way round."""
    said = permission(line, unit_id, touched)
    for other in lines:
        if said.never or other.name == line.name or not is_same_place(other.link, line.link):
            continue
        beside = permission(other, unit_id, touched) if reached(other, unit_id) else Permission()
        said = Permission(beside.never, said.confirms or beside.confirms)
    return said


def permission(line: Line, unit_id: int, touched: Sequence[Touched]) -> Permission:
    """What is to be said of writing there, by that line alone."""
    if line.origin == Origin.OVERHEARD.value:
        return Permission(f"{line.name} is only listened to: nothing is ever sent there")
    devices, is_to_all = reached(line, unit_id), is_broadcast(line, unit_id)
    ways = [(device.name, device.writing) for device in devices]
    if not devices or is_to_all:
        ways.append((line.name if is_to_all else f"unit {unit_id} of {line.name}", line.writing))
    reaches = ", and a broadcast reaches it" if is_to_all else ""
    for name, how in ways:
        if how is Writing.NEVER:
            return Permission(f'{name} is never written: the site file says writing = "never"{reaches}')
    confirms = next((name for name, how in ways if how is Writing.CONFIRM), "")
    for device in devices:
        for point in _points_touched(device, touched):
            why = why_not_writable(point)
            if why:
                return Permission(f"{device.name}: {why}{reaches}" if is_to_all else why)
            if point.writing.how is Writing.CONFIRM:
                confirms = confirms or device.name
    return Permission(confirms=confirms)


def permission_of_pdu(lines: Iterable[Line], line: Line, unit_id: int, pdu: bytes) -> Permission:
    """The same for a PDU as it stands; nothing for what only reads what may be read."""
    if only_reads(pdu):
        return Permission(why_not_read(line, unit_id, read_by(pdu)))
    items = written_by(pdu)
    if items is None and any(_has_never(device) for device in reached(line, unit_id)):
        return Permission(
            f"what function {pdu[0]:02X} would write here is not known, and the map has points that are never written"
        )
    touched = [Touched(each, _mask_of(pdu)) for each in items or ()]
    judged = permission_at(lines, line, unit_id, touched)
    return judged if judged.never else Permission(why_not_read(line, unit_id, read_by(pdu)), judged.confirms)


def why_not_read(line: Line, unit_id: int, items: Iterable[Items]) -> str:
    """Why some of these must not be read, or nothing."""
    for device in reached(line, unit_id):
        for each in items:
            why = _why_not_read(device, each)
            if why:
                return why
    return ""


def may_be_read(device: Device, items: Items) -> bool:
    """Whether the site file and the map let it be read."""
    return not _why_not_read(device, items)


def points_touched(device: Device, touched: Touched) -> list[Point]:
    """Points that are written with it: those that are meant, and others that it meets, but for such as share the words
    of one that is meant, or whose bits it leaves as they are."""
    items = touched.items
    meets = [
        point
        for point in device.points
        if point.table is items.table and point.address < items.end and point.end > items.first
    ]
    if touched.mask != WHOLE:
        meets = [point for point in meets if point.name in touched.points or mask_of(point) & touched.mask]
    meant = {(point.address, point.end) for point in meets if point.name in touched.points}
    return [point for point in meets if point.name in touched.points or (point.address, point.end) not in meant]


def _points_touched(device: Device, all_touched: Sequence[Touched]) -> list[Point]:
    """Of registers that the map has twice, to be read and to be written, the latter counts."""
    points = [point for touched in all_touched for point in points_touched(device, touched)]
    written = {(point.address, point.end) for point in points if point.access.is_written}
    return [point for point in points if point.access is not Access.READ or (point.address, point.end) not in written]


def _has_never(device: Device) -> bool:
    return any(point.writing.how is Writing.NEVER for point in device.points)


def _mask_of(pdu: bytes) -> int:
    """The bits of its word that a mask write changes (application protocol 1.1b3, 6.16)."""
    return ~int.from_bytes(pdu[3:5]) & WHOLE if pdu[0] == 0x16 and len(pdu) == 7 else WHOLE


def _why_not_read(device: Device, items: Items) -> str:
    last = items.end - 1
    if device.limits.forbids_reading(items.table, items.first, last):
        return f"never_read of {device.name} covers some of {items.table.title} {items.first}…{last}"
    for point in device.points:
        meets = point.table is items.table and point.address < items.end and point.end > items.first
        if meets and not point.access.is_read:
            return f"{point.name} of {device.name} is only written: its map says access w"
    return ""
