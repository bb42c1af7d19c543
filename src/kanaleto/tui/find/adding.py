"""What was found becomes part of the site: names and points for what is added, and the edits."""

from collections.abc import Collection, Iterable

from msgspec.structs import replace

from kanaleto.editing.adding import NewDevice, NewPoint, add_device, add_devices, device_of, line_of, set_link
from kanaleto.editing.news import Done
from kanaleto.finding.desk import Desk, FindPlace
from kanaleto.finding.placestates import PlaceState
from kanaleto.finding.scratch import ScratchQuestion
from kanaleto.lines.stablenames import stable_name
from kanaleto.probing.draftmap import DraftRow, rows_of_runs
from kanaleto.site.leading import real_link
from kanaleto.site.model import Device, Site
from kanaleto.tui.shared.context import Context
from kanaleto.wire.codes import Table

_MOST_SHOWN = 16
_TITLES = {Table.HOLDING: "Holding", Table.INPUT: "Input", Table.COIL: "Coil", Table.DISCRETE: "Input bit"}


def name_of(place: PlaceState, unit_id: int) -> str:
    """What a unit says of itself, as a name; nothing where it says nothing."""
    found = place.units.found.get(unit_id) if place.units is not None else None
    if found is None or found.identity is None:
        return ""
    objects = found.identity.objects
    return (objects.get(5) or objects.get(4) or objects.get(1) or "").strip()[:40]


def points_of_rows(rows: Iterable[DraftRow]) -> list[NewPoint]:
    return [
        NewPoint(
            row.name, row.table, row.address,
            (*((("type", row.type),) if row.type and not row.table.is_bits else ()), *row.cells, ("note", row.note)),
        )
        for row in rows
    ]  # fmt: skip


def points_found(place: PlaceState, unit_id: int) -> list[NewPoint]:
    """A point a register that reads."""
    survey = place.registers.get(unit_id)
    rows: list[DraftRow] = []
    for table in survey.tables if survey is not None else ():
        constant = survey.constant.get(table.table, frozenset()) if survey is not None else frozenset()
        rows += rows_of_runs(table.table, table.runs, constant)
    return points_of_rows(rows)


def points_read(question: ScratchQuestion, reading: str, addresses: Collection[int]) -> list[NewPoint]:
    """Words of a scratch reading, read as they are there."""
    type_text, _, order = reading.partition(" ")
    cells = () if question.table.is_bits else (("type", type_text), ("order", order))
    return [NewPoint(f"{_TITLES[question.table]} {at}", question.table, at, cells) for at in sorted(addresses)]


def _has(device: Device, new: NewPoint) -> bool:
    """Whether a device has a point there already: one read in the same way, or any where no way is named."""
    cells = dict(new.cells)
    type_text, order_text = cells.get("type", ""), cells.get("order", "")
    for point in device.points:
        if point.table is not new.table or not point.address <= new.address < point.end:
            continue
        if not type_text or new.table.is_bits:
            return True
        if point.address == new.address and str(point.codec.type) == type_text:
            return not order_text or point.codec.type.registers_each == 1 or str(point.codec.order) == order_text
    return False


def add_unit(context: Context, place: PlaceState | None, unit_id: int, points: list[NewPoint]) -> None:
    """A device for a unit, where the site has none, and points of it."""
    if place is None or place.link is None:
        context.tell("choose a place and a unit first")
        return
    device = device_of(context.snapshot.site, place.link, unit_id)
    if device is not None:
        points = [point for point in points if not _has(device, point)]
        if not points:
            context.tell(f"{device.name} is in the site already, and nothing is new there; 3 shows it live")
            return
    count = f"{len(points)} point{'s' if len(points) != 1 else ''} of unit {unit_id}" if points else f"unit {unit_id}"

    def done(came: Done) -> None:
        context.tell(f"added {count} to {came.site.name}; 3 shows it live, ctrl+z takes it back")

    link = real_link(context.snapshot.site, place.link)
    context.edit(add_device(link, unit_id, name_of(place, unit_id), points), then=done)


def add_all(context: Context, place: FindPlace) -> None:
    """Every unit that was found and that the site does not have, with its points; one edit, taken back by one undo."""
    link, state = place.link, place.state
    if link is None or not any(draft.rows for draft in state.drafts):
        context.tell("nothing was found here yet that could be added: f finds everything")
        return
    site = context.snapshot.site
    known = {draft.unit_id for draft in state.drafts if device_of(site, link, draft.unit_id) is not None}
    drafts = [draft for draft in state.drafts if draft.unit_id not in known]
    if not drafts:
        context.tell("the site has all units that were found already")
        return
    devices = [
        NewDevice(draft.unit_id, name_of(state, draft.unit_id), tuple(points_of_rows(draft.rows)), draft.keys)
        for draft in drafts
    ]
    points = sum(len(device.points) for device in devices)
    count = f"{len(devices)} unit{'s' if len(devices) != 1 else ''} with {points} points"
    stable = stable_name(link.local_port) if link.local_port else ""
    edit = add_devices(real_link(site, link), devices, {"prefer_port": stable} if stable else {})

    def done(came: Done) -> None:
        context.tell(f"added {count} to {came.site.name}; 3 shows them live, ctrl+z takes them back")

    context.edit(edit, then=done)


def draft_unit(context: Context, desk: Desk, place: FindPlace, unit_id: int) -> None:
    """A unit with its points as a search for everything drafted them, or with a point a register: of those that read,
    or of those that were overheard."""
    drafted = next((draft for draft in place.state.drafts if draft.unit_id == unit_id and draft.rows), None)
    points = points_of_rows(drafted.rows) if drafted is not None else points_found(place.state, unit_id)
    if points:
        add_unit(context, place.state, unit_id, points)
        return
    heard = desk.heard_rows(place, unit_id)

    def came() -> None:
        rows = heard.result() if not heard.cancelled() and heard.exception() is None else []
        if rows:
            add_unit(context, place.state, unit_id, points_of_rows(rows))
        else:
            context.tell("nothing is known of its registers yet: e looks for them")

    heard.add_done_callback(lambda _: context.later(came))


def keep_settings(context: Context, place: PlaceState | None, site: Site) -> None:
    """The settings found become those of the site's line."""
    line = line_of(site, place.link) if place is not None and place.link is not None else None
    if place is None or line is None or place.link is None or line.link == place.link:
        context.tell("there are no other settings to keep for a line of this site")
        return
    if line.led_from is not None:
        context.tell(f"{line.name} is led to a stand-in, whose settings are not kept: I in Map leads it back first")
        return
    title = place.settings.found_title if place.settings is not None else ""
    text = f"{line.name} now has {title or 'these settings'}"
    context.edit(set_link(line.name, place.link), then=lambda done: context.tell(text))


def question_for(place: PlaceState | None, unit_id: int, question: ScratchQuestion) -> ScratchQuestion:
    """A scratch reading of a unit, where its registers begin if that is known."""
    survey = place.registers.get(unit_id) if place is not None else None
    for table in survey.tables if survey is not None else ():
        if table.runs:
            first, last = table.runs[0]
            count = min(last - first + 1, table.most, _MOST_SHOWN)
            return replace(question, unit_id=unit_id, table=table.table, address=first, count=count)
    return replace(question, unit_id=unit_id)
