"""How much silence a serial line needs between frames, where its devices need more than the standard asks (2.5.1.1).

A device that is still busy with its last answer does not hear a question that comes at once, and answers the same
question a moment later. It is repeated only once the device has answered what it answered before: a question that
silences a device is asked once. When that has happened a few times in a row it is measured, with a question that was
answered before: the shortest rest after which it is answered each time.
"""

import asyncio
from collections.abc import Awaitable, Callable

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.wire.pdu import Request

_RESTS_S = (0.0, 0.015, 0.03, 0.06, 0.12)
_ROW = 3  # so many questions in a row that were answered only when they were repeated
_TRIES = 3
_MOST_MEASURED = 4
_CLOSE_S = 0.15  # a question that went so soon behind an answer may have come too soon
_VAIN = 6  # so many repeated in vain in a row: it is no matter of rest


class Rest:
    """What a line needs, learned while it is asked; `rest_s` may be read from any thread."""

    def __init__(self) -> None:
        self.rest_s = 0.0
        self._row = self._vain = self._measured = 0
        self._answered: dict[int, Request] = {}
        self._last_at = -1e9

    async def ask(self, exchanger: Exchanger, unit_id: int, request: Request, timeout_s: float) -> Outcome:
        """Ask, and once more after a rest where the question may have come too soon."""
        exchanger.rest(self.rest_s)
        outcome = await exchanger.ask(unit_id, request, timeout_s)
        is_close = outcome.sent_at - self._last_at < _CLOSE_S
        if outcome.is_answer:
            self._last_at = outcome.done_at
            self._answered[unit_id] = request
            self._row = self._row if not is_close else 0
            return outcome
        if (
            outcome.kind is not OutcomeKind.TIMEOUT
            or not is_close
            or unit_id not in self._answered
            or self._vain >= _VAIN
            or self._measured >= _MOST_MEASURED
        ):
            return outcome
        if not (await exchanger.ask(unit_id, self._answered[unit_id], timeout_s)).is_answer:
            return outcome
        await asyncio.sleep(_CLOSE_S)
        repeated = await exchanger.ask(unit_id, request, timeout_s)
        if not repeated.is_answer:
            self._vain += 1
            return repeated
        self._vain, self._row, self._last_at = 0, self._row + 1, repeated.done_at
        if self._row >= _ROW:
            self._row, self._measured = 0, self._measured + 1
            self.rest_s = await _measured_s(exchanger.rest, exchanger.ask, unit_id, request, timeout_s, self.rest_s)
        return repeated


async def _measured_s(
    rest: Callable[[float], None], ask: Callable[[int, Request, float], Awaitable[Outcome]],
    unit_id: int, request: Request, timeout_s: float, known_s: float,
) -> float:  # fmt: skip
    """The shortest rest in seconds after which a question that is answered is answered each time; `known_s` where none
    is."""
    for rest_s in _RESTS_S:
        if rest_s < known_s:
            continue
        rest(rest_s)
        await asyncio.sleep(_RESTS_S[-1])
        if not (await ask(unit_id, request, timeout_s)).is_answer:  # the line itself is not well just now
            return known_s
        if all([(await ask(unit_id, request, timeout_s)).is_answer for _ in range(_TRIES)]):
            return rest_s
    return known_s
