"""Wires the views together: takes the engine's latest snapshot four times a second and shows it to the view in sight,
passes keys and messages on, and stands for the context that everything drawn reaches."""

import asyncio
import time
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from importlib import import_module
from inspect import isawaitable
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from textual import actions, events
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.filter import ANSIToTruecolor, LineFilter
from textual.widget import MountError
from textual.widgets import ContentSwitcher, Static

from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.news import Done, Opened
from kanaleto.editing.workingcopy import Edit
from kanaleto.files.loading import LoadedSite
from kanaleto.polling.engine import Engine
from kanaleto.polling.session import Session
from kanaleto.supervision.owned import Failure, follow, leave
from kanaleto.tui.frame.everywhere import EVERYWHERE, UNLESS_TAKEN
from kanaleto.tui.frame.keeping import AppKeeping
from kanaleto.tui.frame.keyrow import KeyRow, keys_here
from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.frame.later import Afterwards, Later
from kanaleto.tui.frame.opened import OpenedSite, error_of, sentence
from kanaleto.tui.frame.sending import Sending
from kanaleto.tui.frame.standing import Standing
from kanaleto.tui.frame.toprow import TopRow
from kanaleto.tui.frame.twice import EDITING, Twice
from kanaleto.tui.frame.writing import AppWriting
from kanaleto.tui.parts import PARTS
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.bench import AppBench
from kanaleto.tui.shared.bridging import AppBridging
from kanaleto.tui.shared.context import Listed, Then
from kanaleto.tui.shared.keyed import Keyed
from kanaleto.tui.shared.line import InputLine
from kanaleto.tui.shared.look import LEAST_COLUMNS, LEAST_ROWS, Palette, palettes_for, theme_of
from kanaleto.tui.shared.pacing import MOST_BEHIND
from kanaleto.tui.shared.page import Page
from kanaleto.tui.shared.presses import Presses
from kanaleto.tui.shared.prompt import Prompt, PromptList
from kanaleto.tui.shared.proofing import AppProof
from kanaleto.tui.shared.question import WriteQuestion
from kanaleto.tui.shared.toolkit import Terminal
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.views import FIND, VIEWS, Entry
from kanaleto.tui.shared.wishes import Request, ShowMoment

if TYPE_CHECKING:
    from kanaleto.control.alives import Offer
    from kanaleto.control.control import Control
    from kanaleto.control.preview import Spot

TICK_S = 0.25
_NOTICE_S, _MOMENT_S = 5.0, 2.0
_MOST_EARLY = 400


