"""How far a terminal is behind: what was written for it and has not gone out yet. A slow one (a radio link, a modem) is
drawn on less often, and so never far behind a key."""

import asyncio
import os
from typing import Any, TextIO

from textual.app import App
from textual.driver import Driver
from textual.filter import ANSIToTruecolor, LineFilter

MOST_BEHIND = 2000
"""Characters: what is drawn at rest waits while more than these are under way."""


class Flow:
    """Stands for the terminal's file, and counts."""

    def __init__(self, file: TextIO) -> None:
        self._file = file
        self.asked = 0
        self.gone = 0

    @property
    def behind(self) -> int:
        return self.asked - self.gone

    def write(self, text: str) -> int:
        written = self._file.write(text)
        self._file.flush()
        self.gone += len(text)
        return written

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


def paced(base: type[Driver]) -> type[Driver]:
    """The toolkit's driver of a terminal with a flow that is counted; another driver as it is."""
    if base.__name__ != "LinuxDriver":
        return base

    class Paced(base):  # type: ignore[misc, valid-type]
        _file: Any
        _must_signal_resume: bool
        _is_waking = False

        def __init__(self, *arguments: Any, **named: Any) -> None:
            super().__init__(*arguments, **named)
            self.flow = self._file = Flow(self._file)

        def write(self, data: str) -> None:
            self.flow.asked += len(data)
            super().write(data)

        def _sigcont_application(self, *_: object) -> None:
            """Woken: by the shell that has the terminal since, by somebody who had stopped the process, or on the way
            out, by a terminal that goes away."""
            if self._is_waking or not self._auto_restart or not _runs() or not os.isatty(self.fileno):
                return
            self._is_waking = True  # another signal in the middle of this would begin it twice
            try:
                if not self._must_signal_resume:  # it was not told that it would be stopped
                    self.suspend_application_mode()
                    self._must_signal_resume = True
                self.resume_application_mode()
            finally:
                self._is_waking = False
            self._app.call_later(self._app.refresh, layout=True)  # nothing of what was drawn stands there any more

    return Paced


def _runs() -> bool:
    """Whether the loop of the screen runs, on this thread."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return False
    return True


class PacedApp(App[None]):
    """An application that knows how far its terminal is behind, and asks nothing of it that nobody needs."""

    def get_driver_class(self) -> type[Driver]:
        return paced(super().get_driver_class())

    @property
    def is_behind(self) -> bool:
        """Whether what is drawn at rest should wait."""
        flow = getattr(self._driver, "flow", None)
        return isinstance(flow, Flow) and flow.behind > MOST_BEHIND

    @property
    def has_gone_out(self) -> bool:
        """Whether all that was drawn has left for the terminal."""
        flow = getattr(self._driver, "flow", None)
        return not isinstance(flow, Flow) or flow.behind <= 0

    def get_line_filters(self) -> list[LineFilter]:
        """All colours here are true ones: nothing needs to be made so, line by line."""
        return [one for one in super().get_line_filters() if not isinstance(one, ANSIToTruecolor)]
