"""The error log: what happened, the newest last, and when it was over. From an event all views go to its moment."""

from collections.abc import Hashable, Sequence
from pathlib import Path
from threading import Thread

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.strip import Strip
from textual.widgets import Input

from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.presence import user_name
from kanaleto.events.filtering import EventFits, FilterFault, parse_event_filter
from kanaleto.events.log import Event, EventKind, length_text
from kanaleto.history.earlier import NOTED, NotThere, note_on, write_listed
from kanaleto.history.eventtable import LOG_FORMS
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.context import Stoppable
from kanaleto.tui.shared.elsewhere import begin_elsewhere
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.holder import expanded
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.wishes import ShowMoment, ShowView
from kanaleto.tui.shared.words import moment_text

FAILED = (
    EventKind.LINE_DOWN, EventKind.DEVICE_LOST, EventKind.DEVICE_SLOW, EventKind.EXCEPTION, EventKind.GARBLED,
    EventKind.STRANGE, EventKind.LATE, EventKind.OVERRUN, EventKind.GATEWAY, EventKind.WATCHDOG, EventKind.LIMIT,
    EventKind.KEEPING, EventKind.CLIENT, EventKind.UNANSWERED, EventKind.OWED, EventKind.FAULT,
)  # fmt: skip
_TONES = {
    EventKind.LINE_DOWN: "terracotta", EventKind.DEVICE_LOST: "terracotta", EventKind.WATCHDOG: "terracotta",
    EventKind.EXCEPTION: "ochre", EventKind.LATE: "ochre", EventKind.OVERRUN: "ochre", EventKind.DEVICE_SLOW: "ochre",
    EventKind.UNANSWERED: "ochre", EventKind.OWED: "terracotta", EventKind.FAULT: "terracotta",
    EventKind.LIMIT: "ochre", EventKind.GARBLED: "violet", EventKind.STRANGE: "violet",
}  # fmt: skip


