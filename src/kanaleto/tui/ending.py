"""How the application ends: from any state, step by step, each step bounded, and each one run.

The screen's loop is watched from outside its pump of messages: where it does not end within its time it is cancelled,
and the terminal is put back by hand. The first signal ends in order; a second one skips all but safe values and ways
back. A terminal that has gone away, or is not read, holds nothing up.
"""

import asyncio
import os
import select
import signal
import sys
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any, Protocol

try:
    import termios
except ImportError:  # Windows has none
    termios = None  # type: ignore[assignment]

_GRACE_S, _CANCELLED_S, _LOOK_S = 1.5, 0.5, 0.5
_READ_S = 0.4  # how long a terminal that is not read is waited for at the end
IN_ALL_S, HURRIED_S = 9.0, 3.0
SIGNALLED_S = 4.5
"""How long all steps together may take: after `q`, after a second signal, after the first one."""
_RESTORE = "\x1b[?2004l\x1b[?7h\x1b[?1000l\x1b[?1003l\x1b[?1015l\x1b[?1006l\x1b[<u\x1b[?1049l\x1b[?25h\x1b[?1004l"

Step = tuple[str, float, Callable[[], object]]
"""What ends, how long that may take, and what ends it."""


class Screen(Protocol):
    """What is ended: the application."""

    async def run_async(self) -> Any: ...

    def exit(self) -> None: ...

    def give_terminal_up(self, at_s: float) -> None: ...


class Ending:
    """For the main thread."""

    def __init__(self, screen: Screen) -> None:
        self._screen = screen
        self.signals = 0
        self._signalled_s = self._hurried_s = 0.0
        self._loop: asyncio.AbstractEventLoop | None = None
        self._wanted: asyncio.Event | None = None

    def watch_signals(self) -> None:
        """SIGTERM and a terminal that goes away end the application as quitting does."""
        for name in ("SIGTERM", "SIGHUP"):
            if hasattr(signal, name):
                signal.signal(getattr(signal, name), self._on_signal)

    def _on_signal(self, number: int, frame: object) -> None:
        now_s = time.monotonic()
        self.signals += 1 if number == signal.SIGTERM or not self.signals else 0
        self._signalled_s = self._signalled_s or now_s
        if self.signals > 1:
            self._hurried_s = self._hurried_s or now_s
        has_gone = number != signal.SIGTERM
        if has_gone:  # nothing can be drawn any more, and nothing of ours is to fail for it
            nowhere = os.open(os.devnull, os.O_RDWR)
            for descriptor in (1, 2):
                os.dup2(nowhere, descriptor)
        self._screen.give_terminal_up(now_s if has_gone else now_s + _READ_S)
        self._want()

    def _want(self) -> None:
        if self._loop is not None and self._wanted is not None:
            with suppress(RuntimeError):  # it is over already
                self._loop.call_soon_threadsafe(self._wanted.set)

    # The screen

    def run_screen(self) -> None:
        """Until it ends, or has to. Raises what ended it, but for what a terminal that goes away brings."""
        saved = _attributes()
        loop = self._loop = asyncio.new_event_loop()
        asyncio.set_event_loop(loop)
        is_clean = False
        try:
            is_clean = loop.run_until_complete(self._watch())
        finally:
            if not is_clean:
                self._put_back(saved)
            self._loop = None
            _close(loop)

    async def _watch(self) -> bool:
        """Whether the screen came to its own end."""
        self._wanted = asyncio.Event()
        if self.signals:
            return True
        screen = asyncio.ensure_future(self._screen.run_async())
        wanted = asyncio.ensure_future(self._wanted.wait())
        while not screen.done() and not wanted.done():
            await asyncio.wait({screen, wanted}, timeout=_LOOK_S, return_when=asyncio.FIRST_COMPLETED)
            if has_hung_up():
                self._screen.give_terminal_up(0.0)
                self.signals = self.signals or 1
                break
        wanted.cancel()
        if not screen.done():
            self._screen.exit()
            end_s = time.monotonic() + _GRACE_S
            while not screen.done() and time.monotonic() < end_s and self.signals < 2:
                await asyncio.wait({screen}, timeout=0.05)
        if not screen.done():
            screen.cancel()
            await asyncio.wait({screen}, timeout=_CANCELLED_S)
        if not screen.done() or screen.cancelled():
            return False
        error = screen.exception()
        if error is not None and not (self.signals or has_hung_up()):
            raise error
        return error is None

    def _put_back(self, saved: list[Any] | None) -> None:
        """The terminal as it was before."""
        self._screen.give_terminal_up(0.0)
        if has_hung_up():
            return
        if saved is not None:
            with suppress(OSError, termios.error):
                termios.tcsetattr(0, termios.TCSANOW, saved)
        tell_terminal(_RESTORE)

    # What stands behind it

    def carry_out(self, steps: Sequence[Step], hurried: Sequence[str]) -> list[str]:
        """Run each step, also where the one before it failed or took too long; once a second signal has come only those
        in `hurried`. What did not end is given back, in words."""
        began_s = time.monotonic()
        left: list[str] = []
        for name, within_s, work in steps:
            if self.signals > 1 and name not in hurried:
                continue
            end_s = min(time.monotonic() + within_s, self._end_s(began_s))
            failed = self._do(name, work, max(end_s, time.monotonic() + 0.2), name in hurried)
            if failed:
                left.append(failed)
        return left

    def _end_s(self, began_s: float) -> float:
        return (self._signalled_s or began_s) + (SIGNALLED_S if self.signals else IN_ALL_S)

    def _do(self, name: str, work: Callable[[], object], end_s: float, is_hurried: bool) -> str:
        """On a thread of its own, since nothing can be said of how long it takes."""
        failed: list[BaseException] = []

        def run() -> None:
            try:
                work()
            except BaseException as error:
                failed.append(error)

        thread = threading.Thread(target=run, name=f"ending {name}", daemon=True)
        thread.start()
        while thread.is_alive() and time.monotonic() < end_s:
            if self.signals > 1:
                if not is_hurried:
                    break
                end_s = min(end_s, self._hurried_s + HURRIED_S)
            thread.join(0.02)
        if thread.is_alive():
            return f"{name} did not end in time and was given up"
        return f"{name} failed at the end: {failed[0]}" if failed else ""


