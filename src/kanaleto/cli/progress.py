"""A bar on a terminal's stderr while something takes long; nothing where stderr is no terminal."""

import sys
import time
from typing import TextIO

_EVERY_S = 0.1
_WIDTH = 30


class Progress:
    """Call it with a share 0…1, seconds left and words; it draws at most ten times a second."""

    def __init__(self, out: TextIO | None = None) -> None:
        self._out = out or sys.stderr
        self._is_shown = self._out.isatty()
        self._next_s = 0.0
        self._width = 0

    def __call__(self, share: float, left_s: float, words: str) -> None:
        if not self._is_shown or time.monotonic() < self._next_s:
            return
        self._next_s = time.monotonic() + _EVERY_S
        filled = int(max(0.0, min(share, 1.0)) * _WIDTH)
        left = f"about {left_s:.0f} s left" if left_s >= 1 else ""
        text = f"{'━' * filled}{'─' * (_WIDTH - filled)} {100 * share:3.0f} %  {left}  {words}"
        self._out.write("\r" + text.ljust(self._width))
        self._out.flush()
        self._width = len(text)

    def done(self) -> None:
        """Take the bar away."""
        if self._width:
            self._out.write("\r" + " " * self._width + "\r")
            self._out.flush()
            self._width = 0