class EventRows(Rows[Event]):
    def __init__(self) -> None:
        super().__init__()
        self.notes: dict[int, str] = {}
        """What was noted on events since the start."""

    def identity(self, row: Event) -> Hashable:
        return row.number

    def draw(self, row: Event, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put(f" {moment_text(row.wall_s)} ", "muted")
        goes_on = row.ended_wall_s is None
        cells.put("◆ " if goes_on else "  ", "ochre").put(row.kind.value, _TONES.get(row.kind, "muted"), 13)
        whose = row.device or row.line
        cells.put(whose, "ink", 20 if width >= 100 else 14, bold=True).put(" ")
        over = f"over after {length_text(row.lasted_s)}" if row.lasted_s else ""
        lasted = "goes on" if goes_on else over
        more = " · ".join(part for part in (f"{row.count} times" if row.count > 1 else "", lasted) if part)
        room = max(width - cells.width - len(more) - 2, 10)
        noted = self.notes.get(row.number)
        cells.put(f"{row.text.partition(NOTED)[0]}{NOTED}{noted}" if noted else row.text, "ink", room).put(" ")
        return cells.put(more, "ochre" if goes_on else "muted")


class EventsHead(Drawn):
    DEFAULT_CSS = "EventsHead { height: 2; }"
    text = ""

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        if y == 0:
            cells.put(" ERROR LOG  ", "muted", bold=True).put(self.text, "muted")
        return self.strip_of(y, cells, self.size.width)


class EventsView(View, Vertical):
    digit, title, about = "E", "Error log", "go to what happened"
    actions = (
        Action("enter", "then", "trend then", "all views at the moment of the event: the trend"),
        Action("y", "wire", "exchanges then", "all views at the moment of the event: the exchanges"),
        Action(
            "x",
            "export",
            "save for others",
            "what is listed, with what was before: .csv, .jsonl, .txt",
        ),
        Action("n", "note", "note on it", "a note on the event under the cursor, kept with it in the journal"),
        Action("f", "failed", "only failures", "only failures and limits, or all that happened"),
    )

    def __init__(self, id: str) -> None:
        super().__init__(id=id)
        self._head, self._list = EventsHead(), EventRows()
        self._filter = Filter(self._leave_filter)
        self._list.empty_text = "nothing has happened yet"

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list
        yield self._filter

    def on_mount(self) -> None:
        self._only_failed = False
        self._follows = True
        self._fits: EventFits = lambda event: True
        self._fault = ""
        self._earlier: list[Event] = []
        self._earlier_of: Path | None = None
        self._list.when_moved = self._moved

    def _moved(self) -> None:
        self._follows = self._list.cursor >= len(self._list.rows) - 1

    def _events(self) -> Sequence[Event]:
        log = self.context.engine.session.events
        kept = {event.number: event for event in [*log.going_on, *list(log.ring)]}
        events = [*self._earlier, *(kept[number] for number in sorted(kept))]
        if self._only_failed:
            events = [event for event in events if event.kind in FAILED]
        return [event for event in events if self._fits(event)]

    @property
    def _folder(self) -> Path | None:
        """Where the journal of the open site is."""
        tape = self.context.keeping.seam.folder
        return tape.parent if tape is not None else None

    def _look_back(self) -> None:
        """What the journal has of before this program, read on a thread once it is wanted."""
        folder = self._folder
        if folder == self._earlier_of:
            return
        self._earlier, self._earlier_of = [], folder
        if folder is None:
            return
        before_us = round(1e6 * self.context.engine.session.events.begun_wall_s)

        def work() -> None:
            from kanaleto.history.earlier import earlier_events, note_looked

            found = earlier_events(folder, before_us)
            note_looked(folder, round(1e6 * self.context.engine.session.clock.now()))
            self.context.later(lambda: self._have(folder, found))

        Thread(target=work, name="earlier events", daemon=True).start()

    def _have(self, folder: Path, found: list[Event]) -> None:
        if folder == self._earlier_of:
            self._earlier = found
            self.context.redraw()

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        self._look_back()
        events = self._events()
        if [event.number for event in events] != [event.number for event in self._list.rows]:
            self._list.empty_text = self._filter.text or "nothing has happened yet"
            self._list.set_rows(events)
            if self._follows:
                self._list.place_cursor(len(events) - 1, -1)
        going_on = sum(1 for event in events if event.ended_wall_s is None)
        only = "failures and limits" if self._only_failed else "all that happened"
        self._head.text = self._fault or f"{only}: {len(events)} events, {going_on} go on (◆)"
        self._head.redraw()
        self._list.redraw()

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        failed = self.keys_of("failed", failed="all events" if self._only_failed else "only failures")
        return [
            *self.keys_of("then", "wire"),
            *failed,
            ("/", "filter"),
            *self.keys_of("note", "export"),
            ("escape", "back"),
        ]

    def open_filter(self) -> None:
        self._filter.open()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Where it is no filter yet, the list stays as it is."""
        try:
            self._fits, self._fault = parse_event_filter(self._filter.value), ""
        except FilterFault as fault:
            self._fault = str(fault)
        self.context.redraw()

    def _leave_filter(self) -> None:
        self.context.redraw()
        self.focus_rows()

    def back(self) -> None:
        if self._filter.value:
            self._filter.clear_filter()
            self._fits, self._fault = parse_event_filter(""), ""
            self.context.redraw()
            self.focus_rows()
        else:
            self.context.send(ShowView(""))

    async def _show(self, digit: str) -> None:
        event = self._list.current
        if event is not None:
            identity = (event.device, event.point) if event.point else None
            await self.context.show_moment(ShowMoment(event.wall_s, identity, digit))

    async def action_then(self) -> None:
        await self._show("3")

    async def action_wire(self) -> None:
        await self._show("4")

    def action_note(self) -> None:
        event, folder = self._list.current, self._folder
        if event is None:
            return
        if folder is None:
            self.context.tell("nothing is kept of this site yet: it is not on disk")
            return

        def take(text: str) -> Stoppable | str:
            note = text.strip()
            if not note:
                return "a note says something; escape leaves"

            def work() -> str:
                note_on(folder, event, note, user_name())
                self._list.notes[event.number] = note
                return "noted"

            return begin_elsewhere(self.context, "note", "noting …", work, (NotThere,))

        what = f"{event.device or event.line} {event.kind.value}".strip()
        self.context.ask(
            f"a note on {what} at {moment_text(event.wall_s)}", self._list.notes.get(event.number, ""), take
        )

    def action_export(self) -> None:
        """What is listed, as the journal has it."""
        folder = self._folder
        if folder is None:
            self.context.tell("nothing is kept of this site yet: it is not on disk")
            return
        begun = {round(event.wall_s * 1e6) for event in self._events()}
        name = self.snapshot.site.name

        def take(text: str) -> str | None:
            try:
                path = expanded(text)
            except ValueError as error:
                return str(error)
            form = LOG_FORMS.get(path.suffix.lower())
            if form is None:
                return f"{path.name} does not tell its form; end it in .csv, .jsonl or .txt"
            if path.exists():
                return f"{path} is there already, and stays as it is; name another file"
            try:
                count = write_listed(folder, path, form, begun, name)
            except OSError as error:
                return f"{path} cannot be written: {error.strerror or error}"
            self.context.tell(f"{count} events written to {path}")
            return None

        self.context.ask("save what is listed (.csv, .jsonl, .txt)", "~/log.txt", take)

    def action_failed(self) -> None:
        self._only_failed = not self._only_failed
        self.context.redraw()
