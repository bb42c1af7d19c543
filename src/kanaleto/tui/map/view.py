"""Map: devices at the left, the ruler in the middle, the point beside it."""

from collections.abc import Iterator, Sequence
from concurrent.futures import Future

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical

from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.adding import device_of
from kanaleto.editing.news import Done
from kanaleto.editing.pointedit import copy_point, delete_points, take_reading
from kanaleto.editing.workingcopy import Edit
from kanaleto.planning.plan import Identity, Place
from kanaleto.planning.ruler import Row, Ruler, RulerRow
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device, Line, Point
from kanaleto.tui.map import prompts
from kanaleto.tui.map.actions import ACTIONS, MORE_KEYS
from kanaleto.tui.map.anothermap import AnotherMapPane
from kanaleto.tui.map.around import MapFoot, MapHead
from kanaleto.tui.map.beside import PointBeside, Ranked
from kanaleto.tui.map.devices import DeviceList, LineRow, UnitRow
from kanaleto.tui.map.export import rows_as_text
from kanaleto.tui.map.importing import ImportPane
from kanaleto.tui.map.ranking import Ranker, key_of, neighbours
from kanaleto.tui.map.ruler import RulerRows
from kanaleto.tui.map.settings import DeviceBeside, ask_copy, ask_delete, ask_new_device, ask_settings
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.view import View
from kanaleto.tui.write.points import ask_writable, write_points
from kanaleto.values.candidates import PRESENT

_WIDE, _MIDDLING = 130, 92
_NOTHING = (
    "Map shows a device's registers: which word is which point, how it is read, and what else it could be.\n"
    "no devices yet: 1 finds them, a adds one by its unit ID"
)


