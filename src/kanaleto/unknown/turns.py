"""The registers of all units of a line, in turns: whatever is likeliest to read anywhere is asked next.

How likely, divided by how long an answer takes there, so that a slow unit does not hold up the others. What was found
on one unit is tried first on those like it, and in the table beside it. Meanwhile everything found is read again and
again, so that the words tell what they are. Where the far end takes several requests at a time they are given to it, as
long as that brings more.

A unit falls silent when it does not answer a read and then, twice, not what it answered before. The address is never
read again in this run, whatever else was silent then. Once the unit is back it is asked on, but after all others; when
it falls silent a second time, alone, it is left alone. Where only an answer was lost, that address is asked again at
the end.
"""

import asyncio
from collections.abc import Callable, Coroutine
from contextlib import suppress
from typing import Any

from msgspec import Struct, field

from kanaleto.probing import weights
from kanaleto.probing.gently import Gently
from kanaleto.probing.question import Ask, Never
from kanaleto.probing.registers import ALL_TABLES, FellSilent, RegisterSurvey, UnitStopped
from kanaleto.probing.surveyfile import take_over
from kanaleto.probing.tables import TableSearch
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.unknown.sampling import Samples
from kanaleto.wire.codes import Table

_SIBLING = {
    Table.HOLDING: Table.INPUT,
    Table.INPUT: Table.HOLDING,
    Table.COIL: Table.DISCRETE,
    Table.DISCRETE: Table.COIL,
}
_BACK_S, _MOST_BACK_S = 5.0, 60.0
_LAST_LOOKS = 4  # at a unit that is away, once nothing else is left to ask
_RESERVE = 0.02  # how likely places of a unit that fell silent are taken for, so that all others come first
_MOST_FALLS = 2
_TOGETHER_S = 15.0  # units that fall silent within so long of each other do so together
_MOST_AT_ONCE = 8
_WINDOW_S, _BETTER = 1.5, 1.2
_LOOK_S = 0.1
_REQUESTS = 1 << 40
_SAMPLED_SHARE = 6.0  # so many times as long as reading everything takes, until it is read again


class Turn(Struct):
    """One unit: its survey, the samples of what it holds, and why it is not asked any more, if it is not."""

    survey: RegisterSurvey
    samples: Samples = field(default_factory=Samples)
    says: str = ""  # what it says of itself
    trouble: str = ""
    falls: int = 0  # how often it fell silent alone
    fell_at: FellSilent | None = None  # while it is away
    last_looks: int = 0
    away_since: float | None = None
    back_at: float = 0.0
    pause_s: float = _BACK_S
    is_left_alone: bool = False
    took_s: float = 0.05
    busy: set[Table] = field(default_factory=set)

    def suggest(self, table: Table, first: int, last: int) -> None:
        """That a span reads, as a map says of such devices."""
        for search in self.survey.tables:
            if search.table is table:
                search.suggest(first, weights.SEARCH.said_by_map, last)

    @property
    def is_there(self) -> bool:
        return self.away_since is None and not self.is_left_alone

    def forgive(self) -> None:
        """The place at which it fell silent is not to blame."""
        if self.fell_at is not None:
            self.survey.forgive(self.fell_at.table, self.fell_at.first, self.fell_at.last)
            self.fell_at = None


