"""The scratch reading: some registers of one unit, read again and again without touching a map."""

import asyncio
import time
from collections.abc import Callable

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.lines.channel import Unreachable
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.lending import held_by
from kanaleto.probing.question import LAST_ADDRESS, Ask, Never, Sparing, is_forbidden, survey_exchanger
from kanaleto.site.links.link import Link
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer, Request

LEAST_PERIOD_S = 0.05
_RECONNECT_S = 1.0
_CHANGE_SHOWN_S = 2.0


class ScratchQuestion(Struct, frozen=True):
    """What is read, and how often; a period of 0 reads once."""

    unit_id: int = 1
    table: Table = Table.HOLDING
    address: int = 0
    count: int = 1
    period_s: float = 1.0

    def step(self, groups: int) -> "ScratchQuestion":
        """The group of as many before or behind, no further than the ends."""
        address = max(0, min(self.address + groups * self.count, LAST_ADDRESS + 1 - self.count))
        return replace(self, address=address)

    def widen(self, by: int) -> "ScratchQuestion":
        """So many more or fewer, within what one request may ask."""
        most = min(self.table.most_read, LAST_ADDRESS + 1 - self.address)
        return replace(self, count=max(1, min(self.count + by, most)))

    def wrong(self) -> str:
        """What is wrong with it, in one sentence, or nothing."""
        if not 1 <= self.count <= self.table.most_read:
            return f"one request reads 1…{self.table.most_read} {self.table.title}, not {self.count}"
        if self.address + self.count > LAST_ADDRESS + 1:
            return f"{self.count} {self.table.title} from {self.address} run past the last address, 65535"
        if not 0 <= self.unit_id <= 255:
            return f"unit IDs are 0…255, not {self.unit_id}"
        return ""


class ScratchState(Struct, frozen=True):
    """What came last: words (or bits), which of them changed lately, or why there are none; how often it was read, in
    seconds how long."""

    question: ScratchQuestion
    values: tuple[int, ...] = ()
    changed: frozenset[int] = frozenset()
    error: str = ""
    reads: int = 0
    took_s: float = 0.0
    wall_s: float = 0.0


class ScratchReader:
    """`state` is replaced whole and may be read from any thread. `run` reads until cancelled, or once where the period
    is 0."""

    def __init__(
        self, link: Link, question: ScratchQuestion, timeout_s: float = 1.0, never: Never = (),
        polled: Callable[[], Ask | None] = lambda: None, wall: Callable[[], float] = time.time,
        lent_to: Callable[[], str] = lambda: "",
    ) -> None:  # fmt: skip
        self.link = link
        self.question = question
        self.state = ScratchState(question)
        self._timeout_s = timeout_s
        self._never = never
        self._polled, self._lent_to = polled, lent_to
        self._wall = wall
        self._changed_at: dict[int, float] = {}

    async def run(self) -> None:
        """Through the line where it is polled, looked for again each time, since it may come and go; else on a
        connection of its own."""
        exchanger = survey_exchanger(self.link)

        async def ask_polled(unit_id: int, request: Request, timeout_s: float) -> Outcome:
            polled = self._polled()
            if polled is None:
                raise Unreachable("the line is not polled any more")
            return await polled(unit_id, request, timeout_s)

        sparing = Sparing(ask_polled)

        async def ask(unit_id: int, request: Request, timeout_s: float) -> Outcome:
            if self._polled() is not None:
                if exchanger.is_open:
                    exchanger.close()
                return await sparing(unit_id, request, timeout_s)
            if doing := self._lent_to():
                exchanger.close()
                raise Unreachable(held_by(doing, self.link))
            if not exchanger.is_open:
                await exchanger.open()
            return await exchanger.ask(unit_id, request, timeout_s)

        try:
            await self._read_on(ask)
        finally:
            exchanger.close()

    async def _read_on(self, ask: Ask) -> None:
        loop = asyncio.get_running_loop()
        while True:
            start = loop.time()
            pause_s = await self._read_once(ask)
            if self.question.period_s <= 0:
                return
            period_s = max(self.question.period_s, LEAST_PERIOD_S, pause_s)
            await asyncio.sleep(max(period_s - (loop.time() - start), 0.0))

    async def _read_once(self, ask: Ask) -> float:
        """Read; gives the least pause until the next try."""
        question = self.question
        wrong = question.wrong()
        if not wrong and is_forbidden(
            self._never, question.table, question.address, question.address + question.count - 1
        ):
            wrong = (
                "some of these addresses must never be read: never_read names them, or their points are only written"
            )
        if wrong:
            self.state = ScratchState(question, error=wrong)
            return _RECONNECT_S
        try:
            outcome = await ask(
                question.unit_id, Read(question.table, question.address, question.count), self._timeout_s
            )
        except (Unreachable, OverflowError) as error:
            self.state = replace(self.state, question=question, values=(), error=str(error))
            return _RECONNECT_S
        content = outcome.content
        if outcome.kind is not OutcomeKind.GOOD or not isinstance(content, ReadAnswer):
            self.state = replace(
                self.state, question=question, error=outcome.reason, reads=self.state.reads + 1, took_s=outcome.took_s
            )
            return 0.0
        values = tuple(map(int, content.bits(question.count))) if question.table.is_bits else content.words
        self._note_changes(question, values, outcome.done_at)
        self.state = ScratchState(
            question, values, frozenset(self._changed_at), "", self.state.reads + 1, outcome.took_s, self._wall()
        )  # fmt: skip
        return 0.0

    def _note_changes(self, question: ScratchQuestion, values: tuple[int, ...], now: float) -> None:
        self._changed_at = {address: at for address, at in self._changed_at.items() if now - at < _CHANGE_SHOWN_S}
        before = self.state
        if (before.question.unit_id, before.question.table) != (question.unit_id, question.table):
            self._changed_at.clear()
            return
        for number, value in enumerate(values):
            address = question.address + number
            at = address - before.question.address
            if 0 <= at < len(before.values) and before.values[at] != value:
                self._changed_at[address] = now
