"""What the view Map asks for at the foot, and what it does with the answers: new points, other cells, a scale, a
file."""

from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path

from kanaleto.board.board import Reading
from kanaleto.editing.news import Done
from kanaleto.editing.pointedit import add_points, change_points, shares_map
from kanaleto.files.mapcolumns import COLUMN_WORDS
from kanaleto.files.maprows import assignments, in_table, parse_assignments, parse_new
from kanaleto.files.whole import write_bytes_whole
from kanaleto.planning.plan import Identity, Place
from kanaleto.site.counting import Numbering, as_references, from_wire, table_of_reference, wire_of_reference
from kanaleto.site.model import Device, Line, Site
from kanaleto.tui.map.export import as_file
from kanaleto.tui.map.scaling import raw_of, scale_cells
from kanaleto.tui.shared.context import Context, Stoppable
from kanaleto.tui.shared.sure import WantedTwice
from kanaleto.values.candidates import parse_display
from kanaleto.wire.codes import Table

_BIT_TABLES = {"c": "coil", "d": "discrete", "h": "holding"}
_LIMITS = ("range_low", "range_high", "warn_low", "warn_high", "alarm_low", "alarm_high", "warn_on", "alarm_on")


def seen_rows(context: Context, device: Device, names: list[str]) -> dict[str, dict[str, str]]:
    """The rows of points as they stand now, to tell whether somebody changes them before the answer comes."""
    return {name: context.door.cells_of(device, name) for name in names}


def serves(site: Site, device: Device) -> str:
    """How many devices an edit of its map is an edit of, where that is more than this one."""
    others = len(shares_map(site, device)) if device.map_path is not None else 0
    return f"its map serves {others + 1} devices" if others else ""


def _and_serves(context: Context, device: Device) -> str:
    text = serves(context.snapshot.site, device)
    return f" ({text})" if text else ""


def tell_with_sharers(context: Context, device_name: str, came: Done) -> None:
    """What was done, and who shares the map."""
    device = next((device for _, device in came.site.devices() if device.name == device_name), None)
    others = shares_map(came.site, device) if device is not None else []
    more = f"; {', '.join(others[:2])} {'shares' if len(others) == 1 else 'share'} this map" if others else ""
    context.tell(f"{came.what}{more}; ctrl+z takes it back")


def ask_new(context: Context, device: Device, then: Callable[[Identity], None]) -> None:
    """Points more; `then` receives the first of them."""
    whose = f"{device.name}{_and_serves(context, device)}"
    asked = f"new for {whose}: name, address, type (a run: Cell {{1..24}}, 40201, float32)"
    opened = context.door.opened

    before = {point.name for point in device.points}

    def added(done: Done) -> None:
        tell_with_sharers(context, device.name, done)
        now = next((one for _, one in done.site.devices() if one.name == device.name), device)
        new = next((point.name for point in now.points if point.name not in before), None)
        if new is not None:
            then((device.name, new))

    def add(text: str) -> "Future[Done] | str | None":
        """An address that fits two countings is asked about, not guessed."""
        try:
            rows = parse_new(text)
        except ValueError as error:
            return str(error)
        if "table" in rows[0]:
            return add_in(rows)
        address, is_bit = rows[0]["address"], rows[0].get("type", "").lower() == "bool"
        by_digit = table_of_reference(address) if device.numbering is Numbering.REFERENCE else None
        if by_digit is not None or not is_bit:
            return add_in(in_table(rows, (by_digit or Table.HOLDING).value))

        def answer(said: str) -> "Future[Done] | str | None":
            table = _BIT_TABLES.get(said.strip().lower())
            if table is None:
                return "c, d or h says which it is; escape adds nothing"
            return add_in(in_table(rows, table))

        context.ask(f"is {address} a coil (c), a discrete input (d) or bit 0 of a holding register (h)?", "", answer)
        return None

    def add_in(rows: list[dict[str, str]]) -> "Future[Done] | str | None":
        wire = wire_of_reference(rows[0]["address"], Table(rows[0]["table"]), device.numbering)
        if wire is None:
            return context.edit(add_points(device.name, rows), opened, added)

        def answer(said: str) -> "Future[Done] | str":
            if said.strip().lower() not in ("r", "a"):
                return "r or a says which it is; escape adds nothing"
            chosen = as_references(rows, device.numbering) if said.strip().lower() == "r" else rows
            return context.edit(add_points(device.name, chosen), opened, added)

        both = (
            f"{rows[0]['address']} fits two countings: r for the reference (wire "
            f"{wire}), a for the address as this map counts"
        )
        context.ask(both, "", answer)
        return None

    context.ask(asked, "", add, listed=tuple(COLUMN_WORDS.items()))


