"""A device as such: its settings with where each comes from, and what can be done to it."""

from collections.abc import Callable
from concurrent.futures import Future

from kanaleto.editing.adding import add_device, device_of
from kanaleto.editing.deviceedit import (
    SETTING_WORDS,
    SETTINGS,
    change_device,
    copy_device,
    delete_device,
    free_unit,
    loss_of,
    parse_settings,
    settings_text,
    shown_setting,
)
from kanaleto.editing.news import Done
from kanaleto.files.devicetext import Said
from kanaleto.site.counting import Numbering
from kanaleto.site.leading import real_link
from kanaleto.site.model import DEMAND, Device, Line
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.pane import Panel, Row
from kanaleto.tui.shared.sure import WantedTwice
from kanaleto.tui.shared.words import wrapped
from kanaleto.wire.codes import Table

_WIDTH = 40


def _used(device: Device, line: Line) -> dict[str, object]:
    """What the device is polled with now."""
    limits = device.limits
    return {
        "numbering": device.numbering.value if isinstance(device.numbering, Numbering) else "the maker's own",
        "order": device.order.value if device.order is not None else "ABCD",
        "period_s": "demand" if device.period_s == DEMAND else device.period_s,
        "timeout_s": device.timeout_s,
        "retries": device.retries,
        "max_registers": limits.max_registers,
        "max_bits": limits.max_bits,
        "max_gap": limits.max_gap,
    }


class DeviceBeside(Panel):
    """Shown while the list of devices has the keys."""

    DEFAULT_CSS = "DeviceBeside { width: 46; height: 100%; background: $panel; display: none; }"

    def __init__(self) -> None:
        super().__init__()
        self.device: Device | None = None
        self.line: Line | None = None

    def text_rows(self) -> list[Row]:
        device, line = self.device, self.line
        if device is None or line is None:
            return []
        said = self.context.door.said_of(device.name)
        rows: list[Row] = [
            [(device.name, "ink!")],
            [(f"unit {device.unit_id} on {line.name}", "muted")],
            [],
            [("SETTINGS", "muted!"), ("  c changes them", "dim")],
        ]
        used, learned = _used(device, line), self._learned(device)
        said_values = {
            key: shown_setting(said.device[key]) for key in SETTINGS if said is not None and key in said.device
        }
        for key in SETTINGS:
            if key in ("name", "unit_id", "line", "note") or (key not in used and key not in said_values):
                continue
            source = said.source(key) if said is not None else "default"
            where = {"own": ", its own", "line": f" from {line.name}", "site": " from the site", "default": ""}[source]
            value = said_values.get(key) or shown_setting(used[key])
            tone = "ink" if source != "default" else "muted"
            now = used.get(key)
            if key in learned and isinstance(now, int) and learned[key] < now:
                value, tone, where = str(learned[key]), "ochre", " learned: it refuses more"
            rows.append([(f"{key:<21}", "muted"), (value, tone), (where, "dim")])
        count = f"{len(device.points)}" + (f" of {device.max_points}" if device.max_points is not None else "")
        is_over = device.max_points is not None and len(device.points) > device.max_points
        rows += [[], [(f"{'points':<22}", "muted"), (count, "terracotta" if is_over else "ink")]]
        if device.note:
            rows += [[], *([(part, "ink")] for part in wrapped(device.note, _WIDTH))]
        rows += [[], [("C", "ochre!"), (" copy it   ", "muted"), ("delete", "ochre!"), (" take it away", "muted")]]
        return rows

    def _learned(self, device: Device) -> dict[str, int]:
        """Limits that it showed by refusing more than so many."""
        part = self.context.snapshot.plan.part_of(device.name)
        if part is None:
            return {}
        return {
            "max_registers": min(part.basis.most_of(table) for table in (Table.HOLDING, Table.INPUT)),
            "max_bits": min(part.basis.most_of(table) for table in (Table.COIL, Table.DISCRETE)),
        }


def ask_settings(context: Context, device: Device) -> None:
    """Its settings, added to: what is not named stays as it is."""
    said, opened, name = context.door.said_of(device.name), context.door.opened, device.name
    if said is None:
        context.tell(f"{name} does not stand in the site file as it was read last; try again")
        return
    seen: Said = said

    def take(text: str) -> "Future[Done] | str | None":
        try:
            changes = parse_settings(text, seen)
        except ValueError as error:
            return str(error)
        if not changes:
            context.tell("nothing was changed")
            return None
        now = next((device for _, device in context.snapshot.site.devices() if device.name == name), device)
        loss = loss_of(changes, name, len(now.points))  # the map may have been edited since
        return twice.answer(text, loss) or context.edit(change_device(name, changes, seen), opened)

    twice = WantedTwice()
    context.ask(f"settings of {name}", settings_text(seen), take, is_added_to=True, listed=SETTING_WORDS)
    context.tell("add what changes: period_s=0.5; max_gap= takes it away; the rest stays; ? lists all settings")


def ask_new_device(context: Context, line: Line, like: Device | None, then: Callable[[int], None]) -> None:
    """A device for a unit ID that is known; its map counts addresses as that of `like`."""
    opened, link = context.door.opened, line.link
    taken = {device.unit_id for device in line.devices}
    free = next((unit for unit in range(1, 248) if unit not in taken), 1)

    def take(text: str) -> "Future[Done] | str":
        number, _, called = (part.strip() for part in text.partition(","))
        if not (number.isascii() and number.isdecimal() and int(number[:6]) <= 255):
            return "type the unit ID of the device, and behind a comma its name"
        unit, now = int(number), device_of(context.snapshot.site, link, int(number))
        if now is not None:
            return f"unit {unit} of {line.name} is {now.name} already"
        if link.is_serial and not 1 <= unit <= 247:
            return "units on a serial line are 1…247"
        numbering = like.numbering if like is not None else Numbering.PROTOCOL

        def came(done: Done) -> None:
            then(unit)
            context.tell(f"{done.what}: a adds its points, i imports a table; ctrl+z takes it back")

        return context.edit(
            add_device(real_link(context.snapshot.site, link), unit, called, (), numbering), opened, came
        )

    context.ask(f"a device more on {line.name}: unit ID, name", str(free), take)


def ask_copy(context: Context, device: Device) -> None:
    """Another unit of the same kind."""
    opened, name = context.door.opened, device.name

    def take(text: str) -> "Future[Done] | str":
        unit, _, called = (part.strip() for part in text.partition(","))
        if not (unit.isascii() and unit.isdecimal() and int(unit[:6]) <= 255):
            return "type the unit ID of the copy, and behind a comma its name"
        return context.edit(copy_device(name, int(unit), called), opened)

    context.ask(f"copy {name}, with its map: unit ID, name", f"{free_unit(context.snapshot.site, name)}", take)


def ask_delete(context: Context, device: Device) -> None:
    """Taken away only when that is meant."""
    opened, name = context.door.opened, device.name
    seen = context.door.said_of(name)
    count = len(device.points)

    def take(text: str) -> "Future[Done] | None":
        if text.strip().lower() not in ("y", "yes"):
            context.tell(f"{name} was left")
            return None
        return context.edit(delete_device(name, seen), opened)

    points = f"its {count} points" if count != 1 else "its point"
    context.ask(f"take {name} and {points} out of the site? Its map file stays; y does, anything else not", "", take)
