"""How each device and line is doing: outcomes counted, answer times, and the water of a line, how busy it was in the
last minute."""

from array import array
from collections import deque
from enum import IntEnum
from functools import cached_property
from typing import NamedTuple

from msgspec import Struct

from kanaleto.lines.outcome import Outcome, OutcomeKind

SLICE_S = 0.5
SLICES = 120
MINUTES = 1440
_TIMES = 256  # answer times kept for the median


class Worst(IntEnum):
    """The worst outcome of a slice, mildest first."""

    NOTHING = 0
    GOOD = 1
    EXCEPTION = 2
    GARBLED = 3
    SILENT = 4


_WORST = {
    OutcomeKind.GOOD: Worst.GOOD,
    OutcomeKind.EXCEPTION: Worst.EXCEPTION,
    OutcomeKind.GARBLED: Worst.GARBLED,
    OutcomeKind.UNEXPECTED: Worst.GARBLED,
    OutcomeKind.TIMEOUT: Worst.SILENT,
    OutcomeKind.UNREACHABLE: Worst.SILENT,
}


class MinuteLevel(NamedTuple):
    """A minute of a line: the share of it that the line was busy, and the worst outcome."""

    busy: float
    worst: Worst


class Water:
    """Rings of the last minute of one line, a slice a half second: seconds busy, exchanges, worst outcome; and of the
    last day, minute by minute."""

    def __init__(self) -> None:
        self._busy = [0.0] * SLICES
        self._count = [0] * SLICES
        self._worst = [Worst.NOTHING] * SLICES
        self._slice = -1  # the number of the newest slice, counted from loop time 0
        self._first = -1
        self._minute = -1  # of loop time; what it was stands at its number in the rings
        self._first_minute = -1
        self._minute_busy_s = array("f", bytes(4 * MINUTES))
        self._minute_worst = bytearray(MINUTES)

    def minutes(self) -> list[tuple[int, MinuteLevel]]:
        """Minutes of loop time by their number, oldest first, the last one goes on. For any thread."""
        last, busy_s, worst = self._minute, self._minute_busy_s[:], bytes(self._minute_worst)
        first = max(self._first_minute, last - MINUTES + 1)
        places = ((number, number % MINUTES) for number in range(first, last + 1) if last >= 0)
        return [(number, MinuteLevel(min(busy_s[place] / 60, 1.0), Worst(worst[place]))) for number, place in places]

    def _note_minute(self, end_s: float, busy_s: float, worst: Worst) -> None:
        number = int(end_s / 60)
        if self._minute < 0:
            self._first_minute = number
        for passed in range(max(self._minute, number - MINUTES) + 1, number + 1):
            self._minute_busy_s[passed % MINUTES], self._minute_worst[passed % MINUTES] = 0.0, Worst.NOTHING
        self._minute = max(self._minute, number)
        at = number % MINUTES
        self._minute_busy_s[at] += busy_s
        if worst > self._minute_worst[at]:
            self._minute_worst[at] = worst

    def _advance(self, now_s: float) -> None:
        number = int(now_s / SLICE_S)
        if self._slice < 0:
            self._slice = self._first = number
            return
        for passed in range(max(self._slice, number - SLICES) + 1, number + 1):
            at = passed % SLICES
            self._busy[at], self._count[at], self._worst[at] = 0.0, 0, Worst.NOTHING
        self._slice = max(self._slice, number)

    def add(self, start_s: float, end_s: float, kind: OutcomeKind) -> None:
        """An exchange took the line from `start_s` to `end_s`."""
        worst = _WORST[kind]
        if start_s >= self._slice * SLICE_S and end_s < (self._slice + 1) * SLICE_S:
            # all in the newest slice, as most are
            at = self._slice % SLICES
            self._count[at] += 1
            self._busy[at] += end_s - start_s
            minute = self._minute % MINUTES
            self._minute_busy_s[minute] += end_s - start_s
            if worst > self._worst[at]:
                self._worst[at] = worst
                self._minute_worst[minute] = max(worst, self._minute_worst[minute])
            return
        self._advance(end_s)
        self._note_minute(end_s, end_s - start_s, worst)
        last = int(end_s / SLICE_S)
        at = last % SLICES
        self._count[at] += 1
        if worst > self._worst[at]:
            self._worst[at] = worst
        first = max(int(start_s / SLICE_S), last - SLICES + 1, self._first)
        if first >= last:
            self._busy[at] += end_s - max(start_s, first * SLICE_S)
            return
        for number in range(first, last + 1):
            begin, end = max(start_s, number * SLICE_S), min(end_s, (number + 1) * SLICE_S)
            self._busy[number % SLICES] += end - begin
            if number < last and worst is Worst.SILENT:
                self._worst[number % SLICES] = worst

    def frozen(self, now_s: float) -> "WaterLevels":
        """As it stands now, for whoever draws it in another thread."""
        return WaterLevels(tuple(self._busy), tuple(self._worst), self._slice, self._first, now_s)

    def levels(self, now_s: float) -> tuple[tuple[float, Worst], ...]:
        """Busy share (0…1) and worst outcome of each slice of the last minute, oldest first; the running slice is the
        last."""
        return self.frozen(now_s).levels

    def recent(self, now_s: float, span_s: float = 5.0) -> tuple[float, float]:
        """Busy share (0…1) and exchanges a second over the whole slices of the last `span_s`."""
        number = int(now_s / SLICE_S)
        numbers = [
            n
            for n in range(number - int(span_s / SLICE_S), number)
            if self._slice - SLICES < n <= self._slice and n >= self._first
        ]
        begun = max(self._first, number - int(span_s / SLICE_S))
        width = (number - begun) * SLICE_S
        if self._slice < 0 or width <= 0:
            return 0.0, 0.0
        busy = sum(self._busy[n % SLICES] for n in numbers)
        count = sum(self._count[n % SLICES] for n in numbers)
        return min(busy / width, 1.0), count / width


