"""Which press of a key confirms: only one that came when what it confirms had been painted for a while, and that is no
repeat of a key which is held down.

A terminal does not tell a repeat from a press. The first repeat comes up to a second after the press, the others many
times a second: a press so soon after another one waits for a moment whether more come, and then counts for nothing.
"""

from collections.abc import Callable

PAINTED_S = 0.3
_FIRST_REPEAT_S, _REPEATS_S, _RELEASED_S = 1.2, 0.25, 0.6


class Confirming:
    """`after(seconds, what)` does something later; times are seconds of the clock that key events bear."""

    def __init__(self, after: Callable[[float, Callable[[], None]], object]) -> None:
        self._after = after
        self._key: object = None
        self._painted_s: float | None = None
        self._last_s = -1e9
        self._is_held = False
        self._presses = 0

    def expect(self, key: object) -> bool:
        """What would be confirmed now; whether that is something else than before, and has to be painted first."""
        if key == self._key:
            return False
        self._key, self._painted_s = key, None
        return True

    def painted(self, key: object, now_s: float) -> None:
        """It stands on the screen."""
        if key == self._key and self._painted_s is None:
            self._painted_s = now_s

    def pressed(self, came_s: float, confirm: Callable[[], None]) -> str:
        """The key was pressed: `confirm` is called, now or in a moment, where it counts; why not, else nothing."""
        before_s, self._last_s = self._last_s, came_s
        self._presses += 1
        if self._is_held and came_s - before_s < _RELEASED_S:
            return "a key that is held down confirms nothing"
        self._is_held = False
        if self._painted_s is None or came_s - self._painted_s < PAINTED_S:
            return "look first, then press enter: that key came before this could be read"
        if came_s - before_s >= _FIRST_REPEAT_S:
            confirm()
            return ""
        if came_s - before_s < _REPEATS_S:
            self._is_held = True
            return "a key that is held down confirms nothing"
        presses, key = self._presses, self._key
        self._after(_REPEATS_S, lambda: confirm() if presses == self._presses and key == self._key else None)
        return ""
