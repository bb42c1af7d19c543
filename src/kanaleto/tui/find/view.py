"""Find: where to look at the left, what is under way and the scratch reading beside it, what was found at the right."""

from collections.abc import Callable, Iterable
from threading import Thread

from msgspec.structs import replace
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical

from kanaleto.board.snapshot import Snapshot
from kanaleto.finding.desk import Desk, FindPlace, parse_place
from kanaleto.finding.placestates import PlaceState
from kanaleto.finding.scratch import ScratchQuestion
from kanaleto.probing.ports import PortInfo, describe_port, list_serial_ports
from kanaleto.site.links.link import Link
from kanaleto.tui.find.actions import ACTIONS, IN_FORM, IN_LINK, IN_WORDS, MORE_KEYS, at_place
from kanaleto.tui.find.adding import add_all, add_unit, draft_unit, keep_settings, points_read, question_for
from kanaleto.tui.find.drawn import FindField, FoundHead, ScratchHead, scratch_head
from kanaleto.tui.find.field import rows_of
from kanaleto.tui.find.findings import Finding, FoundRows, findings_of
from kanaleto.tui.find.places import PlaceRow, PlaceRows, SiteRow, places_listed, sites_listed
from kanaleto.tui.find.surveys import Surveys
from kanaleto.tui.find.writing import ScratchWrites
from kanaleto.tui.scratch.form import ScratchForm
from kanaleto.tui.scratch.rows import ScratchColumns, ScratchRows
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.line import InputLine
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.wishes import ImportFor, OpenSite


class PortWatch:
    """`found` is replaced whole."""

    def __init__(self) -> None:
        self.found: tuple[PortInfo, ...] = ()
        self._thread: Thread | None = None

    def look(self, named: Iterable[str]) -> None:
        """Look again, also at ports that were named and that the system does not list; unless that is under way."""
        if self._thread is None or not self._thread.is_alive():
            self._thread = Thread(target=self._look, args=(set(named),), name="ports", daemon=True)
            self._thread.start()

    def _look(self, named: set[str]) -> None:
        ports = list_serial_ports()
        more = named - {port.path for port in ports}
        self.found = (*ports, *(describe_port(path) for path in sorted(more)))


class LinkLine(InputLine):
    """Where a link, a port or a range is typed."""

    def __init__(self, on_entered: Callable[[str], None], on_left: Callable[[], None]) -> None:
        super().__init__(placeholder="type a link or a port")
        self._on_entered, self._on_left = on_entered, on_left

    def entered(self, text: str) -> None:
        self._on_entered(text)

    def left(self) -> None:
        self._on_left()


"""What of Find is in sight where there is little room."""

_WIDE, _MIDDLING = 130, 92
LOW = 30  # few rows are shared out by turns: the field, or the scratch reading


def classes(
    size: tuple[int, int], in_scratch: bool, in_found: bool, in_list: bool, has_field: bool, is_choosing: bool,
    is_unused: bool,
) -> dict[str, bool]:  # fmt: skip
    """Style classes by what has the keys: the scratch reading, what was found, or the list; `is_unused`: no place is
    chosen and nothing read."""
    width, height = size
    return {
        "-folded": width < _WIDE,
        "-narrow": width < _MIDDLING,
        "-show-found": in_found,
        "-show-middle": not in_list or (has_field and not is_choosing),
        "-no-scratch": (is_unused and not in_scratch) or (height < LOW and has_field and not in_scratch),
    }


_PORTS_S = 2.0
_LEAST_SCRATCH = 8
_LOW_FIELD = 4


