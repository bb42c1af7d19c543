"""Starts the application: the engine on its thread, the screen on this one, and both ended in order."""

import os
import signal
import sys

from kanaleto.files.loading import LoadedSite
from kanaleto.lines.openfiles import raise_limit
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.shared.look import LEAST_COLUMNS, LEAST_ROWS


class NoScreen(Exception):
    """One sentence: why there can be no screen here."""


def _end_on_signals(app: KanaletoApp) -> None:
    """SIGTERM and a terminal that goes away end the application as quitting does."""

    def end(number: int, frame: object) -> None:
        if number != signal.SIGTERM:  # nothing can be drawn any more, and nothing of ours is to fail for it
            nowhere = os.open(os.devnull, os.O_RDWR)
            for descriptor in (1, 2):
                os.dup2(nowhere, descriptor)
        if app.is_running:  # else it is ending already
            app.exit()

    for name in ("SIGTERM", "SIGHUP"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), end)


def _has_hung_up() -> bool:
    return not sys.stdout.isatty()


def need_screen() -> None:
    """Raises NoScreen where there can be none."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise NoScreen("the application needs a terminal; in a pipe use kanaleto poll SITE")
    size = os.get_terminal_size()
    if size.columns < LEAST_COLUMNS or size.lines < LEAST_ROWS:
        here = f"this terminal is {size.columns}×{size.lines}"
        raise NoScreen(f"{here}; the application needs at least {LEAST_COLUMNS}×{LEAST_ROWS}, and shows most at 160×47")


def run_application(
    engine: Engine, loaded: LoadedSite, theme: str, for_s: float | None, is_read_only: bool = False
) -> None:
    """Start the engine, and run until the user quits, or `for_s` is over. Raises the error of ours that ended it."""
    raise_limit()
    engine.start()
    app = KanaletoApp(engine, loaded, theme, for_s, is_read_only)
    _end_on_signals(app)
    try:
        app.run()
    except OSError:
        if not _has_hung_up():
            raise
    finally:
        app.writing.stop()
        app.door.close()
        engine.stop()
        app.keeping.stop()
        app.holder.close()
    if app.crash is not None:
        raise app.crash