class Turns:
    """`units` by unit ID, and `at_once`, may be read from any thread."""

    def __init__(
        self, ask: Ask, never: Never, timeout_s: float, may_have_several: bool = False, with_every: bool = False,
        gently: Gently | None = None,
    ) -> None:  # fmt: skip
        self.units: dict[int, Turn] = {}
        self.at_once = 1
        self.asked = 0
        self.busy_s = 0.0  # that a gateway takes for what nobody answers
        self._ask, self._never = ask, never
        self._timeout_s = timeout_s
        self._with_every = with_every
        self._is_climbing = may_have_several
        self._window: tuple[float, int, float] = (0.0, 0, 0.0)
        self._gently = gently
        self._due: list[Turn] = []
        self._reported = 0

    def add(
        self, unit_id: int, says: str = "", kept: Any = None, samples: Samples | None = None, left_alone: str = ""
    ) -> Turn:
        """A unit that answers; `kept` is what an earlier search knew of it, `left_alone` why that left it alone: now it
        has its turns again, and the place that did it is gone about with care."""
        if unit_id not in self.units:
            survey = RegisterSurvey(
                self._ask, unit_id, ALL_TABLES, 0, 0xFFFF, self._never, self._timeout_s, self._with_every,
                leaves_alone=True, on_step=self._note_step,
            )  # fmt: skip
            survey.busy_s = self.busy_s
            self.units[unit_id] = Turn(survey, samples or Samples(), says, left_alone)
            if kept is not None:
                take_over(kept, survey)
        return self.units[unit_id]

    def ask_with(self, ask: Ask) -> None:
        """Another way to the line from now on."""
        self._ask = ask
        for turn in self.units.values():
            turn.survey.ask_with(ask)
            turn.busy.clear()

    def _note_step(self, survey: RegisterSurvey) -> None:
        self.asked += 1

    @property
    def items(self) -> int:
        return sum(turn.survey.items for turn in self.units.values())

    @property
    def is_over(self) -> bool:
        """Whether nothing is left that anybody would ask."""
        return not any(self._best_of(turn)[0] for turn in self.units.values() if not turn.is_left_alone)

    @property
    def left_s(self) -> float:
        """About how long until every likely place was asked."""
        left = sum(
            table.left * turn.took_s
            for turn in self.units.values() if not turn.is_left_alone
            for table in turn.survey.tables
        )  # fmt: skip
        return left / self.at_once

    # The search

    async def search(self, until_s: float | None, round_every_s: float) -> None:
        """Ask until everything likely was asked, or until that loop time. Every so many seconds all that was found is
        read once. Raises SurveyStopped when the line is lost."""
        loop = asyncio.get_running_loop()
        next_round_s = loop.time() + round_every_s
        self._window = (loop.time(), self.asked, self._window[2])
        running: set[asyncio.Task[None]] = set()
        try:
            while until_s is None or loop.time() < until_s:
                if loop.time() >= next_round_s:
                    self._due = [turn for turn in self.units.values() if turn.is_there and turn.survey.items]
                    next_round_s = loop.time() + max(round_every_s, _SAMPLED_SHARE * self.round_s)
                resting = self._gently.resting if self._gently is not None else 0
                while len(running) - resting < self.at_once and (job := self._next_job(loop.time())) is not None:
                    running.add(asyncio.create_task(job()))
                if not running:
                    if self.is_over:
                        return
                    self._wait_for_the_last(loop.time())
                    await asyncio.sleep(0.05)
                    continue
                timeout_s = max(until_s - loop.time(), 0.0) if until_s is not None else None
                if self._gently is not None and self._gently.slowed:  # others are asked while one of those waits
                    timeout_s = min(timeout_s, _LOOK_S) if timeout_s is not None else _LOOK_S
                done, running = await asyncio.wait(running, timeout=timeout_s, return_when=asyncio.FIRST_COMPLETED)
                for task in done:
                    task.result()
                self._climb(loop.time())
        finally:
            for task in running:
                task.cancel()
            if running:
                await asyncio.gather(*running, return_exceptions=True)

    def _next_job(self, now: float) -> Callable[[], Coroutine[None, None, None]] | None:
        for turn in self.units.values():
            if turn.away_since is not None and now >= turn.back_at and not turn.busy:
                turn.busy.update(ALL_TABLES)
                return lambda: self._look_whether_back(turn)
        for turn in self._due:
            if not turn.busy and not self._is_resting(turn, now):
                self._due.remove(turn)
                turn.busy.update(ALL_TABLES)
                return lambda: self._sample(turn)
        is_alone = sum(turn.is_there for turn in self.units.values()) < self.at_once
        best: tuple[float, Turn, TableSearch] | None = None
        for turn in self.units.values():
            if not turn.is_there or (turn.busy and not is_alone) or self._is_resting(turn, now):
                continue
            score, table = self._best_of(turn)
            score *= (_RESERVE if turn.falls else 1.0) / turn.took_s**weights.SEARCH.hurry
            if table is not None and score > (best[0] if best is not None else 0.0):
                best = score, turn, table
        if best is None:
            return None
        _, chosen, table = best
        chosen.busy.add(table.table)
        return lambda: self._explore(chosen, table)

    def _is_resting(self, turn: Turn, now: float) -> bool:
        return self._gently is not None and self._gently.is_resting(turn.survey.unit_id, now)

    def _best_of(self, turn: Turn) -> tuple[float, TableSearch | None]:
        free = [table for table in turn.survey.tables if table.table not in turn.busy]
        table = max(free, key=turn.survey.score_of, default=None)
        score = turn.survey.score_of(table) if table is not None else 0.0
        return (score, table) if score else (0.0, None)

    async def _explore(self, turn: Turn, table: TableSearch) -> None:
        loop = asyncio.get_running_loop()
        began_s, asked = loop.time(), turn.survey.asked
        turn.survey.allow(_REQUESTS)
        turn.survey.crowd = self._crowd()
        try:
            await turn.survey.knock()
            await turn.survey.explore(table)
        except FellSilent as silent:
            self._fall(turn, loop.time(), silent)
        except SurveyStopped as stopped:
            if not isinstance(stopped, UnitStopped):
                raise
            self._miss(turn, loop.time(), str(stopped))
        finally:
            turn.busy.discard(table.table)
        each_s = (loop.time() - began_s) / max(turn.survey.asked - asked, 1)
        turn.took_s += 0.1 * (max(each_s, 0.001) - turn.took_s)
        fresh = table.new_runs()
        for first, last in fresh:
            self._tell_others(turn, table, first, last)
        if fresh or self._reported < len(self.units):
            self._reported = len(self.units)
            self._choose_leaders()

    def _tell_others(self, turn: Turn, table: TableSearch, first: int, last: int) -> None:
        """What was found is likely beside it, and on other units."""
        for sibling in turn.survey.tables:
            if sibling.table is _SIBLING[table.table]:
                sibling.suggest(first, weights.SEARCH.other_table, last)
        for other in self.units.values():
            if other is not turn:
                like = _likeness(turn, other)
                for theirs in other.survey.tables:
                    if theirs.table is table.table:
                        theirs.suggest(first, max(weights.SEARCH.like_another * like, weights.SEARCH.of_another), last)

    def _choose_leaders(self) -> None:
        """Of units that are alike only the quickest looks everywhere; the others look where it found something, and
        elsewhere the less, the more they are alike."""
        turns = sorted((turn for turn in self.units.values() if turn.is_there), key=lambda turn: turn.took_s)
        for at, turn in enumerate(turns):
            like = max((_likeness(leader, turn) for leader in turns[:at] if leader.survey.items), default=0.0)
            for table in turn.survey.tables:
                table.eagerness = max(1.0 - like, weights.SEARCH.least_eager)

    # Units that fall silent

    def _miss(self, turn: Turn, now: float, why: str) -> None:
        """It does not answer, or not as anybody could go on with."""
        turn.trouble, turn.away_since, turn.pause_s = why, now, _BACK_S
        turn.back_at = now + turn.pause_s

    def _fall(self, turn: Turn, now: float, silent: FellSilent) -> None:
        """It fell silent at a place: that is not asked again, unless others fell silent at the same time."""
        turn.survey.shun(silent.table, silent.first, silent.last)
        turn.fell_at = silent
        together = self._away_with(turn, now)
        self._miss(turn, now, f"fell silent when asked for {silent.span}" + (", as others did" if together else ""))
        for other in together:  # it was the line
            other.falls, other.is_left_alone = max(other.falls - 1, 0), False
            other.forgive()
        if together:
            turn.forgive()
        turn.falls += not together
        turn.is_left_alone = turn.falls >= _MOST_FALLS

    def _away_with(self, turn: Turn, now: float) -> list[Turn]:
        """Others that fell silent lately."""
        return [
            other for other in self.units.values()
            if other is not turn and other.away_since is not None and now - other.away_since < _TOGETHER_S
        ]  # fmt: skip

    def _wait_for_the_last(self, now: float) -> None:
        """Nothing is left to ask but of units that are away: they are looked at a few times more, at growing pauses."""
        for turn in self.units.values():
            if turn.away_since is None or turn.is_left_alone:
                continue
            if turn.last_looks >= _LAST_LOOKS:
                turn.is_left_alone = True
            elif not turn.last_looks:
                turn.last_looks, turn.pause_s, turn.back_at = 1, _BACK_S / 2, now

    def ask_lost_again(self) -> None:
        """Places at which only an answer was lost, as far as is known, have one more turn."""
        for turn in self.units.values():
            turn.survey.ask_lost_again()

    async def _look_whether_back(self, turn: Turn) -> None:
        now = asyncio.get_running_loop().time()
        turn.pause_s = min(2 * turn.pause_s, _MOST_BACK_S)
        turn.back_at = now + turn.pause_s
        turn.last_looks += bool(turn.last_looks)
        try:
            if turn.is_left_alone:
                return
            turn.survey.allow(_REQUESTS)
            await turn.survey.knock()
            is_back = await turn.survey.is_alive()
        except SurveyStopped as stopped:
            if not isinstance(stopped, UnitStopped):
                raise
            return
        finally:
            turn.busy.clear()
        if is_back:
            assert turn.away_since is not None
            away_s = asyncio.get_running_loop().time() - turn.away_since
            turn.trouble = f"{turn.trouble or 'fell silent'}, and was back after {away_s:.0f} s"
            turn.away_since, turn.last_looks = None, 0
            turn.fell_at = None  # an outage that comes later does not excuse it

    # Samples

    async def _sample(self, turn: Turn) -> None:
        loop = asyncio.get_running_loop()
        began_s = loop.time()
        words = {}
        try:
            turn.survey.allow(_REQUESTS)
            turn.survey.crowd = self._crowd()
            words = await turn.survey.read_spans()
            if not words:
                self._miss(turn, loop.time(), "fell silent")
        except SurveyStopped as stopped:
            if not isinstance(stopped, UnitStopped):
                raise
            self._miss(turn, loop.time(), str(stopped))
        finally:
            turn.busy.clear()
            if words:
                turn.samples.add(loop.time(), words, loop.time() - began_s)

    async def sample(self, least: int, until_s: float | None, apart_s: float) -> None:
        """Read everything until each run was read so often, or until that loop time."""
        loop = asyncio.get_running_loop()
        while until_s is None or loop.time() < until_s:
            wanting = [
                turn for turn in self.units.values()
                if turn.is_there and turn.survey.items and turn.samples.fewest_of(turn.survey.tables) < least
            ]  # fmt: skip
            if not wanting:
                return
            began_s = loop.time()
            for turn in wanting:
                if until_s is not None and loop.time() >= until_s:
                    return
                with suppress(TimeoutError):  # of what is asked less
                    async with asyncio.timeout_at(until_s):
                        await self._sample(turn)
            pause_s = max(apart_s - (loop.time() - began_s), 0.0)
            if until_s is not None:
                pause_s = min(pause_s, max(until_s - loop.time(), 0.0))
            await asyncio.sleep(pause_s)

    @property
    def round_s(self) -> float:
        """About how long it takes to read everything that was found once."""
        return sum(len(turn.survey.spans()) * turn.took_s * 1.3 for turn in self.units.values() if turn.is_there)

    # How many at a time

    def _crowd(self) -> int:
        """How many may wait at the far end before a request that is sent now."""
        beside = self._gently is not None and bool(self._gently.slowed)  # one that rested may be asked meanwhile
        return 2 * self.at_once if self.at_once > 1 or beside else 1

    def _climb(self, now: float) -> None:
        """More at a time while that brings more answers a second."""
        since, asked, before = self._window
        if not self._is_climbing or now - since < _WINDOW_S:
            return
        rate = (self.asked - asked) / (now - since)
        if self.at_once > 1 and rate < _BETTER * before:
            self.at_once //= 2
            self._is_climbing = False
        elif self.at_once < _MOST_AT_ONCE:
            self.at_once *= 2
        else:
            self._is_climbing = False
        self._window = (now, self.asked, rate)


def _likeness(one: Turn, other: Turn) -> float:
    """How alike two units are, 0 to 1: by where ranges begin on either, and whether the other reads there."""
    agree = differ = 0
    for mine, theirs in zip(one.survey.tables, other.survey.tables, strict=True):
        for table, across in ((mine, theirs), (theirs, mine)):
            for first, _ in table.runs:
                if across.reads(first):
                    agree += 1
                elif across.is_known(first):
                    differ += 1
    weight = weights.SEARCH
    alike = weight.alike if not one.says or not other.says else 4 * weight.alike if one.says == other.says else 0.0
    return (agree / 2 + alike) / (agree / 2 + weight.unlike * differ + 1.0 + max(alike - weight.alike, 0.0))
