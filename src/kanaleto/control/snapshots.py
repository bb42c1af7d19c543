"""Snapshots: what registers of devices hold, saved; compared with an earlier one, another device, or a list of what a
site requires; and written back, in order.

A snapshot is a CSV: a first line `# kanaleto snapshot 1, SITE, AT`, then device, point, table, address (the wire's),
words, value, unit. Registers without a name have none. A list of what is required has the same columns.
"""

import asyncio
import csv
import io
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.board.board import Quality
from kanaleto.board.snapshot import Snapshot
from kanaleto.control.order import Order, Result, State
from kanaleto.control.orders import Orders
from kanaleto.control.wanted import WHOLE, mask_of, text_of, why_not_writable
from kanaleto.files.harmless import guarded, unguarded
from kanaleto.files.texts import read_text
from kanaleto.files.whole import write_whole
from kanaleto.planning.plan import Place
from kanaleto.polling.session import Session
from kanaleto.site.filefaults import Fault, FaultyFile
from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer

HEADINGS = ("device", "point", "table", "address", "words", "value", "unit")
_FIRST = "# kanaleto snapshot 1"
_MOST_ROWS = 200_000
Range = tuple[Table, int, int]


class Held(Struct, frozen=True):
    """Registers (or a byte for each bit) that stood there."""

    device: str
    point: str
    table: Table
    address: int
    data: bytes
    value: str = ""
    unit: str = ""
    line: int = 0

    @property
    def key(self) -> tuple[str, str, Table, int]:
        return self.device, self.point, self.table, self.address


class SnapshotDiff(Struct, frozen=True):
    """What one has and the other does not, or has otherwise; None where it is not there."""

    one: Held | None
    other: Held | None

    @property
    def held(self) -> Held:
        found = self.one or self.other
        assert found is not None
        return found


# Reading devices


async def take(
    session: Session, devices: Sequence[str], ranges: Sequence[Range] = (),
    on_step: Callable[[int, int, str], None] = lambda done, of, words: None,
) -> tuple[list[Held], list[str]]:  # fmt: skip
    """What these devices hold now: their points that can be read, or (with `ranges`) these registers; and what could
    not be read, in words. `on_step` receives how many of how many devices were read, and which one is."""
    done = 0
    rows: list[Held] = []
    failed: list[str] = []
    for line, device in session.site.devices():
        if device.name not in devices:
            continue
        on_step(done, len(devices), device.name)
        done += 1
        wanted = spans_of(device, ranges)
        for table, first, end in wanted:
            data, why = await _read(session, line, device, table, first, end)
            if data is None:
                failed.append(f"{device.name}: {table.value} {first}…{end - 1} cannot be read: {why}")
            else:
                rows += _rows(device, table, first, data, bool(ranges))
    return rows, failed


def spans_of(device: Device, ranges: Sequence[Range] = ()) -> list[tuple[Table, int, int]]:
    """What to read, in requests that it bears."""
    found: list[tuple[Table, int, int]] = []
    if ranges:
        for table, first, last in ranges:
            most = device.limits.most_read(table)
            found += [(table, at, min(at + most, last + 1)) for at in range(first, last + 1, most)]
        return [span for span in found if not device.limits.forbids_reading(span[0], span[1], span[2] - 1)]
    points = [
        point
        for point in device.points
        if point.access.is_read and not device.limits.forbids_reading(point.table, point.address, point.end - 1)
    ]
    for point in sorted(points, key=lambda point: (list(Table).index(point.table), point.address)):
        before = found[-1] if found else None
        if before is not None and before[0] is point.table and point.address <= before[2]:
            end = max(point.end, before[2])
            if end - before[1] <= device.limits.most_read(point.table):
                found[-1] = (before[0], before[1], end)
                continue
        found.append((point.table, point.address, point.end))
    return found


async def _read(
    session: Session, line: Line, device: Device, table: Table, first: int, end: int
) -> tuple[bytes | None, str]:
    for left in reversed(range(1 + device.retries)):
        try:
            outcome = await session.named(line.name).ask(
                device.unit_id, Read(table, first, end - first), device.timeout_s, device
            )
        except (KeyError, OverflowError, ValueError) as error:
            return None, str(error)
        content = outcome.content
        if isinstance(content, ReadAnswer):
            return (bytes(content.bits(end - first)) if table.is_bits else content.data), ""
        if outcome.is_answer or not left:
            return None, outcome.reason
    raise AssertionError("the last try gives back")


