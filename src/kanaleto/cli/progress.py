"""A bar on a terminal's stderr while something takes long; nothing where stderr is no terminal."""

import sys
from typing import TYPE_CHECKING, TextIO

from kanaleto.values.visible import visible

if TYPE_CHECKING:
    from rich.progress import Progress as Bar
    from rich.progress import TaskID

_WIDTH = 30


class Progress:
    """Call it with a share 0…1, seconds left and words."""

    def __init__(self, out: TextIO | None = None) -> None:
        self._out = out or sys.stderr
        self._is_shown = self._out.isatty()
        self._bar: Bar | None = None
        self._task: TaskID | None = None

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
        self._bar = Bar(BarColumn(_WIDTH), *columns, console=Console(file=self._out), transient=True)
        self._task = self._bar.add_task("", total=1.0, left="", words="")
        self._bar.start()

    def done(self) -> None:
        """Take the bar away."""
        if self._bar is not None:
            self._bar.stop()
            self._bar = None
