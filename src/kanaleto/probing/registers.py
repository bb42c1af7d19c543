"""Which addresses of a unit answer, how much one request may ask, and what else can be known of it by reading.

`tables.TableSearch` says where to look, the likeliest first; here it is asked, and what came is distinguished: a
refusal, a busy device, a lost or garbled answer, a hole at which the device is silent, and a device that is not there
any more.

A unit that falls silent at an address and does not answer what it answered before has restarted or hung: the address
goes on the list of what is dangerous, the unit is waited for, and the survey goes on behind it; with `leaves_alone` it
ends there (`FellSilent`). The survey can be stopped and gone on with at any request.
"""

import asyncio
from collections.abc import Callable, Iterable

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.probing.known import Reply, Steps
from kanaleto.probing.pace import Pace
from kanaleto.probing.question import Ask, Never, is_forbidden
from kanaleto.probing.tables import TableSearch
from kanaleto.probing.unitstates import SurveyStopped
from kanaleto.wire.codes import ExceptionCode, Function, Table
from kanaleto.wire.diagnostics import Plain
from kanaleto.wire.identity import Depth, Identify
from kanaleto.wire.pdu import Read, ReadAnswer, Request
from kanaleto.wire.records import FileSpan, ReadFifo, ReadFile

MOST_REQUESTS = 1500
ALL_TABLES = (Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE)
_BUSY = (ExceptionCode.ACKNOWLEDGE, ExceptionCode.SERVER_DEVICE_BUSY)
_BUSY_S = 0.2
_BUSY_TRIES = 10
_GARBLED_TRIES = 4
_RESTART_S = 60.0  # how long a unit that fell silent is waited for
_MOST_RESTARTS = 8
_MOST_TIMES = 5000
_ROOM = 2.0  # times the slowest answer of the unit, that it is waited for
_USED_TO = 6  # so many holes at which it was silent, and only every few of them is it asked whether it is there
_EVERY_FEW = 4
_SILENT_HOLES = 3
_RIGHT_AFTER_S = 3.0
_LEAST_RESET = 3  # registers beside each other: two may be one number that is zero now
_MOST_SEEN = 20_000
_MOST_AGAIN = 100  # places that are asked again since an answer was lost
_LOOKS, _BETWEEN_S = 2, 0.3  # at what it answered before, until it has fallen silent


class _Restarted(Exception):
    """The unit restarted when asked for this span, and is there again."""

    def __init__(self, first: int, last: int) -> None:
        super().__init__(first, last)
        self.first, self.last = first, last


class UnitStopped(SurveyStopped):
    """It is this unit with which it cannot go on; with others it may."""


class FellSilent(UnitStopped):
    """The unit does not answer any more since it was asked for this, which it was never asked for before."""

    def __init__(self, unit_id: int, span: str, table: Table, first: int, last: int) -> None:
        super().__init__(f"unit {unit_id} fell silent when asked for {span}, and is left alone")
        self.span, self.table, self.first, self.last = span, table, first, last


class _OutOfRequests(Exception):
    pass


class _Resets(Exception):
    """What was read there is zero since it was read."""

    def __init__(self, first: int, last: int) -> None:
        super().__init__()
        self.first, self.last = first, last