def _rows(device: Device, table: Table, first: int, data: bytes, has_all: bool) -> Iterable[Held]:
    """A row a point, in the order of their addresses; with `has_all` also one a register that no point has."""
    width = 1 if table.is_bits else 2
    end = first + len(data) // width
    points = [
        point
        for point in device.points
        if point.table is table and point.address >= first and point.end <= end and point.access.is_read
    ]
    covered = {at for point in points for at in range(point.address, point.end)}
    rows = [
        (point.address, number, _row(device, point, data[width * (point.address - first) :][: width * point.size]))
        for number, point in enumerate(points)
    ]
    if has_all:
        rows += [
            (at, 0, Held(device.name, "", table, at, data[width * (at - first) :][:width]))
            for at in range(first, end)
            if at not in covered
        ]
    return [row for _, _, row in sorted(rows, key=lambda one: one[:2])]


def _row(device: Device, point: Point, data: bytes) -> Held:
    text = text_of(point, data)
    mask = mask_of(point)
    if mask != WHOLE:  # the rest of its word is others'
        data = (int.from_bytes(data) & mask).to_bytes(2)
    value = text.removesuffix(f" {point.unit}") if point.unit else text
    return Held(device.name, point.name, point.table, point.address, data, value, point.unit)


# On disk


def as_text(site: str, at: str, rows: Sequence[Held]) -> str:
    out = io.StringIO()
    out.write(f"{_FIRST}, {site.replace(',', ' ')}, {at}\n")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(HEADINGS)
    for row in rows:
        words = " ".join(str(byte) for byte in row.data) if row.table.is_bits else row.data.hex(" ", 2).upper()
        cells = (row.device, row.point, row.table.value, row.address, words, row.value, row.unit)
        writer.writerow([guarded(cell) for cell in cells])
    return out.getvalue()


def save(path: Path, text: str) -> None:
    """Written beside, and renamed. Raises OSError."""
    path.parent.mkdir(parents=True, exist_ok=True)
    write_whole(path, text)


def load(path: Path) -> list[Held]:
    """Raises FaultyFile with every fault and its line."""
    text = read_text(path)
    faults: list[Fault] = []
    rows: list[Held] = []
    lines = text.splitlines()
    start = 1 if lines and lines[0].startswith("#") else 0
    if start and not lines[0].startswith(_FIRST):
        raise FaultyFile(
            [Fault(path, 1, f"is no snapshot that this version reads: its first line begins with {_FIRST!r}")]
        )
    try:
        table_rows = list(csv.reader(lines[start:]))
    except csv.Error as error:
        raise FaultyFile([Fault(path, 1, f"is no table: {error}")]) from None
    head = [cell.strip().lower() for cell in table_rows[0]] if table_rows else []
    missing = [name for name in ("device", "table", "address", "words") if name not in head]
    if missing:
        raise FaultyFile(
            [Fault(path, start + 1, f"lacks the column {', '.join(missing)}; a snapshot has {', '.join(HEADINGS)}")]
        )
    for number, cells in enumerate(table_rows[1:], start + 2):
        if not any(cell.strip() for cell in cells):
            continue
        if len(rows) + len(faults) > _MOST_ROWS:
            faults.append(Fault(path, number, f"has more than {_MOST_ROWS} rows"))
            break
        said = dict(zip(head, (unguarded(cell.strip()) for cell in cells), strict=False))
        try:
            rows.append(_read_row(said, number))
        except ValueError as error:
            faults.append(Fault(path, number, str(error)))
    if faults:
        raise FaultyFile(faults)
    return rows


def _read_row(said: dict[str, str], number: int) -> Held:
    """Raises ValueError."""
    word = said.get("table", "").lower()
    if word not in {table.value for table in Table}:
        raise ValueError(f"table {said.get('table', '')!r} is not known; there are coil, discrete, input, holding")
    table = Table(word)
    address = said.get("address", "")
    if not address.isascii() or not address.isdecimal() or int(address) > 0xFFFF:
        raise ValueError(f"address {address!r} is not the wire's, 0 to 65535")
    words = said.get("words", "")
    try:
        if table.is_bits:
            data = bytes(int(bit) for bit in words.split())
            if not data or any(byte > 1 for byte in data):
                raise ValueError
        else:
            data = bytes.fromhex(words)
            if not data or len(data) % 2:
                raise ValueError
    except ValueError:
        what = "bits, 0 or 1" if table.is_bits else "words of four hexadecimal digits"
        raise ValueError(f"words {words!r} are no {what}") from None
    if not said.get("device", ""):
        raise ValueError("has no device")
    return Held(
        said["device"],
        said.get("point", ""),
        table,
        int(address),
        data,
        said.get("value", ""),
        said.get("unit", ""),
        number,
    )


