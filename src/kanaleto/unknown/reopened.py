"""A line that a long search asks on: opened again when it is lost, left when another master begins to talk on it."""

import asyncio
from collections import deque
from collections.abc import Callable

from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.gently import Gently
from kanaleto.probing.question import Opener
from kanaleto.probing.rest import Rest
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.site.links.link import Link
from kanaleto.wire.pdu import Request

_RECONNECT_S = (0.02, 0.5, 1.0, 2.0, 5.0, 10.0)
_FOREIGN_FRAMES, _FOREIGN_S = 5, 20.0  # so many answers to nobody here, within so long: another master talks
_MAY_BE_LATE_S = 3.0
_SETTLE_S = 0.005


class Reopened:
    """Asks on a connection, and opens it again when it is lost: devices come and go, gateways hang up."""

    def __init__(self, link: Link, opener: Opener, until_s: Callable[[], float | None], gently: Gently) -> None:
        self.exchanger: Exchanger = opener(link)
        self._gently = gently
        gently.take(self.exchanger)
        self.rest = Rest()
        self._until_s = until_s
        self._opening = asyncio.Lock()
        self._heard: deque[float] = deque(maxlen=_FOREIGN_FRAMES)
        self._strays, self._timeout_at = 0, -1e9

    async def ask(self, unit_id: int, request: Request, timeout_s: float) -> Outcome:
        await self.settle()
        await self._gently.turn_of(unit_id)
        with self._gently.asking() as crowd:
            if self.exchanger.framing.has_transactions:
                outcome = await self.exchanger.ask(unit_id, request, timeout_s)
            else:
                outcome = await self.rest.ask(self.exchanger, unit_id, request, timeout_s)
        self._gently.note(outcome, crowd)
        self._hear_others(outcome)
        if outcome.kind is not OutcomeKind.UNREACHABLE:
            return outcome
        if not await self.open_again():
            return outcome
        return await self.exchanger.ask(unit_id, request, timeout_s)

    def _hear_others(self, outcome: Outcome) -> None:
        """Answers that nobody here has asked for come from whoever has begun to talk; not on a connection, which is
        nobody else's. Raises SurveyStopped."""
        if self.exchanger.framing.has_transactions:
            return
        strays = self.exchanger.traffic.strays
        is_foreign = strays.unasked + strays.late > self._strays or outcome.kind is OutcomeKind.UNEXPECTED
        self._strays = strays.unasked + strays.late
        if outcome.kind is OutcomeKind.TIMEOUT:
            self._timeout_at = outcome.done_at  # what comes now may be the answer to that
        if is_foreign and outcome.done_at - self._timeout_at > _MAY_BE_LATE_S:
            self._heard.append(outcome.done_at)
        if len(self._heard) == _FOREIGN_FRAMES and outcome.done_at - self._heard[0] < _FOREIGN_S:
            raise SurveyStopped(
                "somebody else has begun to talk on this line: answers came that nobody here had asked for;"
                " take the other master off, and go on"
            )

    async def settle(self) -> None:
        """Wait for what somebody who was stopped has asked, where only one may be asked at a time."""
        while not self.exchanger.framing.has_transactions and self.exchanger.is_busy:
            await asyncio.sleep(_SETTLE_S)

    async def open_again(self) -> bool:
        """Whether it could be opened again, after some tries."""
        async with self._opening:
            if not self.exchanger.is_open:
                self._gently.note_closed()
            for pause_s in _RECONNECT_S:
                if self.exchanger.is_open:
                    return True
                await asyncio.sleep(pause_s)
                try:
                    await self.exchanger.open()
                except Unreachable:
                    until_s = self._until_s()
                    if until_s is not None and asyncio.get_running_loop().time() > until_s:
                        return False
            return self.exchanger.is_open