class RegisterSurvey:
    """`tables` and the counters may be read from any thread while it runs."""

    def __init__(
        self,
        ask: Ask,
        unit_id: int,
        tables: Iterable[Table] = ALL_TABLES,
        first: int = 0,
        last: int = 0xFFFF,
        never: Never = (),
        timeout_s: float = 0.5,
        with_every: bool = False,
        restart_s: float = _RESTART_S,
        leaves_alone: bool = False,
        on_step: Callable[["RegisterSurvey"], None] | None = None,
    ) -> None:
        self.unit_id = unit_id
        self.tables = [TableSearch(table, first, last, never, with_every) for table in tables]
        self.asked = 0
        self.restarts = 0
        self.took_s: list[float] = []
        self.silent_at: list[tuple[Table, int]] = []
        self.silent = 0
        self.answered_at = 0.0  # loop time of its last answer
        self.has_refused = False  # an address: where it has nothing it says so
        self._asked_again: set[tuple[Table, int]] = set()
        self.busy_s = 0.0  # that a gateway may be busy with what it did not answer
        self.crowd = 1  # requests of anybody's that may wait at the far end
        self.functions: dict[int, bool] = {}
        self._seen: dict[tuple[Table, int], tuple[int, float]] = {}
        """Words that were not zero, and when they were read last."""
        self.constant: dict[Table, frozenset[int]] = {}
        self.never = never
        self._ask_line = ask
        self.pace = Pace(timeout_s, room=_ROOM)
        self._restart_s = restart_s
        self._leaves_alone = leaves_alone
        self._known: Request | None = None
        self._left = 0
        self._halted: dict[Table, tuple[Steps, tuple[int, int]]] = {}
        self._on_step = on_step

    @property
    def is_over(self) -> bool:
        return not self._halted and all(table.is_over for table in self.tables)

    @property
    def share(self) -> float:
        """How much of the likely places is behind it, 0…1."""
        return sum(table.share for table in self.tables) / max(len(self.tables), 1)

    @property
    def is_silent_at_holes(self) -> bool:
        """Whether it says nothing where it has no register, in place of an exception."""
        return len(self.silent_at) >= _SILENT_HOLES

    @property
    def items(self) -> int:
        """Addresses that read."""
        return sum(table.items for table in self.tables)

    def ask_with(self, ask: Ask) -> None:
        """Another way to the line from now on, as after it was closed and opened again."""
        self._ask_line = ask

    async def run(self, most_requests: int = MOST_REQUESTS) -> bool:
        """Search, or go on, with at most so many requests; whether it is over now. Raises SurveyStopped."""
        self._left = most_requests
        try:
            await self.knock()
            while True:
                table = max(self.tables, key=self.score_of)
                if not self.score_of(table):
                    return self.is_over
                await self.explore(table)
        except _OutOfRequests:
            return False

    def score_of(self, table: TableSearch) -> float:
        """How likely the next place of a table reads; what was begun is gone on with."""
        table.is_hoped_for = not any(other.runs for other in self.tables)
        return 4.0 if table.table in self._halted else table.score

    def allow(self, requests: int) -> None:
        """So many requests may be asked from now on."""
        self._left = requests

    async def explore(self, table: TableSearch) -> None:
        """Ask for the likeliest place of a table and all that belongs to it, or go on with that. Raises SurveyStopped,
        FellSilent."""
        steps, question = self._halted.pop(table.table, (None, (0, 0)))
        if steps is None:
            steps = table.explore()
            try:
                question = next(steps)
            except StopIteration:
                return
        while True:
            first, count = question
            try:
                reply = await self._reply(table, first, count)
            except _Restarted as restarted:
                table.take_care(restarted.first, restarted.last)
                return
            except _Resets as resets:
                table.leave_alone(resets.first, resets.last)
                return
            except FellSilent:
                raise
            except BaseException:
                self._halted[table.table] = (steps, question)
                raise
            try:
                question = steps.send(reply)
            except StopIteration:
                self._share_limit(table)
                return

    def _share_limit(self, learned: TableSearch) -> None:
        """How many one request gives is hardly ever a matter of the table: to ask for too many costs a timeout where a
        device says nothing to that."""
        if learned.most == learned.table.most_read:
            return
        for other in self.tables:
            is_alike = other.table.is_bits == learned.table.is_bits and other.most == other.table.most_read
            if is_alike and other.longest <= learned.most:
                other.most = learned.most

    # One request

    async def knock(self) -> None:
        """Anything that it answers, so that it can be known later whether it is still there. A device that is silent
        where it has nothing is asked who it is: that it refuses is an answer too. Raises SurveyStopped."""
        if self._known is not None:
            return
        questions: list[Request] = []
        for table in self.tables[:2]:
            at = next((at for at in range(table.first, table.last + 1) if self._may_ask(table, at)), None)
            questions += [Read(table.table, at, 1)] if at is not None else []
        outcome: Outcome | None = None
        for question in (*questions[:1], *questions, Identify(Depth.BASIC), Plain(Function.REPORT_SERVER_ID)):
            outcome = await self._exchange(question, is_patient=True)
            if outcome.is_answer:
                self._known = question
                return
        assert outcome is not None
        if outcome.is_of_gateway:
            raise UnitStopped(f"nobody is there, says the gateway of unit {self.unit_id}: {outcome.reason}")
        raise UnitStopped(f"unit {self.unit_id} does not answer: {outcome.reason}")

    def _may_ask(self, table: TableSearch, address: int) -> bool:
        dangerous = any(low <= address <= high for low, high in table.dangerous)
        return not dangerous and not is_forbidden(self.never, table.table, address, address)

    async def _reply(self, table: TableSearch, first: int, count: int) -> Reply:
        question = Read(table.table, first, count)
        garbled = 0
        for attempt in range(_BUSY_TRIES + _GARBLED_TRIES):
            outcome = await self._exchange(question)
            content = outcome.content
            if outcome.kind is OutcomeKind.GOOD and isinstance(content, ReadAnswer):
                self._known = question if count == 1 or not isinstance(self._known, Read) else self._known
                if not table.table.is_bits:
                    self._look_for_resets(table.table, first, content.words)
                return Reply(True, tuple(map(int, content.bits(count))) if table.table.is_bits else content.words)
            if outcome.code is not None and outcome.code in _BUSY:
                await asyncio.sleep(_BUSY_S * (attempt + 1))
                continue
            if outcome.is_answer:
                self.has_refused |= outcome.code == ExceptionCode.ILLEGAL_DATA_ADDRESS
                return Reply(False, (), outcome.code == ExceptionCode.ILLEGAL_FUNCTION)
            if outcome.kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED):
                garbled += 1
                if garbled >= _GARBLED_TRIES:
                    raise UnitStopped(f"the answers of unit {self.unit_id} keep coming garbled: {outcome.reason}")
                await asyncio.sleep(self.pace.longest_s)
                continue
            self.silent += 1
            is_used_to = len(self.silent_at) >= _USED_TO and self.silent % _EVERY_FEW and self.crowd == 1
            if is_used_to or await self._is_there(question):
                if attempt == 0 and (
                    len(self.silent_at) < 3 or self.crowd > 1
                ):  # or its answer was lost, or had no turn
                    continue
                if len(self.silent_at) < _MOST_TIMES:
                    self.silent_at.append((table.table, first))
                return Reply(False)
            await self._miss_it(table.table, first, count)
        raise UnitStopped(f"unit {self.unit_id} says that it is busy, {_BUSY_TRIES} times in a row")

    def _look_for_resets(self, table: Table, first: int, words: tuple[int, ...]) -> None:
        """Counts that are zero at the next reading, right after: reading them takes them away. Raises _Resets."""
        now, seen = asyncio.get_running_loop().time(), self._seen
        gone: list[int] = []
        for address, word in enumerate(words, first):
            before, at_s = seen.get((table, address), (0, 0.0))
            if before and not word and now - at_s < _RIGHT_AFTER_S:
                gone.append(address)
            if word and len(seen) < _MOST_SEEN:
                seen[table, address] = word, now
        if len(gone) >= _LEAST_RESET and gone[-1] - gone[0] < 2 * len(gone):  # one may be half of a number
            raise _Resets(gone[0], gone[-1])

    async def _is_there(self, missed: Read) -> bool:
        """Whether it answers what it has answered before, after it did not answer what was `missed`: once of two."""
        for look in range(_LOOKS):
            if look:
                await asyncio.sleep(_BETWEEN_S)
            if await self.is_alive(missed):
                return True
        return False

    async def is_alive(self, missed: Read | None = None) -> bool:
        """Whether it answers what it has answered before: of another length than what was `missed`, so that what comes
        late to that is not taken for it."""
        question = self._known
        assert question is not None
        if missed is not None and isinstance(question, Read) and question.count == missed.count:
            pairs = (Read(table.table, first, 2) for table in self.tables for first, last in table.runs if last > first)
            question = next((pair for pair in pairs if pair.count <= missed.table.most_read), question)
        outcome = await self._exchange(question, is_patient=True)
        return outcome.is_answer or outcome.kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED)

    async def _miss_it(self, table: Table, first: int, count: int) -> None:
        """It does not answer any more. Raises _Restarted when it is there again, FellSilent, SurveyStopped."""
        self.restarts += 1
        span = f"{table.title} {first}" + (f"–{first + count - 1}" if count > 1 else "")
        if self._leaves_alone:
            raise FellSilent(self.unit_id, span, table, first, first + count - 1)
        if self.restarts > _MOST_RESTARTS:
            who = f"unit {self.unit_id} restarted {_MOST_RESTARTS} times"
            raise UnitStopped(f"{who}, last when asked for {span}; name them as never to be touched")
        waited_s, pause_s = 0.0, 0.5
        while waited_s < self._restart_s:
            await asyncio.sleep(pause_s)
            waited_s += pause_s + self.pace.longest_s
            if await self.is_alive():
                raise _Restarted(first, first + count - 1)
            pause_s = min(2 * pause_s, 5.0)
        raise UnitStopped(
            f"unit {self.unit_id} fell silent when asked for {span}, and did not come back within {self._restart_s:g} s"
        )

    def take_care(self, table: Table, first: int, last: int) -> None:
        """It fell silent when asked for this: go on there in smaller steps, and never ask for a single address that did
        it."""
        for search in self.tables:
            if search.table is table:
                search.take_care(first, last)

    def shun(self, table: Table, first: int, last: int) -> None:
        """It fell silent when asked for this: what of it was never read is not asked again."""
        for search in self.tables:
            if search.table is table:
                search.shun(first, last)

    def forgive(self, table: Table, first: int, last: int) -> None:
        """It fell silent when asked for this, and so did others: it has another turn, once."""
        for search in self.tables:
            if search.table is table:
                search.forgive(first, last)

    def ask_lost_again(self) -> None:
        """Places at which it was silent, though it refuses others and was there, have one more turn each: there an
        answer was lost, as far as is known."""
        if not self.has_refused:
            return
        again = [place for place in dict.fromkeys(self.silent_at) if place not in self._asked_again]
        for table, first in again[: _MOST_AGAIN - len(self._asked_again)]:
            self._asked_again.add((table, first))
            for search in self.tables:
                if search.table is table:
                    search.ask_again(first)

    async def _exchange(self, request: Request, is_patient: bool = False) -> Outcome:
        if self._left <= 0:
            raise _OutOfRequests
        self._left -= 1
        self.asked += 1
        timeout_s = (self.pace.longest_s + self.busy_s if is_patient else self.pace.timeout_s) * self.crowd
        outcome = await self._ask_line(self.unit_id, request, timeout_s)
        if outcome.kind is OutcomeKind.UNREACHABLE:
            raise SurveyStopped(f"the line was lost: {outcome.reason}")
        if outcome.is_answer:
            self.answered_at = outcome.done_at
            if len(self.took_s) < _MOST_TIMES:
                self.took_s.append(outcome.took_s)
            self.pace.note_answer(outcome.first_at - outcome.sent_at if outcome.first_at else outcome.took_s)
        if self._on_step is not None:
            self._on_step(self)
        return outcome

    async def read_spans(self) -> dict[tuple[Table, int], tuple[int, ...]]:
        """Read everything that was found once: words (or bits) by the table and first address of each request; what did
        not come is left out."""
        found: dict[tuple[Table, int], tuple[int, ...]] = {}
        for request in self.spans():
            self._left = max(self._left, 4)
            content = (await self._exchange(request)).content
            if isinstance(content, ReadAnswer):
                if not request.table.is_bits:
                    try:
                        self._look_for_resets(request.table, request.address, content.words)
                    except _Resets as resets:
                        next(table for table in self.tables if table.table is request.table).leave_alone(
                            resets.first, resets.last
                        )
                        continue
                values = tuple(map(int, content.bits(request.count))) if request.table.is_bits else content.words
                found[request.table, request.address] = values
        return found

    # What else can be known by reading

    async def ask_functions(self) -> dict[int, bool]:
        """Which functions that only read it knows; those that write are not tried."""
        self._left = max(self._left, 4 * len(_READING))
        for function, request in _READING.items():
            if isinstance(request, Read | ReadFifo) and is_forbidden(
                self.never, _table_of(request), request.address, request.address
            ):
                continue
            outcome = await self._exchange(request)
            if outcome.kind is OutcomeKind.TIMEOUT:
                outcome = await self._exchange(request)
            refused = outcome.kind is OutcomeKind.EXCEPTION and outcome.code == ExceptionCode.ILLEGAL_FUNCTION
            self.functions[function] = outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION) and not refused
        return self.functions

    async def watch(self, pause_s: float) -> dict[Table, frozenset[int]]:
        """Read everything that was found twice, so far apart; gives the addresses that held the same both times."""
        before = await self._read_all()
        await asyncio.sleep(pause_s)
        after = await self._read_all()
        self.constant = {
            table.table: frozenset(
                at for (of, at), value in before.items() if of is table.table and after.get((of, at)) == value
            )
            for table in self.tables
        }
        return self.constant

    async def _read_all(self) -> dict[tuple[Table, int], int]:
        spans = await self.read_spans()
        return {
            (table, first + number): value
            for (table, first), values in spans.items()
            for number, value in enumerate(values)
        }

    def spans(self) -> list[Read]:
        """The requests that read everything that was found."""
        return [Read(table.table, first, count) for table in self.tables for first, count in table.spans()]


def _table_of(request: Read | ReadFifo) -> Table:
    return request.table if isinstance(request, Read) else Table.HOLDING


_READING: dict[int, Request] = {
    Function.READ_COILS: Read(Table.COIL, 0, 1),
    Function.READ_DISCRETE_INPUTS: Read(Table.DISCRETE, 0, 1),
    Function.READ_HOLDING_REGISTERS: Read(Table.HOLDING, 0, 1),
    Function.READ_INPUT_REGISTERS: Read(Table.INPUT, 0, 1),
    Function.READ_EXCEPTION_STATUS: Plain(Function.READ_EXCEPTION_STATUS),
    Function.COMM_EVENT_COUNTER: Plain(Function.COMM_EVENT_COUNTER),
    Function.COMM_EVENT_LOG: Plain(Function.COMM_EVENT_LOG),
    Function.REPORT_SERVER_ID: Plain(Function.REPORT_SERVER_ID),
    Function.READ_FILE_RECORD: ReadFile((FileSpan(1, 0, 1),)),
    Function.READ_FIFO_QUEUE: ReadFifo(0),
    Function.ENCAPSULATED: Identify(Depth.BASIC),
}
