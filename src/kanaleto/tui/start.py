"""Starts the application: the engine on its thread, the screen on this one, and both ended in order."""

import os
import sys

from kanaleto.files.loading import LoadedSite
from kanaleto.polling.engine import Engine
from kanaleto.tui.shared.look import LEAST_COLUMNS, LEAST_ROWS


class NoScreen(Exception):
    """One sentence: why there can be no screen here."""


def run_application(loaded: LoadedSite, theme: str, for_s: float | None) -> None:
    """Run until the user quits, or `for_s` is over. Raises NoScreen, or the error of ours that ended it."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise NoScreen("the application needs a terminal; in a pipe use kanaleto poll SITE")
    size = os.get_terminal_size()
    if size.columns < LEAST_COLUMNS or size.lines < LEAST_ROWS:
        here = f"this terminal is {size.columns}×{size.lines}"
        raise NoScreen(f"{here}; the application needs at least {LEAST_COLUMNS}×{LEAST_ROWS}, and shows most at 160×47")
    from kanaleto.tui.app import KanaletoApp

    engine = Engine(loaded.site)
    engine.start()
    app = KanaletoApp(engine, loaded, theme, for_s)
    try:
        app.run()
    finally:
        app.door.close()
        engine.stop()
        app.holder.close()
    if app.crash is not None:
        raise app.crash
