"""The thread that writes down what is kept, so that neither a line nor a screen ever waits for a disk."""

import threading
from collections.abc import Callable
from queue import SimpleQueue
from typing import Protocol

from kanaleto.supervision.owned import Owned, report

EVERY_S = 0.25


class Writes(Protocol):
    """What the keeper works for. Both are called on its thread; neither raises for a disk that does not do."""

    def flush(self) -> None:
        """Write down what has come."""

    def close(self) -> None:
        """Write down the rest, and end."""


class Keeper:
    """Runs from `start` until `stop`. What it works for is its own: others ask it to do things between two flushes."""

    def __init__(self) -> None:
        self.failure: Exception | None = None
        self._work: list[Writes] = []
        self._known: dict[Writes, Owned] = {}
        self._asked: SimpleQueue[tuple[Callable[[], object], threading.Event]] = SimpleQueue()
        self._wake, self._is_over = threading.Event(), False
        self._thread = threading.Thread(target=self._run, name="keeper", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def add(self, work: Writes) -> None:
        self.do(lambda: self._work.append(work))

    def do(self, what: Callable[[], object], timeout_s: float = 10.0) -> bool:
        """Do something between two flushes; whether it was done in time: a disk that hangs is waited for so long, and
        then it is done later."""
        if not self._thread.is_alive() or threading.current_thread() is self._thread:
            what()
            return True
        is_done = threading.Event()
        self._asked.put((what, is_done))
        self._wake.set()
        return is_done.wait(timeout_s)

    def take_away(self, work: Writes, timeout_s: float = 10.0) -> bool:
        """It is closed, on the keeper's thread; whether that was done in time."""
        return self.do(lambda: self._close(work), timeout_s)

    def stop(self, timeout_s: float = 10.0) -> bool:
        """Write down all that has come, and end; whether that was done in time."""
        self._is_over = True
        self._wake.set()
        if self._thread.is_alive():
            self._thread.join(timeout_s)
        return not self._thread.is_alive()

    def _close(self, work: Writes) -> None:
        if work in self._work:
            self._work.remove(work)
            with self._owned(work):
                work.close()
            known = self._known.pop(work, None)
            if known is not None:
                known.finish()

    def _owned(self, work: Writes) -> Owned:
        known = self._known.get(work)
        if known is None:
            known = self._known[work] = Owned(f"keeping: {type(work).__name__}")
        return known

    def _do_asked(self) -> None:
        while not self._asked.empty():
            what, is_done = self._asked.get()
            try:
                what()
            except Exception as error:
                report("what is kept", error)
            is_done.set()

    def _run(self) -> None:
        try:
            while not self._is_over:
                self._wake.wait(EVERY_S)
                self._wake.clear()
                self._do_asked()
                for work in self._work:
                    with self._owned(work):
                        work.flush()
            self._do_asked()
            for work in list(self._work):
                self._close(work)
        except Exception as error:  # an internal error: whoever owns the keeper looks here
            self.failure = error
