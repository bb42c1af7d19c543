"""Addresses as spans, sorted and joined, so that one look tells whether any of them is touched."""

from bisect import bisect_left
from collections.abc import Iterable


class Spans:
    """Spans from a first address up to (not with) an end."""

    def __init__(self, spans: Iterable[tuple[int, int]]) -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        for start, end in sorted(spans):
            if self._ends and start <= self._ends[-1]:
                self._ends[-1] = max(self._ends[-1], end)
            else:
                self._starts.append(start)
                self._ends.append(end)

    def touch(self, start: int, end: int) -> bool:
        """Whether any address from `start` up to (not with) `end` is one of theirs."""
        at = bisect_left(self._starts, end) - 1  # the last that begins before the end
        return at >= 0 and self._ends[at] > start
