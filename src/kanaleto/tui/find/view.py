"""Find: where to look at the left, what is under way and the scratch reading in the middle, what was found at the right."""

from dataclasses import replace
from pathlib import Path

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.strip import Strip

from kanaleto.site.adding import line_of
from kanaleto.site.link import SerialLink
from kanaleto.survey.desk import Desk, Place, parse_place
from kanaleto.survey.ports import PortInfo, describe_port, list_serial_ports
from kanaleto.survey.scratch import Question
from kanaleto.tui.find.drawn import Field, FoundHead
from kanaleto.tui.find.field import rows_of
from kanaleto.tui.find.findings import Finding, FoundRows, findings_of
from kanaleto.tui.find.keeping import Keeping
from kanaleto.tui.find.places import HeadRow, PlaceRow, PlaceRows, PlacesRow, SiteRow, rows_under
from kanaleto.tui.map.view import MapView
from kanaleto.tui.scratch.form import ScratchForm
from kanaleto.tui.scratch.rows import ScratchColumns, ScratchRows
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.line import Line
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import line_phrase

_PORTS_S = 2.0
_WIDE, _MIDDLING = 130, 92
_LEAST_SCRATCH = 8
_LOW, _LOW_FIELD = 30, 4  # so few rows are shared out by turns: the field, or the scratch reading


class ScratchHead(Drawn):
    """One line above the fields: what is read where, and how it goes."""

    DEFAULT_CSS = "ScratchHead { height: 1; }"

    def render_line(self, y: int) -> Strip:
        view = self.kanaleto.query_one(FindView)
        cells = Cells(self.palette).put(" Scratch reading", bold=True)
        reader = view.desk.scratch
        state = reader.state if reader is not None else None
        place = view.place
        where = reader.link.place if reader is not None else place.title if place is not None else "choose a place first"
        cells.put(f"  {where}", "muted")
        if state is not None and state.error:
            cells.put(f"  {state.error}", "terracotta")
        elif state is not None and state.reads:
            going = f"{state.reads} times" if view.desk.is_reading else "stopped"
            cells.put(f"  read {going}, {1000 * state.took_s:.1f} ms", "verdigris")
        return cells.strip(self.size.width)


class LinkLine(Line):
    """Where a link, a port or a range is typed."""

    def entered(self, text: str) -> None:
        self.screen.query_one(FindView).take_link(text)

    def left(self) -> None:
        self.screen.query_one(FindView).focus_rows(to_list=True)