class MapView(View, Horizontal):
    digit, title, about = "2", "Map", "go to a device's registers"
    actions, more_keys = ACTIONS, MORE_KEYS
    BINDINGS = [
        Binding("tab,right,l", "panel", show=False),
        Binding("shift+tab,left,h", "panel", show=False),
    ]

    def __init__(self, **arguments: object) -> None:
        super().__init__(**arguments)  # type: ignore[arg-type]
        self._device_name = ""  # whose registers are looked at
        self._version = -1
        self._ruler: Ruler | None = None
        self._is_open = False
        self._compared: tuple[Identity, Point] | None = None  # whose neighbours are asked for, as it was read then
        self._wanted: tuple[Link, int] | None = None
        self._wanted_point: Identity | None = None  # where the cursor goes once it is there

    def compose(self) -> ComposeResult:
        with Vertical(id="map-left"):
            yield DeviceList()
        with Vertical(id="map-middle"):
            yield MapHead()
            yield RulerRows()
            yield ImportPane(self.show_import, self.end_import)
            yield AnotherMapPane(self.show_other, self.end_import)
            yield Filter(self._leave_filter)
            yield MapFoot()
        yield PointBeside()
        yield DeviceBeside()

    def on_mount(self) -> None:
        one = self.query_one
        self._list, self.ruler_rows, self._beside = one(DeviceList), one(RulerRows), one(PointBeside)
        self._filter, self._head, self._foot = one(Filter), one(MapHead), one(MapFoot)
        self.importing, self._settings = one(ImportPane), one(DeviceBeside)
        self.over: ImportPane | AnotherMapPane = self.importing
        """What stands instead of the ruler."""
        self._ranker = Ranker(self.context.later, self._take_ranked)
        self._list.empty_text = "no devices yet: 1 finds them"
        self._list.when_moved = self.ruler_rows.when_moved = self._moved

    # What is shown

    @property
    def device(self) -> Device | None:
        part = self.snapshot.plan.part_of(self._device_name)
        return part.device if part is not None else None

    @property
    def line(self) -> Line | None:
        lines = self.snapshot.site.lines
        return next((line for line in lines for device in line.devices if device.name == self._device_name), None)

    @property
    def place(self) -> Place | None:
        """The point that the cursor is on."""
        row = self.ruler_rows.current
        return row.place if isinstance(row, RulerRow) else None

    def about_here(self) -> Iterator[tuple[str, str]]:
        place = self.place
        if place is not None:
            yield place.identity
        elif self._device_name:
            yield self._device_name, ""

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        if self._version != snapshot.version:
            self._version = snapshot.version
            self._follow()
        width = self.size.width
        self.set_class(width < _WIDE, "-folded")
        self.set_class(width < _MIDDLING, "-narrow")
        self.set_class(self._is_open, "-beside")
        self.set_class(self._list.has_keys, "-devices")
        self._settings.device, self._settings.line = self.device, self.line
        self.set_class(self._list.has_keys and width >= _WIDE, "-settings")
        self._beside.place = self.place
        if self.place is not None and self._beside.ranked.key != key_of(self.place):
            self._beside.chosen = 0
        self._keep_compared()
        self._ranker.look(snapshot, self.place, self._beside.ranked)
        for widget in (self._list, self.ruler_rows, self._beside, self._settings, self._head, self._foot):
            widget.redraw()

    def want(self, link: Link, unit_id: int) -> None:
        self._wanted = (link, unit_id)
        self._version = -1

    def _follow(self) -> None:
        """The plan has changed, or another device is looked at."""
        site = self.snapshot.site
        wanted = device_of(site, *self._wanted) if self._wanted is not None else None
        if wanted is not None:
            self._device_name, self._wanted = wanted.name, None
            if self.screen.focused is self._list:  # there were no registers yet to focus
                self.call_after_refresh(self._focus_new)
        self._list.fill(site.lines)
        if self.device is None:
            row = self._list.current
            self._device_name = row.device.name if isinstance(row, UnitRow) else ""
        self._drop_gone()
        self._fill()

    def _drop_gone(self) -> None:
        """Marks of points that are no more."""
        names = {point.name for point in self.device.points} if self.device is not None else set()
        gone = self.ruler_rows.marked - names
        if gone:
            self.ruler_rows.marked &= names
            first = min(gone)
            self.context.tell(
                f"{first}{f' and {len(gone) - 1} more' if len(gone) > 1 else ''} is no more, and not marked any longer"
            )

    def _focus_new(self) -> None:
        if self.screen.focused is self._list:
            self.focus_rows()

    def _fill(self) -> None:
        device = self.device
        rows: Sequence[Row] = ()
        part = self.snapshot.plan.part_of(device.name) if device is not None else None
        if part is not None:
            rows = self._ruler = whole = Ruler(part, self._ruler)
            matches = self._filter.narrows
            if matches is not None:
                rows = whole.rows_of(place for place in part.places if matches(place.point.name))
        self.ruler_rows.device = self._head.device = self._foot.device = device
        self._head.line = self._foot.line = self.line
        none = "no points yet: a adds one, i imports a table" if device else _NOTHING
        self.ruler_rows.empty_text = self._filter.text or none
        self.ruler_rows.set_rows(rows)
        at = self.ruler_rows.find((self._wanted_point, 0)) if self._wanted_point is not None else None
        if at is not None:
            self._wanted_point = None
            self.ruler_rows.place_cursor(at)
            self.call_after_refresh(self._focus_new)

    def _go_to(self, identity: Identity) -> None:
        """The cursor goes to a point that an edit has made."""
        self._wanted_point = identity
        self._fill()

    def _take_ranked(self, ranked: Ranked, wrong: str) -> None:
        if wrong:
            self.context.tell(wrong)
        shown = self._beside.ranked
        is_old = ranked.key == shown.key and ranked.display != shown.display and not wrong  # begun before the display
        if self.place is not None and ranked.key == key_of(self.place) and not is_old:
            self._beside.take(ranked)

    def focus_rows(self) -> None:
        if self.has_class("-importing"):
            self.over.focus_rows()
        else:
            self.screen.set_focus(self.ruler_rows if self.ruler_rows.rows else self._list)

    def keys_here(self) -> list[Key]:
        if self.has_class("-importing"):
            return self.over.keys_here()
        if self._list.has_keys:
            verbs = {"change": "settings", "copy": "copy device", "delete": "delete device", "add": "add device"}
            return [("enter", "its registers"), *self.keys_of("change", "copy", "delete", "add", "import", **verbs)]
        chosen = [("d", "what the display says"), ("b", "take reading"), ("< >", "choose it")]
        return [*chosen, *self.keys_of("off_by_one", "add", "change", "mark", "import"), ("/", "filter")]

    def open_filter(self) -> None:
        self._filter.open()

    def on_input_changed(self) -> None:
        self._fill()

    def _leave_filter(self) -> None:
        self._fill()
        self.focus_rows()

    def back(self) -> None:
        if self.has_class("-importing"):
            self.end_import()
        elif self.ruler_rows.marked:
            self.ruler_rows.marked.clear()
        elif self._is_open:
            self._is_open = False
        elif self._filter.value:
            self._filter.clear_filter()
            self._fill()
        self.focus_rows()
        self.context.redraw()

    def _moved(self) -> None:
        row = self._list.current
        if self._list.has_keys and isinstance(row, UnitRow) and row.device.name != self._device_name:
            self.ruler_rows.marked.clear()
            self._device_name = row.device.name
            self.ruler_rows.cursor = 0
            self._fill()
        self.context.redraw()

    def action_panel(self) -> None:
        self.screen.set_focus(self.ruler_rows if self._list.has_keys else self._list)
        self.context.redraw()

    def action_open(self) -> None:
        if self._list.has_keys:
            self.screen.set_focus(self.ruler_rows if self.device is not None else self._list)
        else:
            self._is_open = not self._is_open
        self.context.redraw()

    # Readings

    def action_display(self) -> None:
        place = self.place
        if place is None:
            self.context.tell("put the cursor on a point first")
            return
        self._is_open = True
        ranked = self._beside.ranked
        prompts.ask_display(
            self.context, place, ranked.display if ranked.key == key_of(place) else "", self._take_display
        )

    def _take_display(self, place: Place, text: str) -> None:
        self._beside.ranked = Ranked(key_of(place), text)
        self._beside.chosen = 0
        self._ranker.begin(self.snapshot, place, text)
        self.context.redraw()

    def action_candidate(self, step: int) -> None:
        count = len(self._beside.ranked.found)
        if count:
            self._beside.chosen = (self._beside.chosen + step) % min(count, 9)
            self._beside.refresh()

    def action_take_best(self) -> None:
        place, ranked = self.place, self._beside.ranked
        if place is None or not ranked.found or ranked.key != key_of(place):
            self.context.tell("no other readings are known yet")
            return
        step, candidate = ranked.found[min(self._beside.chosen, len(ranked.found) - 1)]
        device, point = place.device, place.point
        if candidate.text == PRESENT:
            self.context.tell(f"{point.name} is read as {candidate.title} already: < and > choose another")
            return
        seen = prompts.seen_rows(self.context, device, [point.name])
        self._edit(device.name, take_reading(device.name, point, step, candidate, seen))

    def action_off_by_one(self) -> None:
        place = self.place
        if place is None or place.point.table.is_bits:
            self.context.tell("put the cursor on a point in a register first")
            return
        self._is_open = True
        self._begin_comparing(place)

    def action_move_point(self) -> None:
        if self.place is not None:
            prompts.ask_move(self.context, self.place)

    def _begin_comparing(self, place: Place) -> None:
        self._compared = place.identity, place.point
        self.run_worker(self._compare(self.snapshot, place), exclusive=True, group="compare")

    def _keep_compared(self) -> None:
        """Neighbours go with their point; they are asked for again once it is read in another way."""
        if self.place is None or self._compared is None:
            return
        identity, point = self._compared
        if self.place.identity != identity:
            self._beside.neighbours, self._compared = [], None
        elif self.place.point != point:
            self._begin_comparing(self.place)

    async def _compare(self, snapshot: Snapshot, place: Place) -> None:
        rows = await neighbours(self.context.engine, snapshot, place)
        if self._compared == (place.identity, place.point):
            self._beside.neighbours = rows
            self._beside.neighbours_s = self.context.engine.session.clock.now()
            self._beside.refresh()

    # Editing

    def _edit(self, device_name: str, edit: Edit) -> "Future[Done]":
        return self.context.edit(edit, then=lambda came: prompts.tell_with_sharers(self.context, device_name, came))

    def _points(self) -> list[Point]:
        """Those that are marked, or the one that the cursor is on."""
        device = self.device
        if device is None:
            return []
        if self.ruler_rows.marked:
            return [point for point in device.points if point.name in self.ruler_rows.marked]
        return [self.place.point] if self.place is not None else []

    def action_mark(self) -> None:
        if self.place is not None and not self._list.has_keys:
            self.ruler_rows.marked ^= {self.place.point.name}
            self.ruler_rows.action_move(1)

    def action_add(self) -> None:
        device = self.device
        if self._list.has_keys or device is None:
            self.action_add_device()
        else:
            prompts.ask_new(self.context, device, self._go_to)

    def action_add_device(self) -> None:
        row, lines = self._list.current, self.snapshot.site.lines
        name = row.line.name if isinstance(row, UnitRow | LineRow) else ""
        line = next((line for line in lines if line.name == name), self.line or next(iter(lines), None))
        if line is None:
            self.context.tell("there is no line yet: type its link in Find (1)")
        else:
            ask_new_device(self.context, line, self.device, lambda unit: self.want(line.link, unit))

    def action_change(self) -> None:
        if self._list.has_keys and self.device is not None:
            ask_settings(self.context, self.device)
            return
        device, names = self.device, [point.name for point in self._points()]
        if device is None or not names:
            self.context.tell("put the cursor on a point first")
        else:
            prompts.ask_change(self.context, device, names)

    def action_fit(self) -> None:
        """A scale through pairs of raw numbers and what the display shows."""
        place = self.place
        if place is None or place.point.table.is_bits or not place.point.codec.type.takes_scale:
            self.context.tell("put the cursor on a point that takes a scale first")
        else:
            prompts.ask_scale(self.context, place, self.snapshot.reading(place))

    def action_copy(self) -> None:
        place = self.place
        if self._list.has_keys and self.device is not None:
            ask_copy(self.context, self.device)
        elif place is not None:
            self._edit(place.device.name, copy_point(place.device.name, place.point.name))

    def action_delete(self) -> None:
        device, names = self.device, [point.name for point in self._points()]
        if self._list.has_keys and device is not None:
            ask_delete(self.context, device)
        elif device is not None and names:
            edit = delete_points(device.name, names, prompts.seen_rows(self.context, device, names))
            if len(names) == 1:
                self._edit(device.name, edit)
            else:
                prompts.ask_sure(
                    self.context, f"delete all {len(names)} marked of {device.name}", lambda: self._deleted(edit)
                )

    def _deleted(self, edit: Edit) -> "Future[Done]":
        self.ruler_rows.marked.clear()
        return self._edit(self._device_name, edit)

    # What goes into a map, and out of it

    def action_write(self) -> None:
        device = self.device
        marked = [(device.name, point.name) for point in device.points] if device is not None else []
        write_points(self.context, [one for one in marked if one[1] in self.ruler_rows.marked], self.place)

    def action_writable(self) -> None:
        device = self.device
        marked = [(device.name, point.name) for point in device.points] if device is not None else []
        ask_writable(self.context, [one for one in marked if one[1] in self.ruler_rows.marked], self.place)

    def action_import(self) -> None:
        device, line = self.device, self.line
        if line is None or device is None:
            self.context.tell("find or add a device first (1); there i imports a map for the unit in the fields")
        else:
            self.ask_import(line.link, device.unit_id)

    def ask_import(self, link: Link, unit_id: int) -> None:
        """Ask for a file, and show how its columns are understood."""
        self.importing.ask(link, unit_id)

    def action_another_map(self) -> None:
        if self.device is None or not self.device.points:
            self.context.tell("a device without points has nothing to be found again: import a map (i)")
        else:
            self.query_one(AnotherMapPane).ask(self.device)

    def show_other(self) -> None:
        self._show(self.query_one(AnotherMapPane))

    def show_import(self) -> None:
        self._show(self.importing)

    def _show(self, pane: "ImportPane | AnotherMapPane") -> None:
        """Instead of the ruler."""
        self.over.display, self.over, pane.display = False, pane, True
        self.add_class("-importing")
        self.focus_rows()
        self.context.redraw()

    def end_import(self) -> None:
        self.over.display = False
        self.remove_class("-importing")
        self.focus_rows()
        self.context.redraw()

    def show_device(self, link: Link, unit_id: int) -> None:
        """Look at that one, as soon as it is there."""
        self.want(link, unit_id)
        self.end_import()

    def take_paste(self, text: str) -> bool:
        """A table from the clipboard."""
        if self.line is None or self.device is None:
            return False
        self.importing.take_pasted(text, self.line.link, self.device)
        return True

    def action_clipboard(self) -> None:
        text = rows_as_text(self.snapshot, self.ruler_rows.places, self.ruler_rows.marked)
        self.app.copy_to_clipboard(text)
        self.context.tell(f"{text.count(chr(10)) - 1} rows copied to the clipboard, with words and values")

    def action_stand_in(self) -> None:
        if self.line is None or self.device is None:
            self.context.tell("there is no device here that could stand in")
        else:
            self.context.bench.turn(self.line, [self.device.name])

    def action_instead(self) -> None:
        if self.line is None or self.device is None:
            self.context.tell("there is no line here that could be led elsewhere")
        else:
            self.context.bench.turn_instead(self.line)

    def action_export(self) -> None:
        device, line = self.device, self.line
        if device is None or line is None:
            self.context.tell("there is no device to export")
        else:
            prompts.ask_export(self.context, device, line)
