"""Map: devices at the left, the ruler in the middle, the point beside it."""

import asyncio
from collections.abc import Callable
from dataclasses import replace

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.strip import Strip

from kanaleto.polling.plan import Place
from kanaleto.polling.readings import off_by_one, other_readings, verdict
from kanaleto.polling.ruler import RulerRow, ruler
from kanaleto.site.adding import device_of
from kanaleto.site.counting import Numbering, as_references, wire_of_reference
from kanaleto.site.link import Link
from kanaleto.site.maprows import assignments, parse_assignments, parse_new
from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.site.pointedit import (
    add_points,
    cells_of_point,
    change_points,
    copy_point,
    delete_points,
    shares_map,
    take_reading,
)
from kanaleto.site.workspace import CannotEdit
from kanaleto.tui.map.beside import PointBeside, Readings
from kanaleto.tui.map.devices import DeviceList, UnitRow
from kanaleto.tui.map.importing import ImportPane
from kanaleto.tui.map.inandout import InAndOut
from kanaleto.tui.map.ruler import RulerRows
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.prompt import Prompt
from kanaleto.tui.shared.rows import Rows
from kanaleto.values.codec import NoValue
from kanaleto.values.text import shown
from kanaleto.wire.codes import Table

_RANK_EVERY_S = 2.0
_WIDE, _MIDDLING = 130, 92
_COUNTS = {
    Numbering.PROTOCOL: "manual counts from 0",
    Numbering.ONE: "manual counts from 1",
    Numbering.REFERENCE: "manual counts from {}0001",
}


class MapHead(Drawn):
    """Whose registers, and the columns."""

    DEFAULT_CSS = "MapHead { height: 3; }"

    def render_line(self, y: int) -> Strip:
        view, width = self.kanaleto.query_one(MapView), self.size.width
        cells = Cells(self.palette).put("" if y == 2 else " ")
        device = view.device
        if y == 0 and device is not None:
            table = next((point.table for point in device.points), None)
            count = _COUNTS[device.numbering].format(table.reference_digit if table is not None else 4)
            cells.put(device.name, bold=True).put(f"   unit {device.unit_id} · {count}", "muted")
            if device.order is not None:
                cells.put(f" · order {device.order.value}", "muted")
        elif y == 2 and device is not None:
            cells.put("  ").put("wire" if self.kanaleto.counts_as_wire else "manual", "dim", 8, right=True)
            if width >= 60:
                cells.put("wire", "dim", 7, right=True)
            cells.put("  word  point", "dim")
        return cells.strip(width)


class MapFoot(Drawn):
    """What this map costs its line."""

    DEFAULT_CSS = "MapFoot { height: 1; }"

    def render_line(self, y: int) -> Strip:
        view = self.kanaleto.query_one(MapView)
        cells = Cells(self.palette).put(" ")
        if view.device is not None and view.line is not None:
            plan = self.kanaleto.engine.session.plan
            blocks = [block for block in plan.blocks if block.device is view.device and block.period_s > 0]
            own = sum(block.cost_s / block.period_s for block in blocks)
            spent = sum(block.cost_s for block in blocks)
            count = f"{len(blocks)} request{'s' if len(blocks) != 1 else ''}"
            text = f"{count}, {1000 * spent:.1f} ms of line time"
            load = plan.load(view.line)
            cells.put(text, "muted").put(f" · this device {100 * own:.0f} %, ", "muted")
            cells.put(f"{view.line.name} {100 * load:.0f} %", "terracotta" if load > 1 else "ochre" if load > 0.8 else "muted")
        return cells.strip(self.size.width)


