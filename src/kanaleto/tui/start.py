"""Starts the application: the engine on its thread, the screen on this one, and both ended in order."""

import logging
import os
import sys
import threading
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kanaleto.editing.crashes import keep_fault
from kanaleto.files.loading import LoadedSite
from kanaleto.lines.openfiles import raise_limit
from kanaleto.polling.engine import Engine
from kanaleto.supervision.drill import begin_drill
from kanaleto.supervision.owned import Failure, follow, leave, report
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.ending import Ending, Step, tell_terminal
from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.shared.look import LEAST_COLUMNS, LEAST_ROWS
from kanaleto.tui.shared.views import VIEWS, WIRE
from kanaleto.values.visible import visible

_WRITING = "writing"


_ALSO = frozenset(("filter", "count", "find", "keys", "leave", "theme", "quit", "help_quit", "view"))


class CaptureApp(KanaletoApp):
    """The application on a capture: Wire alone. There is no site: nothing is polled, and nothing can be sent. `capture`
    is what was opened; `loaded` an empty site that has its name."""

    views = tuple(entry for entry in VIEWS if entry.digit == WIRE)
    everywhere = tuple(action for action in KanaletoApp.everywhere if action.name in _ALSO)

    def __init__(self, engine: Engine, loaded: LoadedSite, theme_name: str, capture: Path) -> None:
        super().__init__(engine, loaded, theme_name, None, is_read_only=True)
        self.capture = capture
        self.reading_from = capture.name
        self.current_digit = WIRE

    def on_mount(self) -> None:
        """Beside what the application does then: each class's own is called."""
        self.query_one(Lanes).display = False

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """What needs a site has no key here."""
        return action in _ALSO and super().check_action(action, parameters)

    def go_live(self) -> None:
        """All that there is stands still."""


class NoScreen(Exception):
    """One sentence: why there can be no screen here."""


def need_screen() -> None:
    """Raises NoScreen where there can be none."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise NoScreen("the application needs a terminal; in a pipe use kanaleto poll SITE")
    size = os.get_terminal_size()
    if size.columns < LEAST_COLUMNS or size.lines < LEAST_ROWS:
        here = f"this terminal is {size.columns}×{size.lines}"
        raise NoScreen(f"{here}; the application needs at least {LEAST_COLUMNS}×{LEAST_ROWS}, and shows most at 160×47")


def _keep(failure: Failure) -> None:
    keep_fault(failure.error)


@contextmanager
def quiet_terminal() -> Iterator[None]:
    """Nothing but the screen writes to the terminal while it stands: what threads and libraries would print there is
    kept in a file. What a thread raises and nobody has foreseen is a failure."""

    def of_thread(failure: threading.ExceptHookArgs) -> None:
        if failure.exc_value is not None and failure.exc_type is not SystemExit:
            report(failure.thread.name if failure.thread is not None else "a thread", failure.exc_value)

    def unraisable(failure: "sys.UnraisableHookArgs") -> None:
        if failure.exc_value is not None:
            keep_fault(failure.exc_value)

    before = threading.excepthook, sys.unraisablehook, logging.lastResort
    threading.excepthook, sys.unraisablehook, logging.lastResort = of_thread, unraisable, logging.NullHandler()
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    finally:
        threading.excepthook, sys.unraisablehook, logging.lastResort = before


def run_application(
    engine: Engine, loaded: LoadedSite, theme: str, for_s: float | None, is_read_only: bool = False,
    capture: Path | None = None,
) -> None:  # fmt: skip
    """Start the engine, and run until the user quits, or `for_s` is over; on a capture where one is named. Raises the
    internal error that ended it."""
    raise_limit()
    follow(_keep)
    begin_drill()
    engine.start()
    if capture is not None:
        app: KanaletoApp = CaptureApp(engine, loaded, theme, capture)
    else:
        app = KanaletoApp(engine, loaded, theme, for_s, is_read_only)
    ending = Ending(app)
    ending.watch_signals()
    steps: list[Step] = [
        (_WRITING, 4.0, app.writing.stop),
        ("the site's editor", 3.0, app.door.close),
        ("polling", 3.0, engine.stop),
        ("what stands in", 4.0, app.bench.close),
        ("the checkout", 4.0, app.proof.close),
        ("what is kept", 4.0, app.keeping.stop),
        ("the demo", 6.0, app.holder.close),
    ]
    left: list[str] = []

    try:
        with quiet_terminal():
            ending.run_screen()
    finally:
        left = [*app.writing.left, *ending.carry_out(steps, hurried=(_WRITING,))]
        left += [text for text in app.writing.left if text not in left]
        for text in left:
            tell_terminal(f"kanaleto: {visible(text)}\n")
        leave(_keep)
    if app.crash is not None and not ending.signals:
        raise app.crash