class FindView(Keeping, Drawn, Horizontal):
    BINDINGS = [
        Binding("t", "settings", show=False),
        Binding("g", "units", show=False),
        Binding("e", "registers", show=False),
        Binding("o", "listen", show=False),
        Binding("a", "add", show=False),
        Binding("A", "draft", show=False),
        Binding("s", "keep_settings", show=False),
        Binding("y", "type_link", show=False),
        Binding("i", "import", show=False),
        Binding("enter", "open", show=False),
        Binding("tab,right,l", "panel(1)", show=False),
        Binding("shift+tab,left,h", "panel(-1)", show=False),
    ]
    DEFAULT_CSS = """
    FindView { layout: horizontal; }
    #find-left { width: 33; background: $background; border-right: solid $rules; }
    #find-middle { width: 1fr; padding: 1 0 0 0; }
    #find-left { padding: 1 0 0 0; }
    #find-right { width: 46; background: $panel; }
    FindView.-folded #find-right { display: none; }
    FindView.-folded.-show-found #find-right { display: block; }
    FindView.-folded.-show-found #find-left { display: none; }
    FindView.-narrow.-show-middle #find-left { display: none; }
    FindView.-no-scratch ScratchHead, FindView.-no-scratch ScratchForm, FindView.-no-scratch ScratchColumns,
    FindView.-no-scratch ScratchRows { display: none; }
    """

    def __init__(self, **arguments: object) -> None:
        super().__init__(**arguments)  # type: ignore[arg-type]
        self._ports: list[PortInfo] = []
        self._chosen: Place | None = None
        self._is_looking = False
        self._is_low = False
        self._is_choosing = True  # on a narrow screen: whether the list is in sight

    def compose(self) -> ComposeResult:
        with Vertical(id="find-left"):
            yield PlaceRows()
            yield LinkLine(placeholder="type a link or a port")
        with Vertical(id="find-middle"):
            yield Field()
            yield ScratchHead()
            yield ScratchForm()
            yield ScratchColumns()
            yield ScratchRows()
        with Vertical(id="find-right"):
            yield FoundHead()
            yield FoundRows()

    def on_mount(self) -> None:
        self.desk = Desk(self.kanaleto.engine)
        self._list, self._found = self.query_one(PlaceRows), self.query_one(FoundRows)
        self.form, self.words = self.query_one(ScratchForm), self.query_one(ScratchRows)
        self._link, self._field = self.query_one(LinkLine), self.query_one(Field)
        self._found.empty_text = "nothing found yet"
        self.set_interval(_PORTS_S, self._look_at_ports)
        self._look_at_ports()
        self._fill()

    # What is shown

    @property
    def place(self) -> Place | None:
        """The place that everything here is about."""
        return self._chosen

    def _look_at_ports(self) -> None:
        if self.is_on_screen and not self._is_looking:
            self._is_looking = True
            self.run_worker(self._list_ports, thread=True, exclusive=True, group="ports")

    @property
    def is_on_screen(self) -> bool:
        return bool(self.display)

    def _list_ports(self) -> None:
        """On a thread: asking the system takes a while."""
        ports = list_serial_ports()
        known = {port.path for port in ports}
        links = [place.link for place in self.desk.places] + [line.link for line in self.kanaleto.site.lines]
        more = {link.port for link in links if isinstance(link, SerialLink) and not link.is_remote} - known
        found = [*ports, *(describe_port(path) for path in sorted(more))]
        self.app.call_from_thread(self._take_ports, found)

    def _take_ports(self, ports: list[PortInfo]) -> None:
        self._ports, self._is_looking = ports, False

    def _fill(self) -> None:
        """The list at the left: lines of the site, ports, what was typed, sites."""
        site, rows = self.kanaleto.site, list[PlacesRow]()
        infos = {port.path: port for port in self._ports}
        shown: set[str] = set()
        if site.lines:
            rows.append(HeadRow("LINES OF THIS SITE"))
            for line in site.lines:
                place = self.desk.take(Place(line.link.place, line.link, knows_settings=not self._was_swept(line.link.place)))
                shown.add(place.title)
                rows += self._with_rows(PlaceRow(place, infos.get(line.link.place), line.name, self._health(line.name)))
        typed = {place.title for place in self.desk.places if not place.is_serial or place.title not in infos} - shown
        ports = [port for port in self._ports if port.path not in shown]
        if ports:
            rows.append(HeadRow("PORTS"))
            for port in ports:
                place = self.desk.take(parse_place(port.path if "/" in port.path else f"rtu://{port.path}"))
                rows += self._with_rows(PlaceRow(place, port))
        others = [place for place in self.desk.places if place.title in typed]
        if others:
            rows.append(HeadRow("TYPED"))
            for place in others:
                rows += self._with_rows(PlaceRow(place))
        rows += self._site_rows()
        before = self._list.current
        self._list.set_rows(rows)
        self._return_to(before)

    def _health(self, name: str) -> tuple[str, str]:
        moment = self.kanaleto.moment
        return next((line_phrase(status, moment.is_held) for status in moment.lines if status.line.name == name), ("", ""))

    def _was_swept(self, title: str) -> bool:
        return any(place.title == title and place.settings is not None for place in self.desk.places)

    def _with_rows(self, row: PlaceRow) -> list[PlacesRow]:
        return [row, *rows_under(row)]

    def _site_rows(self) -> list[PlacesRow]:
        holder = self.kanaleto.holder
        sites: list[PlacesRow] = [
            SiteRow(path, f"{path.stem}  {_home(path.parent)}") for path in holder.recent() if path != self.kanaleto.site.path
        ][:6]
        unsaved = [path for path in holder.unsaved() if path != self.kanaleto.site.path][:4]
        sites += [SiteRow(path, f"unsaved, {path.parent.name[:8]} {path.parent.name[9:13]}", is_unsaved=True) for path in unsaved]
        if not holder.is_demo:
            sites.append(SiteRow(None, "Alder Lock, the demo"))
        return [HeadRow("SITES TO OPEN"), *sites] if sites else []

    def _return_to(self, before: object) -> None:
        for index, row in enumerate(self._list.rows):
            is_same = isinstance(row, PlaceRow) and isinstance(before, PlaceRow) and row.place is before.place
            if is_same or (isinstance(row, SiteRow) and row == before):
                self._list.cursor = index
                return

    def tick(self) -> None:
        self._fill()
        row = self._list.current
        if isinstance(row, PlaceRow) and (self._list.has_focus or self._chosen is None):
            self._chosen = row.place if self._list.has_focus or self.kanaleto.site.lines else self._chosen
        self._fold()
        shown = rows_of(self._chosen, self._room())
        self._field.rows = shown
        self._field.styles.height = min(len(shown) + 1, max(self._room(), 1))
        self._field.refresh()
        found = findings_of(self._chosen, self.kanaleto.site) if self._chosen is not None else []
        self._found.show(found, self._found.size.width or 46)
        reader = self.desk.scratch
        self.words.take(reader.state if reader is not None else None, self.form.reading)
        self.query_one(ScratchHead).refresh()

    def _room(self) -> int:
        """Rows that the field may take."""
        if self._is_low and (self.form.has_focus or self.words.has_focus):
            return _LOW_FIELD
        scratch = 0 if self.has_class("-no-scratch") else _LEAST_SCRATCH
        return max(self.size.height - 1 - scratch, 4)

    def _fold(self) -> None:
        width, height = self.size.width, self.size.height
        is_scratch_focused = self.form.has_focus or self.words.has_focus
        has_field = self._chosen is not None and bool(self._chosen.shown)
        is_elsewhere = not (self._list.has_focus or self._link.has_focus)
        self._is_low = height < _LOW
        self.set_class(width < _WIDE, "-folded")
        self.set_class(width < _MIDDLING, "-narrow")
        self.set_class(self._found.has_focus, "-show-found")
        self.set_class(is_elsewhere or (has_field and not self._is_choosing), "-show-middle")
        is_unused = self._chosen is None and self.desk.scratch is None and not is_scratch_focused
        self.set_class(is_unused or (self._is_low and has_field and not is_scratch_focused), "-no-scratch")

    def focus_rows(self, to_list: bool = False) -> None:
        """A start with nothing open begins in the link line."""
        if not to_list and not self.kanaleto.site.lines and not self.desk.places:
            self.screen.set_focus(self._link)
        else:
            self.screen.set_focus(self._list)

    def keys_here(self) -> list[tuple[str, str]]:
        if self._link.has_focus:
            return [("enter", "look there"), ("escape", "to the list")]
        if self.form.has_focus:
            return [("enter", "read"), ("tab", "next field"), ("up down", "turn"), ("escape", "go back")]
        if self.words.has_focus:
            return [("a", "keep as point"), ("v", "choose"), ("[ ]", "step"), ("+ -", "widen"), ("{ }", "unit"), ("r", "fields")]
        stop = [("escape", "stop")] if self._chosen is not None and self._chosen.doing else []
        if isinstance(self._list.current, SiteRow) and self._list.has_focus:
            return [("enter", "open"), ("y", "type a link")]
        serial = [("t", "try settings")] if self._chosen is not None and self._chosen.is_serial else []
        listen = [("o", "listen only")] if serial else []
        return [
            *stop,
            ("enter", "read"),
            *serial,
            ("g", "ask units"),
            ("e", "look for registers"),
            *listen,
            ("a", "add device"),
            ("y", "type a link"),
        ]

    # Moving about

    def action_panel(self, step: int) -> None:
        order = [self._list, self.form, self.words, self._found]
        order = [widget for widget in order if widget is not self.words or self.words.rows]
        at = next((index for index, widget in enumerate(order) if widget.has_focus), 0)
        self._focus(order[(at + step) % len(order)])

    def _focus(self, widget: Drawn) -> None:
        if widget in (self.form, self.words):
            self.remove_class("-no-scratch")
            self.add_class("-show-middle")
        if widget is self._found:
            self.add_class("-show-found")
        if widget is self._list:
            self.remove_class("-show-found", "-show-middle")
        if widget is self.form:
            self.form.begin(self.form.field)
        else:
            self.screen.set_focus(widget)
        self.kanaleto.tick()

    def action_type_link(self) -> None:
        self.remove_class("-show-found", "-show-middle")
        self.screen.set_focus(self._link)

    def action_import(self) -> None:
        """A table of others for the unit in the fields, or the one in hand."""
        if self._chosen is None or self._chosen.link is None:
            self.kanaleto.tell("choose a place at the left first, or type a link (y)")
            return
        unit = self.form.question.unit_id if self.form.has_focus or self.words.has_focus else self.unit_in_hand()
        self.kanaleto.action_view("2")
        self.kanaleto.query_one(MapView).ask_import(self._chosen.link, unit)

    def open_filter(self) -> None:
        self.action_type_link()

    def open_scratch(self, question: Question | None = None) -> None:
        """From anywhere: the fields, on the place that is chosen, or the first there is."""
        if self._chosen is None:
            self._chosen = next((place for place in self.desk.places if place.link is not None), None)
        if question is not None:
            self.form.show(question)
        self.remove_class("-no-scratch")
        self.add_class("-show-middle")
        self.form.begin("unit")
        self.kanaleto.tick()

    def back(self) -> None:
        if self._chosen is not None and self.desk.stop(self._chosen):
            return
        self._is_choosing = True
        if self._list.has_focus and self.desk.is_reading:
            self.desk.stop_scratch()
        self._focus(self._list)

    def on_rows_moved(self, event: Rows.Moved) -> None:
        self._is_choosing = self._is_choosing or self._list.has_focus
        self.tick()

    def on_place_rows_below(self, event: PlaceRows.Below) -> None:
        self.action_type_link()

    # The link line, places and sites

    def take_link(self, text: str) -> None:
        """Look at what was typed."""
        try:
            place = self.desk.take(parse_place(text))
        except ValueError as error:
            self.kanaleto.tell(str(error))
            self._link.action_select_all()  # to be typed over, or mended with the arrows
            return
        self._link.value = ""
        self.look_at(place)

    def look_at(self, place: Place) -> None:
        """Make it the place that everything here is about."""
        self._chosen = place
        self._fill()
        for index, row in enumerate(self._list.rows):
            if isinstance(row, PlaceRow) and row.place is place:
                self._list.cursor = index
        if place.link is None:
            self._focus(self._list)
            self.action_units()
        elif place.knows_settings:
            self.open_scratch()
        else:
            self._focus(self._list)

    def action_open(self) -> None:
        row = self._list.current if self._list.has_focus else None
        if isinstance(row, SiteRow):
            self.kanaleto.open_site(row.path, row.is_unsaved)
            return
        finding = self._finding()
        if finding is not None and finding.host is not None:
            self.look_at(self.desk.take(Place(finding.host.place, finding.host)))
        elif finding is not None and finding.unit_id is not None:
            self._read_unit(finding.unit_id)
        elif self.words.has_focus:
            self.form.begin("from")
        elif isinstance(row, PlaceRow):
            if row.place.link is None:
                self.action_units()
            else:
                self.open_scratch()

    def _read_unit(self, unit_id: int) -> None:
        """A scratch reading of a unit, where its registers begin if that is known."""
        survey = self._chosen.registers.get(unit_id) if self._chosen is not None else None
        question = replace(self.form.question, unit_id=unit_id)
        for table in survey.tables if survey is not None else ():
            if table.runs:
                first, last = table.runs[0]
                question = replace(question, table=table.table, address=first, count=min(last - first + 1, table.most, 16))
                break
        self.form.show(question)
        self._ask()

    def _finding(self) -> Finding | None:
        current = self._found.current if self._found.has_focus else None
        return current if isinstance(current, Finding) else None

    # Surveys

    def _begin(self, key: str, what: str, start: object, *arguments: object) -> None:
        place = self._chosen
        if place is None:
            self.kanaleto.tell("choose a place at the left first, or type a link (y)")
            return
        if place.link is not None and place.is_serial and key in "tgo":
            name = line_of(self.kanaleto.site, place.link)
            if name is not None and not self.kanaleto.is_sure(key, f"{what} closes {name.name} meanwhile, which", {name.name}):
                return
        self._is_choosing = False
        try:
            start(place, *arguments)  # type: ignore[operator]
        except (ValueError, RuntimeError) as error:
            self.kanaleto.tell(str(error))
        self.kanaleto.tick()

    def action_settings(self) -> None:
        self._begin("t", "trying settings", self.desk.try_settings)

    def action_units(self) -> None:
        is_range = self._chosen is not None and self._chosen.link is None
        self._begin("g", "asking units", self.desk.ask_hosts if is_range else self.desk.ask_units)

    def action_listen(self) -> None:
        self._begin("o", "listening", self.desk.listen)

    def action_registers(self) -> None:
        unit_id = self.unit_in_hand()
        self._begin("e", "looking for registers", self.desk.look_for_registers, unit_id)

    def unit_in_hand(self) -> int:
        """The finding's unit that the cursor is on, or the first found, or the one in the scratch fields."""
        finding = self._finding() or self._found.current
        if isinstance(finding, Finding) and finding.unit_id is not None:
            return finding.unit_id
        return next(
            (row.unit_id for row in self._found.rows if isinstance(row, Finding) and row.unit_id is not None), self.form.question.unit_id
        )

    # The scratch reading

    def on_scratch_form_asked(self, event: ScratchForm.Asked) -> None:
        self._ask()

    def on_scratch_form_left(self, event: ScratchForm.Left) -> None:
        self._focus(self._list)

    def _ask(self) -> None:
        place, question = self._chosen, self.form.question
        if place is None or place.link is None:
            self.kanaleto.tell("choose a place at the left first, or type a link (y)")
            return
        wrong = question.wrong() or (
            "unit 0 is a broadcast on a serial line, and nobody answers one" if place.is_serial and not question.unit_id else ""
        )
        if wrong:
            self.kanaleto.tell(wrong)
            return
        self.desk.read(place.link, question)
        self.words.cursor = 0
        self.words.chosen.clear()
        self.remove_class("-no-scratch")
        self.add_class("-show-middle")
        self.screen.set_focus(self.words)
        self.kanaleto.tick()

    def on_scratch_rows_changed(self, event: ScratchRows.Changed) -> None:
        """Read something else at the same place."""
        question = self.form.question.step(event.groups).widen(event.words)
        question = replace(question, unit_id=max(0, min(question.unit_id + event.units, 255)))
        self.form.show(question)
        if self.desk.scratch is not None:
            self.desk.read(self.desk.scratch.link, question)


def _home(path: Path) -> str:
    try:
        return f"~/{path.relative_to(Path.home())}"
    except ValueError:
        return str(path)
