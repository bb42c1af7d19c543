"""All that we rest on of the toolkit beyond what it documents, in one place: three methods of its application
and five names of its driver of a terminal. Each is held by a test of its name (`tests/test_toolkit.py`), so that a new
version that does otherwise is seen before anybody meets it.
"""

import asyncio
import codecs
import os
import sys
from collections.abc import Callable
from functools import partial
from typing import Any

from textual import events
from textual.app import App
from textual.driver import Driver

from kanaleto.tui.shared.charset import AS_LATIN, charset_of
from kanaleto.tui.shared.pacing import Flow


class Terminal(App[None]):
    """An application whose keys, errors and output come to these methods, and whose terminal is counted by a `Flow`."""

    flow: Flow | None = None
    """None where the driver is no terminal's: in a test, on Windows."""
    is_ending = False
    """Whether it was asked to exit."""

    def failed(self, error: Exception) -> None:
        """An error that nobody has caught, of any widget, timer or worker; but for those while it is ending."""
        raise NotImplementedError

    async def take_input(self, event: events.Key | events.Paste) -> None:
        """A key or pasted text, in its order: the next one waits until this is done."""
        raise NotImplementedError

    async def do_bound(self, key: str, has_priority: bool = False) -> bool:
        """Run what a key is bound to where the focus is; whether there was something. (`active_bindings` is documented,
        and costs more than a frame: it looks at every key.)"""
        return await self._check_bindings(key, priority=has_priority)

    def exit(self, *arguments: Any, **named: Any) -> None:
        self.is_ending = True
        super().exit(*arguments, **named)

    # What is not documented

    def _handle_exception(self, error: Exception) -> None:
        if not self.is_ending:
            self.failed(getattr(error, "error", None) or error)  # a worker's own error, not the one that tells of it

    async def on_event(self, event: events.Event) -> None:
        if isinstance(event, events.AppFocus | events.AppBlur):
            return  # a terminal that is not looked at keeps its cursor, and what has the keys
        if isinstance(event, events.Key | events.Paste):
            await self.take_input(event)
        else:
            await super().on_event(event)

    def get_driver_class(self) -> type[Driver]:
        return _counted(super().get_driver_class(), self)


def _counted(base: type[Driver], app: Terminal) -> type[Driver]:
    """The toolkit's driver of a terminal with a flow that is counted; another driver as it is."""
    if base.__name__ != "LinuxDriver":
        return base

    # a byte that is no UTF-8 (noise on the way, another charset) would end the thread that reads keys, and all with it
    sys.modules[base.__module__].getincrementaldecoder = _decoder_of  # type: ignore[attr-defined]

    class CountedWriter(base):  # type: ignore[misc, valid-type]
        _file: Any
        _must_signal_resume: bool
        _is_waking = False

        def __init__(self, *arguments: Any, **named: Any) -> None:
            super().__init__(*arguments, **named)
            app.flow = self._file = Flow(self._file, charset_of(os.environ))

        def write(self, data: str) -> None:
            self._file.asked += len(data)
            super().write(data)

        def _sigcont_application(self, *_: object) -> None:
            """Woken: by the shell that has the terminal since, by somebody who had stopped the process, or on the way
            out, by a terminal that goes away."""
            if self._is_waking or not self._auto_restart or not _runs() or not os.isatty(self.fileno):
                return
            self._is_waking = True  # another signal in the middle of this would begin it twice
            try:
                if not self._must_signal_resume:  # nobody announced that it would be stopped
                    self.suspend_application_mode()
                    self._must_signal_resume = True
                self.resume_application_mode()
            finally:
                self._is_waking = False
            app.call_later(app.refresh, layout=True)  # nothing of what was drawn stands there any more

    return CountedWriter


def _decoder_of(charset: str) -> Callable[[], codecs.IncrementalDecoder]:
    return partial(codecs.getincrementaldecoder(charset), errors=AS_LATIN)


def _runs() -> bool:
    """Whether the loop of the screen runs, on this thread."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return False
    return True
