"""How far a terminal is behind: what was written for it and has not gone out yet. A slow one (a radio link, a modem) is
drawn on less often, and so never far behind a key."""

import asyncio
import os
import select
import time
from typing import Any, TextIO

from textual.app import App
from textual.driver import Driver
from textual.filter import ANSIToTruecolor, LineFilter

MOST_BEHIND = 2000
"""Characters: what is drawn at rest waits while more than these are under way."""


_LOOK_MS = 50


class Flow:
    """Stands for the terminal's file, and counts. A terminal that is not read holds nobody up for longer than
    `give_up_at` says: then what is left for it is dropped."""

    def __init__(self, file: TextIO) -> None:
        self._file = file
        self._descriptor = _descriptor_of(file)
        self.asked = 0
        self.gone = 0
        self.give_up_at: float | None = None
        """From this time (of the monotonic clock) on nothing is written any more."""

    @property
    def behind(self) -> int:
        return self.asked - self.gone

    def write(self, text: str) -> int:
        if self._descriptor is None:
            self._file.write(text)
            self._file.flush()
        else:
            self._write_bytes(self._descriptor, text.encode("utf-8", "replace"))
        self.gone += len(text)
        return len(text)

    def _write_bytes(self, descriptor: int, data: bytes) -> None:
        """In pieces, as the terminal takes them; the file itself would block for as long as it likes."""
        ready = select.poll()
        ready.register(descriptor, select.POLLOUT)
        while data and not self._has_given_up:
            if not ready.poll(_LOOK_MS):
                continue
            try:
                data = data[os.write(descriptor, data) :]
            except BlockingIOError:
                continue
            except OSError:  # it has gone away
                self.give_up_at = 0.0

    @property
    def _has_given_up(self) -> bool:
        return self.give_up_at is not None and time.monotonic() >= self.give_up_at

    def flush(self) -> None:
        """All that was written has gone."""

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


def _descriptor_of(file: TextIO) -> int | None:
    """The same terminal once more, so that writing to it need not block; None where there is none."""
    try:
        return os.open(os.ttyname(file.fileno()), os.O_WRONLY | os.O_NONBLOCK | os.O_NOCTTY)
    except (OSError, AttributeError, ValueError):
        return None


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

    def give_terminal_up(self, at_s: float) -> None:
        """From then on (of the monotonic clock) nothing is drawn any more. For any thread, and for a signal."""
        flow = getattr(self._driver, "flow", None)
        if isinstance(flow, Flow) and (flow.give_up_at is None or at_s < flow.give_up_at):
            flow.give_up_at = at_s

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
