"""What is known of the addresses of a table: which read, which do not, which were not asked."""

from bisect import bisect_right
from collections.abc import Generator, Iterable
from typing import NamedTuple

Span = tuple[int, int]
"""First and last address."""

UNKNOWN, READS, REFUSED, ZERO = 0, 1, 2, 3


class Reply(NamedTuple):
    """What came: whether it reads, and the words (or bits) then."""

    is_good: bool
    values: tuple[int, ...] = ()
    is_no_function: bool = False


Steps = Generator[tuple[int, int], Reply, None]
"""Asks for (first, count), is sent what came."""


class KnownAddresses:
    """`runs` are the spans that read, in order."""

    def __init__(self, first: int, last: int) -> None:
        self.first, self.last = first, last
        self.runs: list[Span] = []
        self._known = bytearray(last - first + 1)

    @property
    def items(self) -> int:
        """Addresses that read."""
        return sum(last - first + 1 for first, last in self.runs)

    def reads(self, address: int) -> bool:
        return self.state_of(address) == READS

    def is_known(self, address: int) -> bool:
        """Whether it was asked for."""
        return self.state_of(address) != UNKNOWN

    def refused(self) -> list[Span]:
        """Spans that were asked and do not read."""
        return spans_in(self._known, (REFUSED, ZERO), self.first)

    def state_of(self, address: int) -> int:
        """Of an address; none is behind the ends."""
        return self._known[address - self.first] if self.first <= address <= self.last else REFUSED

    def note(self, first: int, count: int, state: int) -> None:
        """So many from `first` on are so."""
        self._known[first - self.first : first - self.first + count] = bytes((state,)) * count

    def note_reads(self, first: int, last: int) -> None:
        """That span reads."""
        self.note(first, last - first + 1, READS)
        at = bisect_right(self.runs, (first, last))
        low, high, begin, end = first, last, at, at
        while begin > 0 and self.runs[begin - 1][1] >= low - 1:
            begin -= 1
            low, high = min(low, self.runs[begin][0]), max(high, self.runs[begin][1])
        while end < len(self.runs) and self.runs[end][0] <= high + 1:
            high = max(high, self.runs[end][1])
            end += 1
        self.runs[begin:end] = [(low, high)]

    def run_of(self, address: int) -> Span | None:
        """The run that an address belongs to."""
        at = bisect_right(self.runs, (address, 0x10000)) - 1
        return self.runs[at] if at >= 0 and self.runs[at][0] <= address <= self.runs[at][1] else None


def spans_in(known: bytearray, states: tuple[int, ...], offset: int) -> list[Span]:
    """Spans of addresses in one of those states."""
    found: list[Span] = []
    begin = -1
    for at, state in enumerate(known):
        if state in states:
            begin = at if begin < 0 else begin
        elif begin >= 0:
            found.append((begin + offset, at - 1 + offset))
            begin = -1
    if begin >= 0:
        found.append((begin + offset, len(known) - 1 + offset))
    return found


def words_of_runs(runs: Iterable[Span]) -> str:
    """Runs of addresses in words: `0–17, 40, 101–104`."""
    return ", ".join(str(first) if first == last else f"{first}–{last}" for first, last in runs)