def standing(rows: Sequence[Held], snapshot: Snapshot) -> dict[tuple[str, str, Table, int], Held]:
    """What of these is polled, as it was read last; for whoever looks at it."""
    found: dict[tuple[str, str, Table, int], Held] = {}
    for row in rows:
        place = snapshot.place_of((row.device, row.point)) if row.point else None
        if not isinstance(place, Place) or place.block is None:
            continue
        point = place.point
        reading = snapshot.reading(place)
        if (
            reading.quality is Quality.GOOD
            and reading.data
            and (point.table, point.address) == (row.table, row.address)
        ):
            found[row.key] = _row(place.device, point, reading.data)
    return found


# Comparing and writing back


def for_device(rows: Sequence[Held], name: str, of: str = "") -> list[Held]:
    """The rows of one device (`of`, or the only one that there is) as if they were another's."""
    names = {row.device for row in rows}
    source = of or (next(iter(names)) if len(names) == 1 else name)
    return [replace(row, device=name) for row in rows if row.device == source]


def differences(ones: Sequence[Held], others: Sequence[Held]) -> list[SnapshotDiff]:
    """In the order of `ones`, then what only `others` have."""
    by_key = {row.key: row for row in others}
    seen = {row.key for row in ones}
    found = []
    for row in ones:
        other = by_key.get(row.key)
        if other is None or other.data != row.data:
            found.append(SnapshotDiff(row, other))
    return [*found, *(SnapshotDiff(None, row) for row in others if row.key not in seen)]


def writable(site: Site, rows: Sequence[Held]) -> list[Held]:
    """Those that the map lets be written."""
    points = {(device.name, point.name): point for _, device in site.devices() for point in device.points}
    found = []
    for row in rows:
        point = points.get((row.device, row.point))
        if (point is None and row.table.is_writable) or (point is not None and not why_not_writable(point)):
            found.append(row)
    return found


def orders_for(site: Site, rows: Sequence[Held]) -> tuple[list[Order], list[str]]:
    """What writes these rows, in their order, and what cannot be written and why. What takes effect only after power
    off and on is reported, and left."""
    orders: list[Order] = []
    left: list[str] = []
    devices = {device.name: (line, device) for line, device in site.devices()}
    for row in rows:
        found = devices.get(row.device)
        name = row.point or f"{row.table.value} {row.address}"
        if found is None:
            left.append(f"{row.device}/{name}: there is no such device")
            continue
        line, device = found
        point = next((point for point in device.points if point.name == row.point), None) if row.point else None
        why = why_not_writable(point) if point is not None else "" if row.table.is_writable else "nobody can write it"
        if point is not None and (point.table, point.address) != (row.table, row.address):
            why = f"it stands at {point.table.value} {point.address} now, not at {row.address}"
        if point is not None and point.setting is not None:
            why = "it is a setting of its port, and takes effect only after power off and on: change it on its own"
        if why:
            left.append(f"{row.device}/{name}: {why}")
            continue
        text = f"{row.value} {row.unit}".strip()
        orders.append(
            Order(
                line=line.name, unit_id=device.unit_id, device=device.name, table=row.table, address=row.address,
                data=row.data, points=(row.point,) if row.point else (), new_text=text,
                mask=mask_of(point) if point is not None else WHOLE,
            )
        )  # fmt: skip
    return orders, left


async def restore(orders: Orders, wanted: Sequence[Order], on_each: Callable[[Result], None]) -> list[Result]:
    """One after the other. What a device refuses is reported and the rest goes on; what may have happened or not, or
    could not be sent, ends it."""
    results: list[Result] = []
    for order in wanted:
        result = await orders.send(order)
        results.append(result)
        on_each(result)
        if result.state is State.UNKNOWN or (result.state is State.NOT_SENT and result.needs is None):
            break
        await asyncio.sleep(0)
    return results
