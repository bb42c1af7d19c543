"""Wires the views together. It owns the moment: what every widget draws from, taken four times a second."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from textual import events
from textual.app import App, ComposeResult, SystemCommand
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import Screen
from textual.widgets import ContentSwitcher, Input, Static

from kanaleto.demo.start import CannotStart
from kanaleto.polling.engine import Engine
from kanaleto.polling.session import LineStatus
from kanaleto.site.edit import set_device_keys
from kanaleto.site.faults import FaultyFile
from kanaleto.site.link import Link
from kanaleto.site.model import Site
from kanaleto.site.watch import SiteFiles
from kanaleto.site.workspace import CannotEdit
from kanaleto.tui.find.view import FindView
from kanaleto.tui.frame.keyrow import KeyRow
from kanaleto.tui.frame.keys import Keys
from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.frame.toprow import TopRow
from kanaleto.tui.live.view import LiveView
from kanaleto.tui.map.view import MapView
from kanaleto.tui.scratch.form import ScratchForm
from kanaleto.tui.shared.holder import SiteHolder
from kanaleto.tui.shared.look import PALETTES, Palette, theme_of
from kanaleto.tui.shared.prompt import Prompt
from kanaleto.tui.start import LEAST_COLUMNS, LEAST_ROWS
from kanaleto.tui.wire_view.view import WireView

TICK_S = 0.25
_NOTICE_S = 5.0
_TWICE_S = 6.0
_FILES_S = 2.0


@dataclass(frozen=True, slots=True)
class Moment:
    """What the engine said at one loop time."""

    now_s: float
    lines: tuple[LineStatus, ...]
    is_held: bool


class KanaletoApp(App[None]):
    TITLE = "Kanaleto"
    CSS_PATH = "app.tcss"
    ENABLE_COMMAND_PALETTE = True
    COMMAND_PALETTE_BINDING = "ctrl+p"
    BINDINGS = [
        Binding("1", "view('1')", show=False),
        Binding("2", "view('2')", show=False),
        Binding("3", "view('3')", show=False),
        Binding("4", "view('4')", show=False),
        Binding("space", "hold", show=False),
        Binding("n", "count", show=False),
        Binding("r", "scratch", show=False),
        Binding("ctrl+z", "undo", show=False),
        Binding("ctrl+y", "redo", show=False),
        Binding("ctrl+s", "save_as", show=False),
        Binding("ctrl+n", "new_site", show=False),
        Binding("L", "lanes", show=False),
        Binding("question_mark", "keys", show=False),
        Binding("slash", "filter", show=False),
        Binding("escape", "back", show=False),
        Binding("q", "quit", show=False),
        Binding("ctrl+q", "quit", show=False),
    ]
    view_titles = (("1", "Find"), ("2", "Map"), ("3", "Live"), ("4", "Wire"))

    def __init__(self, engine: Engine, theme_name: str, for_s: float | None = None) -> None:
        super().__init__()
        self.engine = engine
        self.holder = SiteHolder(engine.session.site)
        self.moment = Moment(engine.now_s(), engine.status(), engine.session.is_held)
        self.counts_as_wire = False
        self.notice = ""
        self.current_digit = "3" if self.site.lines else "1"
        self.crash: Exception | None = None
        self._theme_name = theme_name
        self._for_s = for_s
        self._asked_twice: tuple[str, float] = ("", 0.0)
        self._files = SiteFiles(self.site)

    @property
    def site(self) -> Site:
        return self.engine.session.site

    def _handle_exception(self, error: Exception) -> None:
        """An error of ours ends the application; it is told in one sentence by whoever started it, not by a traceback on the screen."""
        self.crash = self.crash or error
        self.exit()

    async def on_event(self, event: events.Event) -> None:
        """Keys that are no text are acted on at once, one after the other, so that what is typed ahead goes where the focus is by then."""
        if isinstance(event, events.Key) and not event.is_forwarded:
            is_text = isinstance(self.focused, Input | ScratchForm) or len(self.screen_stack) > 1
            if not is_text and await self._check_bindings(event.key):
                return
        await super().on_event(event)

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return theme_of("lagoon").variables  # style sheets are read before a theme is set

    @property
    def palette(self) -> Palette:
        return PALETTES.get(self.theme, PALETTES["lagoon"])

    def compose(self) -> ComposeResult:
        yield TopRow()
        with ContentSwitcher(initial=f"view-{self.current_digit}", id="views"):
            yield FindView(id="view-1")
            yield MapView(id="view-2")
            yield LiveView(id="view-3")
            yield WireView(id="view-4")
            yield Keys(id="keys")
        with Vertical(id="foot"):
            yield Lanes()
            yield Prompt()
            yield KeyRow()
        yield Static(id="too-small")

    def on_mount(self) -> None:
        for name in PALETTES:
            self.register_theme(theme_of(name))
        self.theme = self._theme_name
        self.set_interval(TICK_S, self.tick)
        self.set_interval(_FILES_S, self._look_at_files)
        if self._for_s is not None:
            self.set_timer(self._for_s, self.exit)
        self._focus_view()
        self.tick()

    def on_resize(self) -> None:
        size = self.size
        is_small = size.width < LEAST_COLUMNS or size.height < LEAST_ROWS
        self.screen.set_class(is_small, "-small")
        self.query_one("#too-small", Static).update(
            f"{size.width}×{size.height} is too small: enlarge the terminal to {LEAST_COLUMNS}×{LEAST_ROWS} or more."
            " Polling goes on; q quits."
        )

    def tick(self) -> None:
        """Take a moment and draw what is in sight."""
        if self.engine.failure is not None:
            self.crash = self.engine.failure
            self.exit()
            return
        self.moment = Moment(self.engine.now_s(), self.engine.status(), self.engine.session.is_held)
        self.query_one(TopRow).refresh()
        self.query_one(Lanes).tick()
        self.query_one(KeyRow).refresh()
        view = self._view()
        if view is not None:
            view.tick()

    def _look_at_files(self) -> None:
        """A site file that was edited meanwhile is taken over, or its faults are told."""
        if self._files.have_changed():
            self.run_worker(self._take_over, thread=True, exclusive=True)

    def _take_over(self) -> None:
        try:
            site = self._files.load()
        except FaultyFile as faulty:
            more = f", and {len(faulty.faults) - 1} more" if len(faulty.faults) > 1 else ""
            self.call_from_thread(self.tell, f"the site was edited and not taken over: {faulty.faults[0]}{more}")
            return
        self.engine.do(lambda session: session.take_over(site))
        self.call_from_thread(self.tell, f"{site.name} was edited and taken over")

    def _view(self) -> FindView | MapView | LiveView | WireView | None:
        current = self.query_one("#views", ContentSwitcher).current
        if current == "view-1":
            return self.query_one(FindView)
        if current == "view-2":
            return self.query_one(MapView)
        if current == "view-3":
            return self.query_one(LiveView)
        return self.query_one(WireView) if current == "view-4" else None

    def _focus_view(self) -> None:
        view = self._view()
        if view is not None:
            view.focus_rows()
        else:
            self.screen.set_focus(self.query_one(Keys))

    def keys_here(self) -> list[tuple[str, str]]:
        """The keys that matter here and now; the last one is always shown."""
        view = self._view()
        if view is None:
            return [("escape", "go back"), ("q", "quit")]
        if isinstance(self.focused, Input):
            return [*view.keys_here(), ("ctrl+q", "quit")]
        hold = ("space", "resume polling" if self.moment.is_held else "hold polling")
        return [
            *view.keys_here(),
            hold,
            ("n", "manual's count" if self.counts_as_wire else "wire's count"),
            ("q", "quit"),
            ("?", "all keys"),
        ]

    def tell(self, notice: str) -> None:
        """A line of text instead of the keys, for a few seconds."""
        self.notice = notice
        self.query_one(KeyRow).refresh()
        self.set_timer(_NOTICE_S, lambda: self._untell(notice))

    def _untell(self, notice: str) -> None:
        if self.notice == notice:
            self.notice = ""
            self.query_one(KeyRow).refresh()

    # Actions

    def action_view(self, digit: str) -> None:
        self.current_digit = digit
        self.query_one("#views", ContentSwitcher).current = f"view-{digit}"
        self._focus_view()
        self.tick()

    def action_hold(self) -> None:
        held = not self.engine.session.is_held
        if held and not self.is_sure("space", "holding polling"):
            return
        self.engine.hold(held)
        self.tell("polling is held: values grow old until you resume it with space" if held else "polling goes on")

    async def action_quit(self) -> None:
        if self.is_sure("q", "quitting"):
            self.query_one(FindView).desk.close()
            self.exit()

    def is_sure(self, key: str, what: str, lines: set[str] | None = None) -> bool:
        """Where a device would do something of its own, once it is not asked any more, the same key is wanted twice. With `lines` only
        devices on those count."""
        devices = [] if self.engine.session.is_held else self.engine.session.at_risk()
        if lines is not None:
            there = {device.name for line in self.site.lines if line.name in lines for device in line.devices}
            devices = [device for device in devices if device.name in there]
        now = self.engine.now_s()
        if not devices or (self._asked_twice[0] == key and now - self._asked_twice[1] < _TWICE_S):
            return True
        self._asked_twice = (key, now)
        shortest = min(devices, key=lambda device: device.watchdog_s or 0)
        names = shortest.name if len(devices) == 1 else f"{shortest.name} and {len(devices) - 1} more"
        self.tell(f"{what} lets the watchdog of {names} trip after {shortest.watchdog_s:g} s: press {key} again if you mean it")
        return False

    # The site that is open

    def take_site(self, site: Site) -> None:
        """Go on with another or an edited site."""
        self.engine.do(lambda session: session.take_over(site))
        self._files = SiteFiles(site)

    def open_site(self, path: Path | None, is_unsaved: bool = False) -> None:
        """A site file, or the demo; what is open now stays on disk as it is."""
        self.tell("starting the demo's devices …" if path is None else f"opening {path.name} …")
        self.run_worker(lambda: self._open(path), thread=True, exclusive=True, group="open")

    def _open(self, path: Path | None) -> None:
        try:
            site = self.holder.open(path)
        except FaultyFile as faulty:
            self.call_from_thread(self.tell, f"{faulty.faults[0]}")
            return
        except CannotStart as error:
            self.call_from_thread(self.tell, str(error))
            return
        self.call_from_thread(self._show_site, site)

    def _show_site(self, site: Site) -> None:
        self.take_site(site)
        self.tell(f"{site.name} is open")
        self.action_view("3" if site.point_count else "1")

    def action_new_site(self) -> None:
        self.take_site(self.holder.new())
        self.action_view("1")
        self.tell("a new site: what is added is kept, and saved with ctrl+s where you want it")

    def action_save_as(self) -> None:
        start = "" if self.holder.is_unsaved else str(self.holder.workspace().path)
        self.query_one(Prompt).ask("save the site as", start or "~/", self._save_as)

    def _save_as(self, text: str) -> None:
        try:
            site = self.holder.save_as(text)
        except CannotEdit as error:
            self.tell(str(error))
            return
        self.take_site(site)
        self.tell(f"saved as {site.path}")

    def action_undo(self) -> None:
        self._turn_back("undone", self.holder.workspace().undo)

    def action_redo(self) -> None:
        self._turn_back("done again", self.holder.workspace().redo)

    def _turn_back(self, word: str, turn: Callable[[], tuple[str, Site]]) -> None:
        try:
            what, site = turn()
        except CannotEdit as error:
            self.tell(str(error))
            return
        self.take_site(site)
        self.tell(f"{word}: {what}")

    def show_map_of(self, link: Link, unit_id: int) -> None:
        """Look at the map of a device that was just added to or made."""
        view = self.query_one(MapView)
        view.show_device(link, unit_id)
        view.end_import()
        self.action_view("2")

    def action_scratch(self) -> None:
        self.action_view("1")
        self.query_one(FindView).open_scratch()

    def action_refocus(self) -> None:
        self._focus_view()

    def action_count(self) -> None:
        self.counts_as_wire = not self.counts_as_wire
        self.tell("addresses as the wire counts them, from 0" if self.counts_as_wire else "addresses as each device's manual counts them")
        self.tick()

    def action_lanes(self) -> None:
        lanes = self.query_one(Lanes)
        lanes.display = not lanes.display

    def action_keys(self) -> None:
        switcher = self.query_one("#views", ContentSwitcher)
        if switcher.current == "keys":
            self.action_back()
            return
        switcher.current = "keys"
        self._focus_view()

    def action_filter(self) -> None:
        view = self._view()
        if view is not None:
            view.open_filter()

    def action_back(self) -> None:
        view = self._view()
        if view is None:
            self.action_view(self.current_digit)
        else:
            view.back()

    def action_theme(self) -> None:
        self.theme = "fresco" if self.theme == "lagoon" else "lagoon"
        self.tick()

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        yield SystemCommand("Find", "go to ports, settings, units and registers", lambda: self.action_view("1"))
        yield SystemCommand("Scratch reading", "read some registers without a map", self.action_scratch)
        yield SystemCommand("New site", "what is open stays as it is on disk", self.action_new_site)
        yield SystemCommand("Save the site as", "a file of your own", self.action_save_as)
        yield SystemCommand("Undo", "the last edit of the site", self.action_undo)
        yield SystemCommand("Redo", "what was undone last", self.action_redo)
        yield SystemCommand("Map", "go to a device's registers", lambda: self.action_view("2"))
        yield SystemCommand("Live", "go to all points by device", lambda: self.action_view("3"))
        yield SystemCommand("Wire", "go to the exchanges and their bytes", lambda: self.action_view("4"))
        yield SystemCommand("Hold or resume polling", "on every line", self.action_hold)
        yield SystemCommand("Turn the count", "addresses as the manual or as the wire counts them", self.action_count)
        yield SystemCommand("Lanes", "hide or show them", self.action_lanes)
        yield SystemCommand("Filter", "what is shown", self.action_filter)
        yield SystemCommand("Change theme", "lagoon (dark) or fresco (light)", self.action_theme)
        yield SystemCommand("Keys", "all of them", self.action_keys)
        yield SystemCommand("One cycle", "ask every block once, held or not", lambda: self.engine.do(lambda session: session.cycle()))
        yield SystemCommand("Reset counts", "of every device", lambda: self.engine.do(lambda session: session.reset_counts()))
        yield SystemCommand("Save what was learned", "limits and missing addresses, to the site file", self._save_lessons)
        yield from self._commands_here()
        yield SystemCommand("Quit", "end the application", self.action_quit)

    def _commands_here(self) -> Iterable[SystemCommand]:
        """What can be done with the point, device and line that the cursor is on."""
        place = self.query_one(LiveView).current_place
        if place is None:
            return
        device, line, point = place.device.name, place.line.name, place.point.name
        do = self.engine.do
        yield SystemCommand(f"Ask {device} now", "whatever its back-off", lambda: do(lambda s: s.ask_device(device)))
        yield SystemCommand(f"Reconnect {line} now", "whatever its pause", lambda: do(lambda s: s.reconnect(line)))
        for is_on, word in ((False, "off"), (True, "on")):
            switch = partial(self._switch, is_on)
            yield SystemCommand(f"Switch {point} {word}", f"of {device}", partial(switch, device, {point}))
            yield SystemCommand(f"Switch {device} {word}", "all of its points", partial(switch, device, None))
            yield SystemCommand(
                f"Switch {line} {word}", "close it, or open it again", partial(do, lambda s, on=is_on: s.switch_line(line, on))
            )

    def _switch(self, is_on: bool, device: str, points: set[str] | None) -> None:
        self.engine.do(lambda session: session.switch_points(device, is_on, points))

    def _save_lessons(self) -> None:
        changes = self.engine.session.learned()
        if not changes or self.site.path is None:
            self.tell("nothing was learned yet that the site file does not say")
            return
        try:
            found = set_device_keys(self.site.path, changes)
        except OSError as error:
            self.tell(f"the site file cannot be written: {error.strerror}")
            return
        self.tell(f"saved to {self.site.path.name}: what was learned of {', '.join(found)}")
