"""A bar on a terminal's stderr while something takes long; nothing where stderr is no terminal."""

import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, TextIO

from kanaleto.values.visible import visible

if TYPE_CHECKING:
    from rich.progress import Progress as Bar
    from rich.progress import TaskID

_WIDTH = 30
_SHOWN_AFTER_S, _LOOK_S = 2.0, 0.25


class Progress:
    """Call it with a share 0…1, seconds left and words."""

    def __init__(self, out: TextIO | None = None) -> None:
        self._out = out or sys.stderr
        self._is_shown = self._out.isatty()
        self._begun_s = time.monotonic()
        self._bar: Bar | None = None
        self._task: TaskID | None = None

    def step(self, done: int, of: int, words: str) -> None:
        """The end is estimated from what the steps took so far; nothing is shown in the first two seconds."""
        took_s = time.monotonic() - self._begun_s
        if took_s >= _SHOWN_AFTER_S and of:
            self(done / of, took_s * (of - done) / done if done else 0.0, words)

    @contextmanager
    def during(self, lasts_s: float | None, words: str) -> Iterator[None]:
        """While something lasts that tells no share itself: about `lasts_s`, or nobody knows how long. Nothing is shown
        in the first two seconds, nor while stdout is a terminal that gets lines meanwhile."""
        is_over = threading.Event()

        def look() -> None:
            took_s = 0.0
            while not is_over.wait(_LOOK_S):
                took_s += _LOOK_S
                if took_s < _SHOWN_AFTER_S:
                    continue
                if lasts_s is None:
                    self(0.0, 0.0, f"{words}, for {took_s:.0f} s")
                else:
                    self(min(took_s / max(lasts_s, took_s + _LOOK_S), 0.99), lasts_s - took_s, words)

        looking = threading.Thread(target=look, name="progress", daemon=True)
        if self._is_shown:
            looking.start()
        try:
            yield
        finally:
            is_over.set()
            if self._is_shown:
                looking.join()
            self.done()

    def __call__(self, share: float, left_s: float, words: str) -> None:
        if not self._is_shown:
            return
        if self._bar is None:
            self._begin()
        if self._bar is not None and self._task is not None:
            left = f"about {left_s:.0f} s left" if left_s >= 1 else ""
            self._bar.update(self._task, completed=max(0.0, min(share, 1.0)), left=left, words=visible(words))

    def _begin(self) -> None:
        from rich.console import Console  # only who waits at a terminal pays for it
        from rich.progress import BarColumn, TextColumn
        from rich.progress import Progress as Bar

        columns = [
            TextColumn(text, markup=False)
            for text in ("{task.percentage:3.0f} %", "{task.fields[left]}", "{task.fields[words]}")
        ]
        self._bar = Bar(
            BarColumn(_WIDTH),
            *columns,
            console=Console(file=self._out),
            transient=True,
            redirect_stdout=sys.stdout.isatty(),
        )
        self._task = self._bar.add_task("", total=1.0, left="", words="")
        self._bar.start()

    def done(self) -> None:
        """Take the bar away."""
        if self._bar is not None:
            self._bar.stop()
            self._bar = None