class FindView(ScratchWrites, Surveys, Horizontal):
    digit, title, about = "1", "Find", "go to ports, settings, units and registers"
    actions, more_keys = ACTIONS, MORE_KEYS
    BINDINGS = [
        Binding("tab,right,l", "panel(1)", show=False),
        Binding("shift+tab,left,h", "panel(-1)", show=False),
    ]

    def __init__(self, **arguments: object) -> None:
        super().__init__(**arguments)  # type: ignore[arg-type]
        self._ports = PortWatch()
        self._chosen: FindPlace | None = None
        self._is_low = False
        self._is_choosing = True  # on a narrow screen: whether the list is in sight

    def compose(self) -> ComposeResult:
        with Vertical(id="find-left"):
            yield PlaceRows(self.action_type_link)
            yield LinkLine(self._take_link, lambda: self.focus_rows(to_list=True))
        with Vertical(id="find-middle"):
            yield FindField(self._show_again)
            yield ScratchHead()
            yield ScratchForm(self._read, self._leave_form, self.action_panel)
            yield ScratchColumns()
            yield ScratchRows(self._read_beside)
        with Vertical(id="find-right"):
            yield FoundHead()
            yield FoundRows()

    def on_mount(self) -> None:
        self.desk, one = Desk(self.context.engine), self.query_one
        self._list, self._found, self._link = one(PlaceRows), one(FoundRows), one(LinkLine)
        self.form, self.words, self._field, self._head = (
            one(ScratchForm),
            one(ScratchRows),
            one(FindField),
            one(ScratchHead),
        )
        self._found.empty_text = "nothing found yet"
        for rows in (self._list, self.words, self._found):
            rows.when_moved = self._moved
        self.set_interval(_PORTS_S, lambda: self._look_at_ports() if self.display else None)
        self._look_at_ports()  # so that they are there when somebody comes

    def on_hide(self) -> None:
        """Whoever goes elsewhere leaves no reading behind that asks a line again and again."""
        self.desk.pause_scratch()

    def on_show(self) -> None:
        self.desk.go_on_reading()

    # What is shown

    @property
    def state(self) -> PlaceState | None:
        return self._chosen.state if self._chosen is not None else None

    def _look_at_ports(self) -> None:
        links = [place.link for place in self.desk.places] + [line.link for line in self.snapshot.site.lines]
        self._ports.look(link.local_port for link in links if link is not None and link.local_port)

    def _fill(self) -> None:
        """The list at the left: lines of the site, ports, what was typed, sites."""
        opened = self.context.door.opened
        rows = places_listed(self.desk, self.snapshot, self._ports.found)
        self._list.set_rows([*rows, *sites_listed(self.context.holder, opened.path)])

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        self._fill()
        self.keep_what_was_found()
        row = self._list.current
        has_lines = bool(snapshot.site.lines)
        if isinstance(row, PlaceRow) and (self._list.has_keys or (self._chosen is None and has_lines)):
            self._chosen = row.place
        self._fold()
        state = self.state
        shown = rows_of(state, self._room(), self._field.size.width or self.size.width)
        self._field.rows = shown
        self._field.styles.height = min(len(shown) + 1, max(self._room(), 1))
        self._field.redraw()
        found = findings_of(state, snapshot.site) if state is not None else []
        self._found.lay_out(found, self._found.size.width or 46)
        reader = self.desk.scratch
        self.words.take(reader.state if reader is not None else None, self.form.reading)
        self._head.row = scratch_head(self.desk, self._chosen)
        self._head.redraw()

    def _show_again(self) -> None:
        """There is another width for what is reported."""
        if self.shown is not None and self.display:
            self.show(self.shown)

    def _room(self) -> int:
        """Rows that the field may take."""
        if self._is_low and (self.form.has_keys or self.words.has_keys):
            return _LOW_FIELD
        scratch = 0 if self.has_class("-no-scratch") else _LEAST_SCRATCH
        return max(self.size.height - 1 - scratch, 4)

    def _fold(self) -> None:
        has_field = self.state is not None and bool(self.state.shown)
        self._is_low = self.size.height < LOW
        for name, is_on in classes(
            self.size, self.form.has_keys or self.words.has_keys, self._found.has_keys,
            self._list.has_keys or self._link.has_keys, has_field, self._is_choosing,
            self._chosen is None and self.desk.scratch is None,
        ).items():  # fmt: skip
            self.set_class(is_on, name)

    def focus_rows(self, to_list: bool = False) -> None:
        """A start with nothing open begins in the link line."""
        if not to_list and not self.context.snapshot.site.lines and not self.desk.places:
            self._link.begin()
        else:
            self.screen.set_focus(self._list)

    def close(self) -> None:
        self.desk.close()

    def keys_here(self) -> list[Key]:
        if self._link.has_keys:
            return IN_LINK
        if self.form.has_keys:
            return IN_FORM
        if self.words.has_keys:
            return IN_WORDS
        if isinstance(self._list.current, SiteRow) and self._list.has_keys:
            return [("enter", "open"), *self.keys_of("type_link")]
        stop = [("escape", "stop")] if self.state is not None and self.state.doing else []
        return [*stop, *self.keys_of(*at_place(self.state))]

    # Moving about

    def action_panel(self, step: int) -> None:
        order = [self._list, self.form, self.words, self._found]
        order = [widget for widget in order if widget is not self.words or self.words.rows]
        at = next((index for index, widget in enumerate(order) if widget.has_keys), 0)
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
        self.context.redraw()

    def action_type_link(self) -> None:
        self.remove_class("-show-found", "-show-middle")
        self._link.begin()

    def action_import(self) -> None:
        """A table of others for the unit in the fields, or the one in hand."""
        unit = self.unit_in_hand()
        if unit is not None and self._chosen is not None and self._chosen.link is not None:
            self.context.send(ImportFor(self._chosen.link, unit))

    def open_filter(self) -> None:
        self.action_type_link()

    def open_scratch(self, question: ScratchQuestion | None = None) -> None:
        """From anywhere: the fields, on the place that is chosen, or the first there is."""
        if self._chosen is None:
            self._chosen = next((place for place in self.desk.places if place.link is not None), None)
        if question is not None:
            self.form.show(question)
        self.remove_class("-no-scratch")
        self.add_class("-show-middle")
        self.form.begin("unit")
        self.context.redraw()

    def read_again(self, link: Link, question: ScratchQuestion) -> None:
        """The fields filled in, on that place; enter sends."""
        self._chosen = self.desk.take(parse_place(str(link)))
        self._fill()
        self.open_scratch(question)

    def back(self) -> None:
        if self._chosen is not None and self.desk.stop(self._chosen):
            return
        self._is_choosing = True
        if self._list.has_keys and self.desk.is_reading:
            self.desk.stop_scratch()
        self._focus(self._list)

    def _moved(self) -> None:
        self._is_choosing = self._is_choosing or self._list.has_keys
        self.context.redraw()

    # The link line, places and sites

    def _take_link(self, text: str) -> None:
        """Look at what was typed."""
        try:
            place = self.desk.take(parse_place(text))
        except ValueError as error:
            self.context.tell(str(error))
            self._link.action_select_all()  # to be typed over, or mended with the arrows
            return
        self._link.value = ""
        self.look_at(place)

    def look_at(self, place: FindPlace) -> None:
        """Make it the place that everything here is about."""
        self._chosen = place
        self._fill()
        for index, row in enumerate(self._list.rows):
            if isinstance(row, PlaceRow) and row.place is place:
                self._list.cursor = index
        if place.link is None:
            self._focus(self._list)
            self.action_units()
        elif place.state.knows_settings:
            self.open_scratch()
        else:
            self._focus(self._list)

    def action_open(self) -> None:
        row = self._list.current if self._list.has_keys else None
        if isinstance(row, SiteRow) and row.elsewhere:
            self.context.tell(f"that unsaved site is {row.elsewhere}")
            return
        if isinstance(row, SiteRow):
            self.context.send(OpenSite(row.path))
            return
        finding = self._finding()
        if finding is not None and finding.host is not None:
            self.look_at(self.desk.take(FindPlace(finding.host.place, finding.host)))
        elif finding is not None and finding.unit_id is not None:
            self._read_unit(finding.unit_id)
        elif self.words.has_keys:
            self.form.begin("from")
        elif isinstance(row, PlaceRow):
            if row.place.link is None:
                self.action_units()
            else:
                current = self._found.current  # just found: that one is what is in view
                unit_id = current.unit_id if isinstance(current, Finding) else None
                self.open_scratch(
                    question_for(self.state, unit_id, self.form.question) if unit_id is not None else None
                )

    def _read_unit(self, unit_id: int) -> None:
        """A scratch reading of a unit, where its registers begin if that is known."""
        question = question_for(self.state, unit_id, self.form.question)
        self.form.show(question)
        self._read()

    def _finding(self) -> Finding | None:
        current = self._found.current if self._found.has_keys else None
        return current if isinstance(current, Finding) else None

    # The scratch reading

    def _leave_form(self) -> None:
        self._focus(self._list)

    def _read(self) -> None:
        place, question = self._chosen, self.form.question
        if place is None or place.link is None:
            self.context.tell("choose a place at the left first, or type a link (y)")
            return
        wrong = question.wrong() or (
            "unit 0 is a broadcast on a serial line, and nobody answers one"
            if place.state.is_serial and not question.unit_id
            else ""
        )
        if wrong:
            self.context.tell(wrong)
            return
        self.desk.read(place.link, question)
        self.words.cursor = 0
        self.words.chosen.clear()
        self.remove_class("-no-scratch")
        self.add_class("-show-middle")
        self.screen.set_focus(self.words)
        self.context.redraw()

    def _read_beside(self, groups: int, words: int, units: int) -> None:
        """Read something else at the same place."""
        question = self.form.question.step(groups).widen(words)
        question = replace(question, unit_id=max(0, min(question.unit_id + units, 255)))
        self.form.show(question)
        if self.desk.scratch is not None:
            self.desk.read(self.desk.scratch.link, question)

    # What is found becomes part of the site

    def action_add(self) -> None:
        if not self.words.has_keys:
            unit_id = self.unit_in_hand()
            if unit_id is not None:
                add_unit(self.context, self.state, unit_id, [])
            return
        reader, row = self.desk.scratch, self.words.current
        if reader is None or row is None:
            self.context.tell("nothing is read there now, so there is nothing to keep")
            return
        question = reader.state.question
        points = points_read(question, self.form.reading, self.words.chosen or {row.address})
        add_unit(self.context, self.state, question.unit_id, points)
        self.words.chosen.clear()

    def action_draft(self) -> None:
        if self._chosen is not None and self._chosen.state.drafts and not self._found.has_keys:
            add_all(self.context, self._chosen)
            return
        unit_id = self.unit_in_hand()
        if self._chosen is not None and unit_id is not None:
            draft_unit(self.context, self.desk, self._chosen, unit_id)

    def action_keep_settings(self) -> None:
        keep_settings(self.context, self.state, self.snapshot.site)
