"""The application on a capture: Wire alone. There is no site: nothing is polled, and nothing can be sent."""

from pathlib import Path

from kanaleto.files.loading import LoadedSite
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.shared.views import VIEWS, WIRE

_ALSO = frozenset(("filter", "count", "find", "keys", "leave", "theme", "quit", "help_quit", "view"))


class CaptureApp(KanaletoApp):
    """`capture` is what was opened; `loaded` an empty site that has its name."""

    views = tuple(entry for entry in VIEWS if entry.digit == WIRE)
    everywhere = tuple(action for action in KanaletoApp.everywhere if action.name in _ALSO)

    def __init__(self, engine: Engine, loaded: LoadedSite, theme_name: str, capture: Path) -> None:
        super().__init__(engine, loaded, theme_name, None, is_read_only=True)
        self.capture = capture
        self.reading_from = capture.name
        self.current_digit = WIRE

    def on_mount(self) -> None:
        super().on_mount()
        self.query_one(Lanes).display = False

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """What needs a site has no key here."""
        return action in _ALSO and super().check_action(action, parameters)

    def go_live(self) -> None:
        """All that there is stands still."""
