"""Told by the system when files of the open site change. Where it cannot tell (some network folders), who asks looks
now and then anyway."""

import threading
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path

from kanaleto.supervision.owned import owned_thread

_AFTER_S = 2.0  # a start need not wait for it
_DEBOUNCE_MS, _STEP_MS, _WAKE_MS = 200, 50, 1000


class FileWatch:
    """Calls `on_change` on a thread of its own when something changes in one of the folders that it follows."""

    def __init__(self, on_change: Callable[[], None]) -> None:
        self._on_change = on_change
        self._folders: frozenset[Path] = frozenset()
        self._stop = threading.Event()

    def follow(self, paths: Iterable[Path]) -> None:
        """The folders of these files, from now on."""
        folders = frozenset(path.parent for path in paths)
        if folders == self._folders:
            return
        self.stop()
        self._folders, self._stop = folders, threading.Event()
        if folders:
            owned_thread("files watched", partial(self._watch, folders, self._stop)).start()

    def stop(self) -> None:
        self._stop.set()
        self._folders = frozenset()

    def _watch(self, folders: frozenset[Path], stop: threading.Event) -> None:
        if stop.wait(_AFTER_S):
            return
        from watchfiles import watch

        there = [folder for folder in folders if folder.is_dir()]
        try:
            for _ in watch(
                *there, stop_event=stop, recursive=False, debounce=_DEBOUNCE_MS, step=_STEP_MS, rust_timeout=_WAKE_MS
            ):
                self._on_change()
        except (OSError, RuntimeError):  # too many watches, or a folder that went: the looks in between do it alone
            return
