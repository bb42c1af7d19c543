"""Wires the views together. It owns the moment: what every widget draws from, taken four times a second."""

from collections.abc import Iterable
from dataclasses import dataclass

from textual.app import App, ComposeResult, SystemCommand
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import Screen
from textual.widgets import ContentSwitcher, Static

from kanaleto.polling.engine import Engine
from kanaleto.polling.session import LineStatus
from kanaleto.site.model import Site
from kanaleto.tui.frame.keyrow import KeyRow
from kanaleto.tui.frame.keys import Keys
from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.frame.toprow import TopRow
from kanaleto.tui.live.view import LiveView
from kanaleto.tui.shared.look import PALETTES, Palette, theme_of
from kanaleto.tui.start import LEAST_COLUMNS, LEAST_ROWS
from kanaleto.tui.wire_view.view import WireView

TICK_S = 0.25
_NOTICE_S = 4.0


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
        Binding("3", "view('3')", show=False),
        Binding("4", "view('4')", show=False),
        Binding("space", "hold", show=False),
        Binding("n", "count", show=False),
        Binding("L", "lanes", show=False),
        Binding("question_mark", "keys", show=False),
        Binding("slash", "filter", show=False),
        Binding("escape", "back", show=False),
        Binding("q", "quit", show=False),
        Binding("ctrl+q", "quit", show=False),
    ]
    view_titles = (("3", "Live"), ("4", "Wire"))

    def __init__(self, engine: Engine, theme_name: str, for_s: float | None = None) -> None:
        super().__init__()
        self.engine = engine
        self.site: Site = engine.session.site
        self.moment = Moment(engine.now_s(), engine.status(), engine.session.is_held)
        self.counts_as_wire = False
        self.notice = ""
        self.current_digit = "3"
        self._theme_name = theme_name
        self._for_s = for_s

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return theme_of("lagoon").variables  # style sheets are read before a theme is set

    @property
    def palette(self) -> Palette:
        return PALETTES.get(self.theme, PALETTES["lagoon"])

    def compose(self) -> ComposeResult:
        yield TopRow()
        with ContentSwitcher(initial="view-3", id="views"):
            yield LiveView(id="view-3")
            yield WireView(id="view-4")
            yield Keys(id="keys")
        with Vertical(id="foot"):
            yield Lanes()
            yield KeyRow()
        yield Static(id="too-small")

    def on_mount(self) -> None:
        for name in PALETTES:
            self.register_theme(theme_of(name))
        self.theme = self._theme_name
        self.set_interval(TICK_S, self.tick)
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
            raise self.engine.failure
        self.moment = Moment(self.engine.now_s(), self.engine.status(), self.engine.session.is_held)
        self.query_one(TopRow).refresh()
        self.query_one(Lanes).tick()
        self.query_one(KeyRow).refresh()
        view = self._view()
        if view is not None:
            view.tick()

    def _view(self) -> LiveView | WireView | None:
        current = self.query_one("#views", ContentSwitcher).current
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
        self.engine.hold(held)
        self.tell("polling is held: values grow old until you resume it with space" if held else "polling goes on")

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
        yield SystemCommand("Live", "go to all points by device", lambda: self.action_view("3"))
        yield SystemCommand("Wire", "go to the exchanges and their bytes", lambda: self.action_view("4"))
        yield SystemCommand("Hold or resume polling", "on every line", self.action_hold)
        yield SystemCommand("Turn the count", "addresses as the manual or as the wire counts them", self.action_count)
        yield SystemCommand("Lanes", "hide or show them", self.action_lanes)
        yield SystemCommand("Filter", "what is shown", self.action_filter)
        yield SystemCommand("Change theme", "lagoon (dark) or fresco (light)", self.action_theme)
        yield SystemCommand("Keys", "all of them", self.action_keys)
        yield SystemCommand("Quit", "end the application", self.exit)