def ask_display(context: Context, place: Place, now: str, take: Callable[[Place, str], None]) -> None:
    """What the display on the device shows; an empty line takes it away."""
    identity = place.identity

    def took(text: str) -> str | None:
        place = context.snapshot.place_of(identity)
        if not isinstance(place, Place):
            return f"{identity[1]} of {identity[0]} is no more"
        try:
            if text.strip():
                parse_display(text)
        except ValueError as error:
            return str(error)
        take(place, text.strip())
        return None

    how = "2.41, or 2.41 ± 0.05; an empty line takes it away"
    context.ask(f"the display for {place.point.name} says ({how})", now, took)


def ask_move(context: Context, place: Place) -> None:
    """The point one address up or down."""
    device, point = place.device, place.point
    opened, seen = context.door.opened, seen_rows(context, device, [point.name])

    def take(text: str) -> "Future[Done] | str":
        if text.strip() not in ("+1", "-1", "1"):
            return "type +1 or -1; escape leaves it where it is"
        address = point.address + int(text)
        if not 0 <= address <= 0xFFFF:
            return f"there is no address {address}"
        where = from_wire(address, point.table, device.numbering)
        edit = change_points(device.name, [point.name], {"address": where}, seen, f"{point.name} stands at {where}")
        return context.edit(edit, opened)

    context.ask(f"move {point.name}{_and_serves(context, device)} by +1 or -1", "", take)


def ask_change(context: Context, device: Device, names: list[str]) -> None:
    """Other cells in the rows of points."""
    opened, seen = context.door.opened, seen_rows(context, device, names)
    start = assignments(seen[names[0]]) if len(names) == 1 else ""
    what = f"{names[0]} of {device.name}" if len(names) == 1 else f"all {len(names)} marked of {device.name}"
    what += _and_serves(context, device)

    def change(text: str) -> "Future[Done] | str":
        try:
            cells = parse_assignments(text)
        except ValueError as error:
            return str(error)
        before = seen[names[0]] if len(names) == 1 else {}
        cells = {key: value for key, value in cells.items() if before.get(key) != value} or cells
        gone = [key for key in _LIMITS if cells.get(key) == "" and any(seen[name].get(key) for name in names)]
        loss = f"this takes {' and '.join(gone)} of {what} away" if gone else ""
        return twice.answer(text, loss) or context.edit(change_points(device.name, names, cells, seen), opened)

    twice = WantedTwice()
    context.ask(f"change {what}", start, change, is_added_to=True, listed=tuple(COLUMN_WORDS.items()))
    context.tell("add what changes: factor=0.1; unit= takes it away; the rest stays; ? lists all columns")


def ask_scale(context: Context, place: Place, reading: Reading) -> None:
    """A scale through pairs of raw numbers and what the display shows, or a current loop."""
    device, point = place.device, place.point
    opened, seen = context.door.opened, seen_rows(context, device, [point.name])
    raw = raw_of(point, reading)

    def take(text: str) -> "Future[Done] | str":
        try:
            cells, message = scale_cells(text, point, reading)
        except ValueError as error:
            return str(error)
        what = f"scale of {point.name}: {message}" if message else ""
        return context.edit(change_points(device.name, [point.name], cells, seen, what), opened)

    asked = f"scale of {point.name}: raw=display, more pairs; or 4-20mA 6400-32000 0-250 (raw, then engineering)"
    context.ask(asked, f"{raw:g}=" if raw is not None else "", take)


def ask_sure(context: Context, what: str, do: "Callable[[], Future[Done] | Stoppable | str | None]") -> None:
    """Only when it is meant."""

    def take(text: str) -> "Future[Done] | Stoppable | str | None":
        if text.strip().lower() in ("y", "yes"):
            return do()
        context.tell("left as it is")
        return None

    context.ask(f"{what}? y does, anything else leaves it", "", take)


def ask_export(context: Context, device: Device, line: Line) -> None:
    """A file for others."""

    def export(text: str, sure: bool = False) -> "Stoppable | str | None":
        if not text.strip():
            return "name a file; escape writes none"
        try:
            path = context.holder.map_path(text)
            if path.suffix.lower() in (".svg", ".pdf"):
                return _draw(context, device, line, path)
            if path.exists() and not sure:
                ask_sure(context, f"{path.name} is there already: overwrite it", lambda: export(text, sure=True))
                return None
            data = as_file(path, device, line.link)
            path.parent.mkdir(parents=True, exist_ok=True)
            write_bytes_whole(path, data)
        except OSError as error:
            return f"{text.strip()} cannot be written: {error.strerror}"
        except ValueError as error:
            return str(error)
        context.tell(f"{len(device.points)} points written to {path}")
        return None

    context.ask(
        f"export the map of {device.name}: .csv, .xlsx, .json, .td.json, .svg, .pdf, or a name for the library",
        "",
        export,
    )


def _draw(context: Context, device: Device, line: Line, path: Path) -> "Stoppable | str | None":
    from kanaleto.paper.making import map_sheet  # what draws costs a start too much
    from kanaleto.tui.shared.paper import draw_to

    name, at = context.snapshot.site.name, context.engine.session.clock.now()
    return draw_to(context, path, lambda: map_sheet(name, line, device, at))
