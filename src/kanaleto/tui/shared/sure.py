"""An answer that would lose something is wanted twice, and the second time not in the same burst of keys."""

import time

_READ_S = 0.5  # what is lost has been read by then


class WantedTwice:
    """Of one question."""

    def __init__(self) -> None:
        self._warned, self._warned_s = "", 0.0

    def answer(self, text: str, loss: str) -> str:
        """What is to be said instead of doing it; nothing where nothing is lost, or the same was answered before."""
        now_s = time.monotonic()
        if not loss or (self._warned == text and now_s - self._warned_s >= _READ_S):
            return ""
        if self._warned != text:
            self._warned, self._warned_s = text, now_s
        return f"{loss}: enter again does it, escape leaves it"
