"""Which press of a key confirms: only one that stands alone, that came when what it confirms had been painted for a
while, and that is no repeat of a key which is held down.

A terminal does not tell a repeat from a press. The first repeat comes up to a second after the press, the others many
times a second: a press so soon after another one of the same key waits for a moment whether more come, and then counts
for nothing.
"""

from collections.abc import Callable

from kanaleto.tui.shared.presses import Presses

PAINTED_S = 0.3
_FIRST_REPEAT_S, _REPEATS_S, _RELEASED_S = 1.2, 0.25, 0.6


class Confirming:
    """`after(seconds, what)` does something later; `expected` gives what a press would confirm now. Times are seconds
    of the clock that key events bear."""

    def __init__(
        self,
        after: Callable[[float, Callable[[], None]], object],
        presses: Callable[[], Presses],
        expected: Callable[[], object],
    ) -> None:
        self._after, self._presses, self._expected = after, presses, expected
        self._key: object = None
        self._painted_s: float | None = None
        self._is_held = False
        self._confirms = 0

    def is_new(self) -> bool:
        """Whether what would be confirmed is something else than before, and has to be painted first."""
        key = self._expected()
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
        presses = self._presses()
        before_s = presses.same_before_s
        self._confirms += 1
        if self._is_held and came_s - before_s < _RELEASED_S:
            return "a key that is held down confirms nothing"
        self._is_held = False
        if came_s - before_s < _REPEATS_S:
            self._is_held = True
            return "a key that is held down confirms nothing"
        why = presses.why_not
        if why:
            return why
        # what is expected may have changed since it was painted, and not have been drawn yet
        if self._expected() != self._key or self._painted_s is None or came_s - self._painted_s < PAINTED_S:
            return "look first, then press the key: it came before this could be read"
        if came_s - before_s >= _FIRST_REPEAT_S:
            confirm()
            return ""
        confirms, key = self._confirms, self._key

        def if_released() -> None:
            if confirms == self._confirms and key == self._expected():
                confirm()

        self._after(_REPEATS_S, if_released)
        return ""