class MapView(InAndOut, Drawn, Horizontal):
    BINDINGS = [
        Binding("d", "display", show=False),
        Binding("b", "take_best", show=False),
        Binding("less_than_sign", "candidate(-1)", show=False),
        Binding("greater_than_sign", "candidate(1)", show=False),
        Binding("z", "off_by_one", show=False),
        Binding("a", "add", show=False),
        Binding("c", "change", show=False),
        Binding("C", "copy", show=False),
        Binding("v", "mark", show=False),
        Binding("i", "import", show=False),
        Binding("y", "clipboard", show=False),
        Binding("x", "export", show=False),
        Binding("F", "fit", show=False),
        Binding("delete,backspace", "delete", show=False),
        Binding("enter", "open", show=False),
        Binding("tab,right,l", "panel", show=False),
        Binding("shift+tab,left,h", "panel", show=False),
    ]
    DEFAULT_CSS = """
    MapView { layout: horizontal; }
    #map-left { width: 33; padding: 1 0 0 0; border-right: solid $rules; }
    #map-middle { width: 1fr; padding: 1 0 0 0; }
    MapView.-folded PointBeside { display: none; }
    MapView.-folded.-beside PointBeside { display: block; }
    MapView.-folded.-beside #map-left { display: none; }
    MapView.-narrow #map-left { display: none; }
    MapView.-narrow.-devices #map-left { display: block; }
    MapView.-narrow.-beside #map-middle { display: none; }
    MapView.-narrow.-beside PointBeside { width: 1fr; }
    MapView.-importing RulerRows, MapView.-importing MapHead, MapView.-importing MapFoot { display: none; }
    MapView.-importing PointBeside { display: none; }
    MapView.-importing ImportPane { display: block; }
    """

    def __init__(self, **arguments: object) -> None:
        super().__init__(**arguments)  # type: ignore[arg-type]
        self.device: Device | None = None
        self.line: Line | None = None
        self._version = -1
        self._ranked_s = 0.0
        self._is_ranking = False
        self._is_open = False
        self.wanted: tuple[Link, int] | None = None

    def compose(self) -> ComposeResult:
        with Vertical(id="map-left"):
            yield DeviceList()
        with Vertical(id="map-middle"):
            yield MapHead()
            yield RulerRows()
            yield ImportPane()
            yield Filter()
            yield MapFoot()
        yield PointBeside()

    def on_mount(self) -> None:
        self._list, self.ruler_rows, self._beside = (self.query_one(DeviceList), self.query_one(RulerRows), self.query_one(PointBeside))
        self._filter = self.query_one(Filter)
        self._list.empty_text = "no devices yet: 1 finds them"
        self._follow()

    # What is shown

    def _follow(self) -> None:
        """The plan has changed, or another device is looked at."""
        session = self.kanaleto.engine.session
        self._version = session.version
        wanted = device_of(session.site, *self.wanted) if self.wanted is not None else None
        if wanted is not None:
            self.device, self.wanted = wanted, None
            if self.screen.focused is self._list:  # there were no registers yet to focus
                self.call_after_refresh(self._focus_new)
        self._list.fill(session.site.lines)
        row = self._list.current
        name = self.device.name if self.device is not None else row.device.name if isinstance(row, UnitRow) else ""
        found = next(((line, device) for line, device in session.site.devices() if device.name == name), None)
        if found is None and isinstance(row, UnitRow):
            found = row.line, row.device
        self.line, self.device = found if found is not None else (None, None)
        self._fill()

    def _focus_new(self) -> None:
        if self.screen.focused is self._list:
            self.focus_rows()

    def _fill(self) -> None:
        before = self.place
        rows = ruler(self.kanaleto.engine.session.plan, self.device) if self.device is not None else []
        if self._filter.words:
            rows = [
                row for row in rows if isinstance(row, RulerRow) and row.place is not None and self._filter.matches(row.place.point.name)
            ]
        self.ruler_rows.device = self.device
        self.ruler_rows.empty_text = (
            "no point matches the filter" if self._filter.words else "no points yet: a adds one, i imports a table" if self.device else ""
        )
        self.ruler_rows.set_rows(rows)
        if before is not None:
            self._go_to(before.point.name)

    def _go_to(self, name: str) -> None:
        for index, row in enumerate(self.ruler_rows.rows):
            if isinstance(row, RulerRow) and row.place is not None and row.place.point.name == name:
                self.ruler_rows.place_cursor(index)
                return

    @property
    def place(self) -> Place | None:
        """The point that the cursor is on."""
        row = self.ruler_rows.current
        return row.place if isinstance(row, RulerRow) else None

    def tick(self) -> None:
        if self._version != self.kanaleto.engine.session.version:
            self._follow()
        width = self.size.width
        self.set_class(width < _WIDE, "-folded")
        self.set_class(width < _MIDDLING, "-narrow")
        self.set_class(self._is_open, "-beside")
        self.set_class(self._list.has_focus, "-devices")
        self._beside.place = self.place
        self._rank_again()
        for widget in (self._list, self.ruler_rows, self._beside, self.query_one(MapHead), self.query_one(MapFoot)):
            widget.refresh()

    def _rank_again(self) -> None:
        """Other readings, on a thread, now and then."""
        place, readings = self.place, self._beside.readings
        now = self.kanaleto.moment.now_s
        is_new = not _is_same(readings.place, place)
        if place is None or self._is_ranking or (not is_new and now - self._ranked_s < _RANK_EVERY_S):
            return
        display = readings.display if not is_new else ""
        if is_new:
            self._beside.neighbours, self._beside.chosen = [], 0
        self._ranked_s, self._is_ranking = now, True
        self.run_worker(lambda: self._rank(place, display), thread=True, exclusive=True, group="rank")

    def _rank(self, place: Place, display: str) -> None:
        beside = [
            other.codec for other in place.device.points if other is not place.point and abs(other.address - place.point.address) < 10
        ]
        try:
            found = other_readings(self.kanaleto.engine.session.board, place, display, beside)
        except ValueError as error:
            self.app.call_from_thread(self.kanaleto.tell, str(error))
            found, display = [], ""
        told = verdict(found, display) if display and found else ""
        self.app.call_from_thread(self._take_readings, Readings(place, display, found, told))

    def _take_readings(self, readings: Readings) -> None:
        self._is_ranking = False
        if self.place is not None and _is_same(readings.place, self.place):
            self._beside.readings = replace(readings, place=self.place)
            self._beside.refresh()

    def focus_rows(self) -> None:
        if self.has_class("-importing"):
            self.query_one(ImportPane).focus_rows()
        else:
            self.screen.set_focus(self.ruler_rows if self.ruler_rows.rows else self._list)

    def keys_here(self) -> list[tuple[str, str]]:
        if self.has_class("-importing"):
            return self.query_one(ImportPane).keys_here()
        if self._list.has_focus:
            return [("enter", "its registers"), ("a", "add point"), ("i", "import map")]
        return [
            ("d", "what the display says"), ("b", "take reading"), ("< >", "choose it"), ("z", "off by one?"), ("a", "add"),
            ("c", "change"),
            ("v", "mark"), ("i", "import map"), ("/", "filter"),
        ]  # fmt: skip

    def open_filter(self) -> None:
        self._filter.open()

    def on_input_changed(self) -> None:
        self._fill()

    def on_filter_left(self, event: Filter.Left) -> None:
        self._filter.display = bool(self._filter.value)
        self._fill()
        self.focus_rows()

    def back(self) -> None:
        if self.has_class("-importing"):
            self.end_import()
        elif self._is_open:
            self._is_open = False
        elif self.ruler_rows.marked:
            self.ruler_rows.marked.clear()
        elif self._filter.value:
            self._filter.clear_filter()
            self._fill()
        self.focus_rows()
        self.tick()

    def on_rows_moved(self, event: Rows.Moved) -> None:
        row = self._list.current
        if self._list.has_focus and isinstance(row, UnitRow) and row.device is not self.device:
            self.ruler_rows.marked.clear()
            self.line, self.device = row.line, row.device
            self.ruler_rows.cursor = 0
            self._fill()
        self.tick()

    def action_panel(self) -> None:
        self.screen.set_focus(self.ruler_rows if self._list.has_focus else self._list)
        self.tick()

    def action_open(self) -> None:
        if self._list.has_focus:
            self.focus_rows()
        else:
            self._is_open = not self._is_open
        self.tick()

    # Readings

    def action_display(self) -> None:
        place = self.place
        if place is None:
            self.kanaleto.tell("put the cursor on a point first")
            return
        self._is_open = True
        self.kanaleto.query_one(Prompt).ask(f"the display for {place.point.name} says", "", self._take_display)

    def _take_display(self, text: str) -> None:
        place = self.place
        if place is not None and text.strip():
            self._beside.readings = Readings(place, text.strip())
            self._beside.chosen = 0
            self._is_ranking = True
            self.run_worker(lambda: self._rank(place, text.strip()), thread=True, exclusive=True, group="rank")
        self.tick()

    def action_candidate(self, step: int) -> None:
        count = len(self._beside.readings.found)
        if count:
            self._beside.chosen = (self._beside.chosen + step) % min(count, 9)
            self._beside.refresh()

    def action_take_best(self) -> None:
        place, readings = self.place, self._beside.readings
        if place is None or not readings.found or readings.place is None:
            self.kanaleto.tell("no other readings are known yet")
            return
        step, candidate = readings.found[self._beside.chosen]
        self.edit(lambda: take_reading(self.kanaleto.holder.workspace(), place.device, place.point, step, candidate))

    def action_off_by_one(self) -> None:
        place = self.place
        if place is None or place.point.table.is_bits:
            self.kanaleto.tell("put the cursor on a point in a register first")
            return
        self._is_open = True
        self.run_worker(self._compare(place), exclusive=True, group="compare")

    async def _compare(self, place: Place) -> None:
        """What was read along is taken from there; the rest is asked once, unless it must never be touched."""
        point, session = place.point, self.kanaleto.engine.session
        known = dict(off_by_one(session.board, place))
        rows = []
        for step in (-1, 0, 1):
            data = known.get(step)
            why = "not read"
            if data is None:
                data, why = await asyncio.wrap_future(self.kanaleto.engine.run(session.read_once(place, step)))
            if data is None:
                rows.append((step, why))
                continue
            value = point.codec.decode(data)
            told = value.reason if isinstance(value, NoValue) else f"{shown(value, point.codec, point.decimals, point.labels)} {point.unit}"
            rows.append((step, f"{data.hex(' ', 2).upper():<20} {told}"))
        self._beside.neighbours = rows
        self._beside.refresh()

    # Editing

    def edit(self, change: Callable[[], Site]) -> None:
        """On a thread: a map of thousands of points takes a while to be read again."""
        self.run_worker(lambda: self._change(change), thread=True, exclusive=False, group="edit")

    def _change(self, change: Callable[[], Site]) -> None:
        try:
            site = change()
        except (CannotEdit, ValueError, OSError) as error:
            self.app.call_from_thread(self.kanaleto.tell, str(error))
            return
        self.app.call_from_thread(self._changed, site)

    def _changed(self, site: Site) -> None:
        others = shares_map(site, self.device) if self.device is not None else []
        self.kanaleto.take_site(site)
        what = self.kanaleto.holder.workspace().steps[-1].what
        more = f"; {', '.join(others[:2])} {'shares' if len(others) == 1 else 'share'} this map" if others else ""
        self.kanaleto.tell(f"{what}{more}; ctrl+z takes it back")

    def _points(self) -> list[Point]:
        """Those that are marked, or the one that the cursor is on."""
        if self.device is None:
            return []
        if self.ruler_rows.marked:
            return [point for point in self.device.points if point.name in self.ruler_rows.marked]
        return [self.place.point] if self.place is not None else []

    def action_mark(self) -> None:
        if self.place is not None:
            self.ruler_rows.marked ^= {self.place.point.name}
            self.ruler_rows.action_move(1)

    def action_add(self) -> None:
        device = self.device
        if device is None:
            self.kanaleto.tell("find or add a device first (1)")
            return
        prompt = f"new for {device.name}: name, address, type (a run: Cell {{1..24}}, 40201, float32)"
        self.kanaleto.query_one(Prompt).ask(prompt, "", lambda text: self._add_rows(device, text))

    def _add_rows(self, device: Device, text: str) -> None:
        """An address that fits two countings is asked about, not guessed."""
        try:
            rows = parse_new(text)
        except ValueError as error:
            self.kanaleto.tell(str(error))
            return
        workspace = self.kanaleto.holder.workspace()
        wire = wire_of_reference(rows[0]["address"], Table(rows[0]["table"]), device.numbering)
        if wire is None:
            self.edit(lambda: add_points(workspace, device, rows))
            return

        def answer(said: str) -> None:
            if said.strip().lower() in ("r", "a"):
                chosen = as_references(rows, device.numbering) if said.strip().lower() == "r" else rows
                self.edit(lambda: add_points(workspace, device, chosen))
            else:
                self.kanaleto.tell("not added: r or a says which it is")

        asked = f"{rows[0]['address']} fits two countings: r for the reference (wire {wire}), a for the address as this map counts"
        self.kanaleto.query_one(Prompt).ask(asked, "", answer)

    def action_change(self) -> None:
        device, points = self.device, self._points()
        if device is None or not points:
            self.kanaleto.tell("put the cursor on a point first")
            return
        workspace = self.kanaleto.holder.workspace()
        try:
            start = assignments(cells_of_point(workspace, device, points[0])) if len(points) == 1 else ""
        except CannotEdit as error:
            self.kanaleto.tell(str(error))
            return
        what = points[0].name if len(points) == 1 else f"all {len(points)} marked"

        def change(text: str) -> None:
            self.edit(lambda: change_points(workspace, device, points, parse_assignments(text)))

        self.kanaleto.query_one(Prompt).ask(f"change {what}", start, change)

    def action_copy(self) -> None:
        device, place = self.device, self.place
        if device is not None and place is not None:
            self.edit(lambda: copy_point(self.kanaleto.holder.workspace(), device, place.point))

    def action_delete(self) -> None:
        device, points = self.device, self._points()
        if device is not None and points:
            self.edit(lambda: delete_points(self.kanaleto.holder.workspace(), device, points))
            self.ruler_rows.marked.clear()


def _is_same(one: Place | None, other: Place | None) -> bool:
    """The same point, maybe of another plan."""
    if one is None or other is None:
        return False
    return (one.device.name, one.point.name, one.point.address) == (other.device.name, other.point.name, other.point.address)
