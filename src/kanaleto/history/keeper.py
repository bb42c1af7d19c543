"""The thread that writes down what is kept, so that neither a line nor a screen ever waits for a disk."""

import threading
from collections.abc import Callable
from typing import Protocol

from kanaleto.supervision.owned import Owned

EVERY_S = 0.25


class Writes(Protocol):
    """What the keeper works for. Both are called on its thread; neither raises for a disk that does not do."""

    def flush(self) -> None:
        """Write down what has come."""

    def close(self) -> None:
        """Write down the rest, and end."""


class Keeper:
    """Runs from `start` until `stop`."""

    def __init__(self) -> None:
        self.failure: Exception | None = None
        self._work: list[Writes] = []
        self._known: dict[int, Owned] = {}
        self._leaving: list[tuple[Writes, threading.Event]] = []
        self._lock = threading.Lock()
        self._wake, self._is_over = threading.Event(), False
        self._thread = threading.Thread(target=self._run, name="keeper", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def add(self, work: Writes) -> None:
        with self._lock:
            self._work.append(work)

    def do(self, what: Callable[[], object]) -> None:
        """Do something between two flushes."""
        with self._lock:
            what()

    def take_away(self, work: Writes, timeout_s: float = 10.0) -> None:
        """It is closed, on the keeper's thread, before this gives back; a disk that hangs is waited for so long."""
        closed = threading.Event()
        with self._lock:
            self._leaving.append((work, closed))
        self._wake.set()
        if self._thread.is_alive():
            closed.wait(timeout_s)
        else:
            self._close_leaving()

    def stop(self, timeout_s: float = 10.0) -> None:
        """Write down all that has come, and end."""
        self._is_over = True
        self._wake.set()
        if self._thread.is_alive():
            self._thread.join(timeout_s)

    def _close_leaving(self) -> None:
        for work, closed in self._leaving:
            if work in self._work:
                self._work.remove(work)
                with self._owned(work):
                    work.close()
                self._let_go(work)
            closed.set()
        self._leaving.clear()

    def _owned(self, work: Writes) -> Owned:
        known = self._known.get(id(work))
        if known is None:
            known = self._known[id(work)] = Owned(f"keeping: {type(work).__name__}")
        return known

    def _let_go(self, work: Writes) -> None:
        known = self._known.pop(id(work), None)
        if known is not None:
            known.let_go()

    def _run(self) -> None:
        try:
            while not self._is_over:
                self._wake.wait(EVERY_S)
                self._wake.clear()
                with self._lock:
                    self._close_leaving()
                    for work in self._work:
                        with self._owned(work):
                            work.flush()
            with self._lock:
                self._close_leaving()
                for work in self._work:
                    with self._owned(work):
                        work.close()
                    self._let_go(work)
                self._work.clear()
        except Exception as error:  # an error of ours: whoever owns the keeper looks here
            self.failure = error