class WaterLevels(Struct, frozen=True):
    """The rings of a line's water at one moment; `levels` is made when somebody draws it."""

    _busy: tuple[float, ...]
    _worst: tuple[Worst, ...]
    _slice: int
    _first: int
    _now_s: float

    @property
    def levels(self) -> tuple[tuple[float, Worst], ...]:
        """Busy share (0…1) and worst outcome of each slice of the last minute, oldest first; the running slice is the
        last."""
        number = int(self._now_s / SLICE_S)
        if self._slice < 0:
            return ((0.0, Worst.NOTHING),) * SLICES
        levels = []
        for passed in range(number - SLICES + 1, number + 1):
            if passed > self._slice or passed <= self._slice - SLICES or passed < self._first:
                levels.append((0.0, Worst.NOTHING))
            else:
                width = SLICE_S if passed < number else max(self._now_s - number * SLICE_S, 0.05)
                levels.append((min(self._busy[passed % SLICES] / width, 1.0), self._worst[passed % SLICES]))
        return tuple(levels)


class Tally(Struct, frozen=True, dict=True):
    """Outcomes counted, bytes sent and received. `times` are the last 256 answer times of good answers, in seconds."""

    good: int
    exceptions: dict[int, int]
    timeouts: int
    garbled: int
    unexpected: int
    unreachable: int
    times: tuple[float, ...] = ()
    bytes_sent: int = 0
    bytes_received: int = 0

    @cached_property
    def took(self) -> tuple[float, float, float, float] | None:
        """Minimum, median, 95 % and maximum of `times`, or None; sorted when somebody asks."""
        times = sorted(self.times)
        count = len(times)
        return (times[0], times[count // 2], times[min(count * 95 // 100, count - 1)], times[-1]) if times else None

    @property
    def failed(self) -> int:
        return sum(self.exceptions.values()) + self.timeouts + self.garbled + self.unexpected + self.unreachable

    @property
    def exchanges(self) -> int:
        return self.good + self.failed


class Counts:
    """Counts the outcomes of one device."""

    def __init__(self) -> None:
        self.reset()

    def reset(self) -> None:
        """Count from nought."""
        self._counts = dict.fromkeys(OutcomeKind, 0)
        self._codes: dict[int, int] = {}
        self._took: deque[float] = deque(maxlen=_TIMES)
        self._sent = self._received = 0
        self._tally: Tally | None = None

    def add(self, outcome: Outcome) -> None:
        self._tally = None
        kind = outcome.kind
        self._counts[kind] += 1
        self._sent += len(outcome.request)
        self._received += len(outcome.answer)
        if kind is OutcomeKind.GOOD:
            self._took.append(outcome.done_at - outcome.sent_at)
        elif kind is OutcomeKind.EXCEPTION and outcome.code is not None:
            self._codes[outcome.code] = self._codes.get(outcome.code, 0) + 1

    @property
    def longest_s(self) -> float:
        """The longest that a good answer took of late; 0 before the first."""
        return max(self._took, default=0.0)

    def tally(self) -> Tally:
        """The same object as long as nothing came of it."""
        if self._tally is None:
            self._tally = self._made()
        return self._tally

    def _made(self) -> Tally:
        counts = self._counts
        return Tally(
            counts[OutcomeKind.GOOD],
            dict(self._codes),
            counts[OutcomeKind.TIMEOUT],
            counts[OutcomeKind.GARBLED],
            counts[OutcomeKind.UNEXPECTED],
            counts[OutcomeKind.UNREACHABLE],
            tuple(self._took),
            self._sent,
            self._received,
        )
