"""How long a survey waits for an answer: at first as long as it was given, then less, as answers show how fast this
line is."""

_ROOM = 4.0  # times the slowest answer so far
_LEAST_S = 0.04
_MORE, _MOST_S = 1.5, 4.0  # over what came late; no longer than that


class Pace:
    """`timeout_s` shrinks with every answer and grows back when one came late."""

    def __init__(
        self, timeout_s: float, shrinks: bool = True, room: float = _ROOM, steady_s: float | None = None
    ) -> None:
        """`room`: how many times the slowest answer so far is waited for; `steady_s`: never longer or shorter than
        that, since what comes late is seen while others are asked."""
        self.longest_s = self._first_s = timeout_s
        self.timeout_s = timeout_s if steady_s is None else steady_s
        self._steady_s = steady_s
        self.slowest_s = 0.0
        self._shrinks = shrinks
        self._room = room

    @property
    def is_steady(self) -> bool:
        return self._steady_s is not None

    def begin_again(self) -> None:
        """What was late was so for the others that waited before it: only what comes late from now on counts."""
        self.longest_s = self.timeout_s = max(self._first_s, min(2 * self.slowest_s, _MOST_S))

    def note_answer(self, began_s: float) -> None:
        """An answer began so many seconds after the request had gone."""
        self.slowest_s = max(self.slowest_s, began_s)
        if self._shrinks and self._steady_s is None:
            self.timeout_s = min(self.longest_s, max(_LEAST_S, self._room * self.slowest_s + 0.01))

    def note_late(self, took_s: float = 0.0) -> None:
        """Something came after its time, so many seconds after the request where that is known: wait as long as at
        first again, and longer."""
        if self._steady_s is not None:
            return
        self._shrinks = False
        longer_s = _MORE * took_s if took_s else 2 * self.longest_s
        self.longest_s = max(self.longest_s, min(longer_s, _MOST_S))
        self.timeout_s = self.longest_s
