"""How fast a host on the network is asked: so many questions a second at most, fewer where it closes connections, and a
device that becomes slower under it is asked a tenth of the time."""

import asyncio
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from statistics import median

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.question import survey_exchanger
from kanaleto.site.links.link import Link

PER_S = 50.0
_LEAST_PER_S = 5.0
_SLOWER, _SHARE = 3.0, 0.1  # times its first median; of the time it is asked then
_FIRST, _LATELY = 9, 5  # answers that a median is taken of
_TOLD = 12
_QUICK_S = 0.01  # whoever answers sooner is not slow for taking a few times as long


class _OfLength:
    """How long answers of one length took: at first, and lately."""

    def __init__(self) -> None:
        self.first_s: list[float] = []
        self.lately_s: deque[float] = deque(maxlen=_LATELY)

    def note(self, took_s: float) -> None:
        if len(self.first_s) < _FIRST:
            self.first_s.append(took_s)
        else:
            self.lately_s.append(took_s)

    @property
    def is_judged(self) -> bool:
        return len(self.lately_s) == _LATELY

    @property
    def usual_s(self) -> float:
        """Of late."""
        return median(self.lately_s)

    @property
    def is_slow(self) -> bool:
        return self.is_judged and self.usual_s > _SLOWER * max(median(self.first_s), _QUICK_S)


class Gently:
    """For one host: an address and a port. `per_s` 0 is without limit. The counts may be read from any thread."""

    def __init__(self, link: Link, per_s: float = PER_S) -> None:
        self.is_network = link.local_port is None
        self.per_s = per_s if self.is_network else 0.0
        self.asked: dict[int, int] = {}
        """Questions by unit ID."""
        self.slowed: set[int] = set()
        """Units that became slower, and were asked a tenth of the time."""
        self.closed = 0
        """Connections that the host has closed."""
        self._exchanger: Exchanger | None = None
        self._answers: dict[tuple[int, int], _OfLength] = {}
        self._not_before_s: dict[int, float] = {}
        self._slow_at: dict[int, int] = {}  # the length of the answers that showed it
        self._each_s: dict[int, float] = {}  # from one question to the next, of units that became slower
        self._under_way = 0
        self._is_behind = False  # nobody answered the last question: the far end may still be busy with it
        self._free_at = -1e9  # when it was known not to be
        self.resting = 0
        """Questions that wait until a unit which became slower may be asked."""

    def take(self, exchanger: Exchanger) -> None:
        """Whatever is asked on it goes no faster from now on."""
        self._exchanger = exchanger
        exchanger.keep_apart(1 / self.per_s if self.per_s else 0.0)

    async def turn_of(self, unit_id: int) -> None:
        """Wait until that unit may be asked."""
        self.asked[unit_id] = self.asked.get(unit_id, 0) + 1
        each_s = self._each_s.get(unit_id)
        if each_s is not None:
            now_s = asyncio.get_running_loop().time()
            begin_s = max(now_s, self._not_before_s.get(unit_id, 0.0))
            self._not_before_s[unit_id] = begin_s + each_s  # several may wait for their turn
            self.resting += 1
            try:
                await asyncio.sleep(begin_s - now_s)
            finally:
                self.resting -= 1

    def is_resting(self, unit_id: int, now_s: float) -> bool:
        """Whether that unit may not be asked yet."""
        return now_s < self._not_before_s.get(unit_id, 0.0)

    @contextmanager
    def asking(self) -> Iterator[int]:
        """As long as a question is under way: gives how many are, with this one."""
        self._under_way += 1
        try:
            yield self._under_way
        finally:
            self._under_way -= 1

    def note(self, outcome: Outcome, crowd: int = 1) -> None:
        """What came of a question, with which so many were under way. What had to wait for a far end that takes one
        question after the other says nothing of how slow the unit is."""
        if not self.per_s:
            return
        if outcome.kind is OutcomeKind.TIMEOUT:
            self._is_behind = True
        elif self._is_behind or not outcome.is_answer:  # that of a gateway came behind what nobody answered
            self._is_behind, self._free_at = False, outcome.done_at
        if not outcome.is_answer or outcome.sent_at < self._free_at:
            return
        unit_id, length = outcome.unit_id, len(outcome.answer)
        answers = self._answers.setdefault((unit_id, length), _OfLength())
        answers.note((outcome.done_at - outcome.sent_at) / crowd)
        if answers.is_slow:
            self.slowed.add(unit_id)
            self._each_s[unit_id] = answers.usual_s / _SHARE
            self._slow_at[unit_id] = length
        elif answers.is_judged and self._slow_at.get(unit_id) == length:
            self._each_s.pop(unit_id, None)
            self._not_before_s.pop(unit_id, None)

    def note_closed(self) -> None:
        """The host has closed the connection: half as fast from now on."""
        self.closed += 1
        if self.per_s:
            self.per_s = max(self.per_s / 2, _LEAST_PER_S)
        if self._exchanger is not None:
            self.take(self._exchanger)

    def text(self, passed_s: float) -> str:
        """How many were asked of whom, and how fast, in one sentence."""
        count = sum(self.asked.values())
        if not count:
            return ""
        most = f", at most {self.per_s:g} a second" if self.per_s else ""
        busiest = sorted(self.asked.items(), key=lambda one: -one[1])[:_TOLD]
        units = ", ".join(f"unit {unit} {asked}" for unit, asked in busiest)
        times = "once" if self.closed == 1 else f"{self.closed} times"
        closed = f"; it closed the connection {times}" if self.closed else ""
        slowed = ", ".join(str(unit) for unit in sorted(self.slowed))
        slow = f"; unit {slowed} became slower and was asked a tenth of the time" if slowed else ""
        return f"{count} questions, {count / max(passed_s, 0.1):.1f} a second{most}: {units}{closed}{slow}"


def gentle_exchanger(link: Link, per_s: float = PER_S) -> Exchanger:
    """An exchanger for a survey, on which no host on the network is asked faster than that."""
    exchanger = survey_exchanger(link)
    Gently(link, per_s).take(exchanger)
    return exchanger