class KanaletoApp(Terminal):
    TITLE = "Kanaleto"
    CSS_PATH = Path(__file__).with_name("app.tcss")
    ENABLE_COMMAND_PALETTE = False
    AUTO_FOCUS = None  # what has the keys is said by the views, on a slow machine too
    BINDINGS = [
        *(Binding(digit, f"view('{digit}')", show=False) for digit in "1234567"),
        *(Binding(action.keys, action.do, show=False) for action in (*EVERYWHERE, *UNLESS_TAKEN) if action.keys),
    ]
    views: ClassVar[tuple[Entry, ...]] = VIEWS
    everywhere: ClassVar[tuple[Action, ...]] = (*EVERYWHERE, *UNLESS_TAKEN)
    capture: Path | None = None
    reading_from = ""

    def __init__(
        self,
        engine: Engine,
        loaded: LoadedSite,
        theme_name: str,
        for_s: float | None = None,
        is_read_only: bool = False,
    ) -> None:
        super().__init__()
        self.engine = engine
        self._afterwards = Afterwards(self)
        self.keeping = AppKeeping(self)
        self.bench = AppBench(self)
        self.bridging = AppBridging(self, is_read_only)
        self.proof = AppProof(self)
        self.opened = OpenedSite(self, loaded, self.keeping, self.bench)
        self.door, self.holder = self.opened.door, self.opened.holder
        self.writing = AppWriting(self, self.keeping, is_read_only)
        self._snapshot = engine.snapshot
        self.counts_as_wire = False
        self.notice, self._said_s = "", 0.0
        self.troubles: dict[str, str] = {}
        self.current_digit = "3" if loaded.site.lines else "1"
        self.crash: BaseException | None = None
        self._theme_name = theme_name
        self._for_s = for_s
        self._twice = Twice()
        self.sending = Sending(self)
        self.view_classes: list[type[View]] = []
        self.presses = Presses(self._take_unlocking_back, self.tell)
        self.is_whole = False
        self._is_shown = False
        self._early: deque[events.Key | events.Paste | Later] = deque()
        """What came before all was there, in its order; keys are bounded, what was promised to others is not lost."""

    # What everything drawn reaches

    @property
    def snapshot(self) -> Snapshot:
        return self._snapshot

    @property
    def palette(self) -> Palette:
        return palettes_for(self.console.color_system)["fresco" if self.theme == "fresco" else "lagoon"]

    @property
    def moment(self) -> float | None:
        return self.sending.moment

    async def show_moment(self, wanted: ShowMoment) -> None:
        await self.sending.show(wanted)

    def go_live(self) -> None:
        self.sending.go_live()

    def tell(self, notice: str, gives_way: bool = False) -> None:
        now_s = time.monotonic()
        if gives_way and self.notice and now_s - self._said_s < _MOMENT_S:
            return
        self.notice, self._said_s = notice, now_s
        self.query_one(KeyRow).refresh()
        self.set_timer(_NOTICE_S, lambda: self._untell(now_s))

    def _untell(self, said_s: float) -> None:
        self.notice = "" if self._said_s == said_s else self.notice
        self.query_one(KeyRow).refresh()

    def trouble(self, kind: str, text: str) -> None:
        if text:
            self.troubles[kind] = text
        else:
            self.troubles.pop(kind, None)
        self.query_one(Standing).take(tuple(self.troubles.values()))

    def ask(self, question: str, answer: str, then: Then, is_added_to: bool = False, listed: Listed = ()) -> None:
        self.query_one(Prompt).ask(question, answer, then, is_added_to, listed)

    def edit(
        self, edit: Edit, opened: Opened | None = None, then: Callable[[Done], None] | None = None
    ) -> "Future[Done]":
        refused = self.writing.why_not_edited()
        return refused if refused is not None else self.opened.edit(edit, opened, then)

    @property
    def control(self) -> "Control":
        return self.writing.control

    def write(self, spots: "Sequence[Spot]", bit: int | None = None, text: str | None = None) -> None:
        self.writing.write(spots, bit, text)

    def take_up(self, offer: "Offer") -> None:
        self.writing.take_up(offer)

    def ask_to_write(self, question: WriteQuestion) -> None:
        self.writing.ask_to_write(question)

    def close_prompt(self) -> None:
        self.query_one(Prompt).close()

    def do(self, what: Callable[[Session], object], text: str = "") -> None:
        """On the engine's loop; `text` is shown once it is done."""
        done = self.engine.do(what)

        def came() -> None:
            error = error_of(done)
            if error is not None or text:
                self.tell(sentence(error) if error is not None else text)

        done.add_done_callback(lambda _: self.later(came))

    def later(self, what: Callable[[], object]) -> None:
        self._afterwards.do(what)

    async def on_later(self, message: Later) -> None:
        if not self.is_whole:
            self._early.append(message)
            return
        came = message.what()
        if isawaitable(came):
            await came

    def redraw(self) -> None:
        self.tick()

    def refocus(self) -> None:
        view = self._view()
        if view is not None:
            view.focus_rows()
        else:
            self.query_one(f"#{self.query_one('#views', ContentSwitcher).current}", Page).focus_rows()

    def is_sure(self, key: str, what: str, lines: set[str] | None = None) -> bool:
        users = self.writing.users_of(lines) if key != "space" else []  # held or not, what is kept alive goes on
        users += self.writing.owed_to(lines) if key not in ("space", EDITING) else []
        if key == "q" and self.is_whole:  # before, a view may not have what it would lose
            users = [*users, *(lost for view in self.query(View) for lost in view.would_be_lost())]
        return self._twice.is_sure(self, key, what, lines, users)

    def switch(self, what: str, lines: set[str] | None, do: Callable[[Session], object], text: str = "") -> None:
        """Switch something off; what is kept alive there is asked about."""
        if not [*self.writing.users_of(lines), *self.writing.owed_to(lines)] or self.is_sure(what, what, lines):
            self.do(do, text)

    # Life

    def failed(self, error: Exception) -> None:
        """An internal error ends the application; whoever started it tells it in one sentence."""
        self.crash = self.crash or error
        self.exit()

    def give_terminal_up(self, at_s: float) -> None:
        """From then on (of the monotonic clock) nothing is drawn any more. For any thread, and for a signal."""
        flow = self.flow
        if flow is not None and (flow.give_up_at is None or at_s < flow.give_up_at):
            flow.give_up_at = at_s

    @property
    def is_behind(self) -> bool:
        """Whether what is drawn at rest should wait for the terminal."""
        return self.flow is not None and self.flow.behind > MOST_BEHIND

    @property
    def has_gone_out(self) -> bool:
        """Whether all that was drawn has left for the terminal."""
        return self.flow is None or self.flow.behind <= 0

    def get_line_filters(self) -> list[LineFilter]:
        """All colours here are true ones: nothing needs to be made so, line by line."""
        return [one for one in super().get_line_filters() if not isinstance(one, ANSIToTruecolor)]

    async def take_input(self, event: events.Key | events.Paste) -> None:
        """Those that come before all is there are kept until it is: nothing ever waits inside the pump."""
        if self.is_whole:
            await self._take_input(event)
        elif self._is_shown and isinstance(event, events.Key) and event.key == "ctrl+q":
            await self.action_quit()  # whoever wants to leave does not wait for the rest
        elif len(self._early) < _MOST_EARLY:
            self._early.append(event)

    async def _take_input(self, event: events.Key | events.Paste) -> None:
        self.writing.lock.note_key()
        if isinstance(event, events.Key):
            self.presses.note_key(event.key, event.time)
            why = self.presses.swallows(event.key, event.is_printable)
            if why:
                self.tell(f"{why}; what is typed does nothing")
            else:
                await self.take_key(event)
        else:
            self.presses.note_paste(event.time)
            self.take_paste(event.text)

    async def _hand_over_early(self) -> None:
        """What came too early is done now, one after the other; what comes meanwhile stands behind it."""
        self.presses.is_early = True
        while self._early and not self.is_ending:
            event = self._early.popleft()
            if isinstance(event, Later):
                came = event.what()
                if isawaitable(came):
                    await came
            else:
                await self._take_input(event)
        self.presses.is_early = False
        self.is_whole = True

    def _take_unlocking_back(self) -> None:
        """What unlocked writing was the first character of pasted text."""
        self.writing.take_back(text := "writing is locked: that u came with a burst of keys; press it again, alone")
        self.tell(text)

    async def take_key(self, event: events.Key) -> None:
        if await self.do_bound(event.key, has_priority=True):
            return
        keyed = self.focused
        if not (isinstance(keyed, Keyed) and await keyed.take_key(event)):
            await self.do_bound(event.key)

    def take_paste(self, text: str) -> None:
        for keyed in (self.focused, self._view()):
            if isinstance(keyed, Keyed) and keyed.take_paste(text):
                return

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """A prompt owns all keys while it is open."""
        if action in ("quit", "help_quit") or not self.is_running:
            return True
        return not any(prompt.is_open for prompt in self.query(Prompt))

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return theme_of("lagoon", self.console.color_system).variables  # style sheets are read before a theme is set

    def compose(self) -> ComposeResult:
        yield TopRow([(view.digit, view.title) for view in self.views])
        first = next(view for view in self.views if view.digit == self.current_digit)
        with ContentSwitcher(initial=f"view-{first.digit}", id="views"):
            yield first.load()(id=f"view-{first.digit}")
        with Vertical(id="foot"):
            yield Lanes()
            yield Standing()
            yield PromptList()
            yield Prompt()
            yield KeyRow()
        yield Static(id="too-small")

    def on_mount(self) -> None:
        self._afterwards.loop = asyncio.get_running_loop()
        for name in palettes_for(None):
            self.register_theme(theme_of(name, self.console.color_system))
        self.theme = self._theme_name
        self.set_interval(TICK_S, lambda: None if self.is_behind else self.tick())
        if self._for_s is not None:
            self.set_timer(self._for_s, self.exit)
        self.refocus()
        self.tick()
        self.opened.offer_crash()
        self.call_after_refresh(self._begin)

    def _begin(self) -> None:
        """What could not have the keys while nothing stood yet has them now."""
        self._is_shown = True
        if self.focused is None:
            self.refocus()
        self.keeping.begin()
        follow(self._hear_failure)
        self.run_worker(self._mount_rest())

    def on_unmount(self) -> None:
        leave(self._hear_failure)

    def _hear_failure(self, failure: Failure) -> None:
        """Of a part of this program, on whatever thread it happened; it is in the journal too."""
        self.later(lambda: self.trouble("fault", f"{failure.text}; the rest goes on"))

    async def _mount_rest(self) -> None:
        """What the first frame did not need. Keys that were typed by then are taken when all is there."""
        try:
            await self._mount_views()
        except MountError:  # the application was ended meanwhile
            if not self.is_ending:
                raise
            return
        await self._hand_over_early()
        for kind in PARTS:  # what the first key would wait for
            await asyncio.to_thread(import_module, f"kanaleto.tui.parts.{kind.name}.pane")

    async def _mount_views(self) -> None:
        switcher, shown = self.query_one("#views", ContentSwitcher), self.current_digit
        await asyncio.to_thread(import_module, "kanaleto.tui.frame.pages")
        from kanaleto.tui.frame.pages import mount_hidden, pages

        for entry in self.views:
            view_class = await asyncio.to_thread(entry.load)
            self.view_classes.append(view_class)
            if entry.digit != shown:
                await mount_hidden(switcher, view_class(id=f"view-{entry.digit}"))
        for page in pages(self):
            await mount_hidden(switcher, page)
        await self.writing.mount()

    def on_resize(self, event: events.Resize) -> None:
        size = event.size  # the application's own is the one before, for a while
        is_small = size.width < LEAST_COLUMNS or size.height < LEAST_ROWS
        self.screen.set_class(is_small, "-small")
        self.query_one("#too-small", Static).update(
            f"{size.width}×{size.height} is too small: enlarge the terminal to {LEAST_COLUMNS}×{LEAST_ROWS} or more."
            " Polling goes on; q quits."
        )

    def tick(self) -> None:
        """Take the latest snapshot and draw what is in sight from it."""
        failure = self.engine.failure or self.keeping.failure
        if failure is not None:
            self.failed(failure)
            return
        if not self.screen_stack or not self.is_running:
            return
        self._snapshot = self.engine.snapshot
        self.bridging.follow(self._snapshot)
        self.bench.at_tick()
        self.query_one(TopRow).redraw()
        self.query_one(Lanes).show(self._snapshot)
        self.query_one(KeyRow).redraw()
        self.writing.show()
        view = self._view()
        if view is not None:
            view.show(self._snapshot)

    def _view(self) -> View | None:
        """The view in sight."""
        current = self.query_one("#views", ContentSwitcher).current or ""
        return self.view_of(current[-1]) if current.startswith("view-") else None

    def view_of(self, digit: str) -> View:
        return self.query_one(f"#view-{digit}", View)

    def keys_here(self) -> list[Key]:
        """The keys that matter here and now; the last one is always shown."""
        if self.writing.line is not None and self.writing.line.is_open:
            return self.writing.line.keys_here()
        is_page = self.query_one("#views", ContentSwitcher).current == "keys"
        prompt, typed = self.query_one(Prompt), self.focused if isinstance(self.focused, InputLine) else None
        return keys_here(self, self._view(), is_page, prompt.is_open, typed, prompt.has_list)

    # What views ask of each other

    def send(self, request: Request) -> None:
        self.sending.do(request)

    # Actions

    def action_view(self, digit: str) -> None:
        if digit not in {view.digit for view in self.views}:
            return
        self.current_digit = digit
        self.query_one("#views", ContentSwitcher).current = f"view-{digit}"
        self.tick()  # first what there is, then what of it has the keys
        self.refocus()
        self.tick()

    @property
    def recording(self) -> str:
        return self.keeping.recording

    async def action_quit(self) -> None:
        if self.is_sure("q", "quitting"):
            for view in self.query(View):
                view.close()
            self.exit()

    def action_scratch(self) -> None:
        from kanaleto.tui.find.view import FindView  # which is loaded by now

        self.action_view(FIND)
        self.query_one(FindView).open_scratch()

    def action_keys(self) -> None:
        switcher = self.query_one("#views", ContentSwitcher)
        if switcher.current == "keys":
            self.action_leave()
        else:
            self.query_one("#keys", Page).begin()
            switcher.current = "keys"
            self.refocus()

    def action_events(self) -> None:
        """The error log, or back to where one was."""
        self.trouble("missed", "")
        self.show_page("view-E")

    def show_page(self, name: str) -> None:
        """A page in place of the view, or back to the view where it is shown already."""
        switcher = self.query_one("#views", ContentSwitcher)
        if switcher.current == name:
            self.action_view(self.current_digit)
            return
        switcher.current = name
        self.tick()
        self.refocus()

    def action_filter(self) -> None:
        view = self._view()
        if view is not None:
            view.open_filter()

    def action_leave(self) -> None:
        for kind in ("edit", "open", "answer", "crash", "record", "missed"):
            self.trouble(kind, "")  # seen, and dismissed
        view = self._view()
        if view is None:
            self.action_view(self.current_digit)
        else:
            view.back()

    def action_find(self) -> None:
        """Whatever can be done here, by name."""
        self.query_one("#finder", Page).begin()
        self.query_one("#views", ContentSwitcher).current = "finder"
        self.refocus()

    def action_lock(self) -> None:
        view = self._view()
        self.tell(self.writing.turn_lock(view.device_here if view is not None else ""))
        self.tick()

    def action_hold(self) -> None:
        held = not self.snapshot.is_held
        if held and not self.is_sure("space", "holding polling"):
            return
        self.do(lambda session: session.hold(held))
        self.tell("polling is held: values grow old until you resume it with space" if held else "polling goes on")

    def action_theme(self) -> None:
        self.theme = "fresco" if self.theme == "lagoon" else "lagoon"
        self.tell(f"theme {self.theme}, {'dark' if self.theme == 'lagoon' else 'light'}")
        self.tick()

    def action_record(self) -> None:
        self.keeping.record()

    def action_same_points(self) -> None:
        self.tell(self.keeping.take_as_same())

    def action_note(self) -> None:
        self.keeping.ask_note()

    def action_count(self) -> None:
        self.counts_as_wire = not self.counts_as_wire
        how = "the wire counts them, from 0" if self.counts_as_wire else "each device's manual counts them"
        self.tell(f"addresses as {how}")
        self.tick()

    def action_lanes(self) -> None:
        lanes = self.query_one(Lanes)
        lanes.display = not lanes.display
        self.tell("the lanes are shown" if lanes.display else "the lanes are hidden: L shows them")

    def action_lanes_by(self, step: int) -> None:
        lanes = self.query_one(Lanes)
        lanes.display = True
        lanes.step(step)

    def action_go_live(self) -> None:
        self.go_live()
        self.tell("all views follow what is read now")

    async def action_past(self) -> None:
        await self.sending.open_part("past")

    async def action_moved(self) -> None:
        await self.sending.open_part("moved")

    def action_new_site(self) -> None:
        self.opened.new_site()

    def action_join(self) -> None:
        self.bridging.through.turn()

    def action_save_as(self) -> None:
        self.opened.save_as()

    def action_undo(self) -> None:
        self.opened.undo()

    def action_redo(self) -> None:
        self.opened.redo()

    def action_save_lessons(self) -> None:
        self.opened.save_lessons()

    def action_cycle(self) -> None:
        self.do(lambda session: session.cycle(), "every block is asked once now")

    def action_reset_counts(self) -> None:
        self.do(lambda session: session.reset_counts(), "the counts of every device begin at 0 again")

    def action_take_up(self) -> None:
        """The newest that an outage ended; where there is none, the list of what acts."""
        offers = list(self.control.alives.offers)
        if offers:
            self.writing.take_up(offers[-1])
        else:
            self.action_acting()

    def action_acting(self) -> None:
        """What acts now, or back to where one was."""
        from kanaleto.tui.frame.pages import ACTING

        self.show_page(ACTING)

    def perform(self, action: str, digit: str) -> None:
        """Do an action by its name: a view's own, in that view, or one of the frame's where `digit` is empty."""
        if digit and digit != self.current_digit:
            self.action_view(digit)
        _, name, parameters = actions.parse(action)
        came = getattr(self.view_of(digit) if digit else self, f"action_{name}")(*parameters)
        if isawaitable(came):
            self.run_worker(came)
