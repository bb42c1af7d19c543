"""Which one is it? The units that were found are asked in turn, again and again, so that the one that is unplugged or
switched off is known by its number."""

import asyncio
from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.pace import Pace
from kanaleto.probing.question import Ask
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.wire.identity import Depth, Identify
from kanaleto.wire.pdu import Request

_MISSES = 2  # on end, and it is gone
_ROUND_S = 0.5
_ROOM = 3.0


class Called(Struct, frozen=True):
    """One unit: whether it answers, since when that is so (loop time, 0 while it was always so), how often it went."""

    unit_id: int
    is_there: bool = True
    since_s: float = 0.0
    went: int = 0


class RollCall:
    """`called` (replaced whole), `latest` (the unit that went or came last, 0 for none) and `rounds` may be read from
    any thread."""

    def __init__(self, ask: Ask, units: Iterable[int], question: Request, timeout_s: float = 0.5) -> None:
        self.called: tuple[Called, ...] = tuple(Called(unit) for unit in units)
        self.latest = 0
        self.rounds = 0
        self._ask = ask
        self._questions: dict[int, Request] = {}
        self._question = question
        self._paces = {one.unit_id: Pace(timeout_s, room=_ROOM) for one in self.called}
        self._misses: dict[int, int] = {}

    async def run(self) -> None:
        """Ask until cancelled. Raises SurveyStopped when the line is lost."""
        loop = asyncio.get_running_loop()
        while self.called:
            began_s = loop.time()
            for one in self.called:
                await self._call(one.unit_id)
            self.rounds += 1
            await asyncio.sleep(max(_ROUND_S - (loop.time() - began_s), 0.0))

    async def _call(self, unit_id: int) -> None:
        pace = self._paces[unit_id]
        is_first = unit_id not in self._questions and not self.rounds
        questions = (
            [self._question, Identify(Depth.BASIC)] if is_first else [self._questions.get(unit_id, self._question)]
        )
        for question in questions:
            outcome = await self._ask(unit_id, question, pace.longest_s if is_first else pace.timeout_s)
            if outcome.kind is OutcomeKind.UNREACHABLE:
                raise SurveyStopped(f"the line was lost: {outcome.reason}")
            if outcome.is_answer:
                pace.note_answer(outcome.took_s)
                self._questions[unit_id] = question
                self._misses[unit_id] = 0
                self._note(unit_id, True)
                return
        self._misses[unit_id] = self._misses.get(unit_id, 0) + 1
        if self._misses[unit_id] >= _MISSES:
            self._note(unit_id, False)

    def _note(self, unit_id: int, is_there: bool) -> None:
        now = asyncio.get_running_loop().time()
        changed = []
        for one in self.called:
            if one.unit_id == unit_id and one.is_there is not is_there:
                one = replace(one, is_there=is_there, since_s=now, went=one.went + (not is_there))
                self.latest = unit_id
            changed.append(one)
        self.called = tuple(changed)
