"""How long a survey waits for an answer: at first as long as it was told, then less, as answers show how fast this line
is."""

_ROOM = 4.0  # times the slowest answer so far
_LEAST_S = 0.04


class Pace:
    """`timeout_s` shrinks with every answer and grows back when one came late."""

    def __init__(self, timeout_s: float, shrinks: bool = True) -> None:
        self.longest_s = timeout_s
        self.timeout_s = timeout_s
        self.slowest_s = 0.0
        self._shrinks = shrinks

    def note_answer(self, began_s: float) -> None:
        """An answer began so many seconds after the request had gone."""
        self.slowest_s = max(self.slowest_s, began_s)
        if self._shrinks:
            self.timeout_s = min(self.longest_s, max(_LEAST_S, _ROOM * self.slowest_s + 0.01))

    def note_late(self) -> None:
        """Something came after its time: wait as long as at first again."""
        self._shrinks = False
        self.timeout_s = self.longest_s