def _attributes() -> list[Any] | None:
    if termios is None:
        return None
    try:
        return termios.tcgetattr(0)
    except (OSError, termios.error):
        return None


def _close(loop: asyncio.AbstractEventLoop) -> None:
    """Without waiting for whoever does not end; the process is about to."""
    for task in asyncio.all_tasks(loop):
        task.cancel()
    with suppress(RuntimeError):
        loop.run_until_complete(asyncio.sleep(0))
    asyncio.set_event_loop(None)
    with suppress(RuntimeError):
        loop.close()


def has_hung_up() -> bool:
    """Whether the terminal has gone away."""
    if not hasattr(select, "poll"):
        return False
    try:
        ready = select.poll()
        ready.register(0, 0)
        return any(happened & (select.POLLHUP | select.POLLNVAL | select.POLLERR) for _, happened in ready.poll(0))
    except OSError:
        return True


def tell_terminal(text: str, within_s: float = _READ_S) -> None:
    """Write to the terminal where it is read; a frozen one is not waited for."""
    try:
        descriptor = os.open(os.ttyname(2), os.O_WRONLY | os.O_NONBLOCK | os.O_NOCTTY)
    except (OSError, AttributeError):
        with suppress(OSError, ValueError):
            if not sys.stderr.isatty():
                sys.stderr.write(text)
                sys.stderr.flush()
        return
    data, end_s = text.encode("utf-8", "replace"), time.monotonic() + within_s
    try:
        while data and time.monotonic() < end_s:
            try:
                data = data[os.write(descriptor, data) :]
            except BlockingIOError:
                time.sleep(0.01)
            except OSError:
                return
    finally:
        os.close(descriptor)
