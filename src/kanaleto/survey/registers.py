"""Which addresses of a unit answer, in few requests, and how much one request may ask.

A span that reads is taken whole. One that is refused is halved until the longest part from its start that reads is
known: the address after it is a hole, unless it reads alone, and then it was the length that was refused. Behind a hole
every address is asked, then, the wider the hole grows, every n-th; the run in which one answers is followed back to its
beginning. So runs are exact, and only one that is shorter than the stride, far from its neighbours, can be passed over
(`stride_most` = 1 passes over none).

A unit that falls silent at an address and does not answer what it answered before has restarted or hung: the address
goes on the list of what is dangerous, the unit is waited for, and the survey goes on behind it. The survey can be
stopped and gone on with at any request.
"""

import asyncio
from collections.abc import Callable, Iterable
from enum import Enum

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.survey.asking import Ask, Never, is_forbidden
from kanaleto.survey.tables import TableSurvey
from kanaleto.survey.units import SurveyStopped
from kanaleto.wire.codes import ExceptionCode, Function, Table
from kanaleto.wire.diagnostics import Plain
from kanaleto.wire.identity import Depth, Identify
from kanaleto.wire.pdu import Read, ReadAnswer, Request
from kanaleto.wire.records import FileSpan, ReadFifo, ReadFile

MOST_REQUESTS = 1000
_NEAR = 16  # so far behind a hole every address is asked; then every (distance / 16)-th
_BUSY = (ExceptionCode.ACKNOWLEDGE, ExceptionCode.SERVER_DEVICE_BUSY)
_BUSY_S = 0.2
_BUSY_TRIES = 10
_RESTART_S = 60.0  # how long a unit that fell silent is waited for
_MOST_RESTARTS = 8


class _Reply(Enum):
    GOOD = 1
    REFUSED = 2


class _Restarted(Exception):
    """The unit restarted when asked for this span, and is there again."""

    def __init__(self, first: int, last: int) -> None:
        super().__init__(first, last)
        self.first, self.last = first, last


class _NoSuchTable(Exception):
    pass


class _OutOfRequests(Exception):
    pass


class RegisterSurvey:
    """`tables` and the counters may be read from any thread while it runs."""

    def __init__(
        self,
        ask: Ask,
        unit_id: int,
        tables: Iterable[Table] = (Table.HOLDING, Table.INPUT, Table.COIL, Table.DISCRETE),
        first: int = 0,
        last: int = 9999,
        never: Never = (),
        timeout_s: float = 0.5,
        stride_most: int = 64,
        restart_s: float = _RESTART_S,
        on_step: Callable[["RegisterSurvey"], None] | None = None,
    ) -> None:
        self.unit_id = unit_id
        self.tables = [TableSurvey(table, first, last, first, table.most_read) for table in tables]
        self.asked = 0
        self.restarts = 0
        self.took_s: list[float] = []
        self.silent_at: list[tuple[Table, int]] = []
        self.functions: dict[int, bool] = {}
        self.constant: dict[Table, frozenset[int]] = {}
        self.never = never
        self._ask_line = ask
        self._timeout_s = timeout_s
        self._stride_most = stride_most
        self._restart_s = restart_s
        self._known: Read | None = None
        self._left = 0
        self._on_step = on_step

    @property
    def is_over(self) -> bool:
        return all(table.is_over for table in self.tables)

    @property
    def share(self) -> float:
        """How much of the addresses is behind it, 0…1."""
        whole = sum(table.last - table.first + 1 for table in self.tables)
        done = sum((table.last + 1 if table.is_over else table.next) - table.first for table in self.tables)
        return done / whole if whole else 1.0

    def ask_with(self, ask: Ask) -> None:
        """Go on over another connection."""
        self._ask_line = ask

    async def run(self, most_requests: int = MOST_REQUESTS) -> bool:
        """Go on for at most so many requests; whether it is over. Raises SurveyStopped when the unit or the line is
        lost."""
        self._left = most_requests
        try:
            if self._known is None:
                await self._knock()
            for table in self.tables:
                while not table.is_over:
                    try:
                        await self._step(table)
                    except _Restarted as restarted:
                        self._take_care(table, restarted)
                    except _NoSuchTable:
                        table.why_none = f"the unit has no function for {table.table.title}"
        except _OutOfRequests:
            return False
        return self.is_over

    # One table

    async def _step(self, table: TableSurvey) -> None:
        if table.hole_from >= 0:
            await self._cross_hole(table)
            return
        first = table.next
        touchable = self._touchable(table, first)
        if touchable == 0:
            table.next = first + 1
            return
        count = touchable
        if await self._read(table, first, count) is _Reply.GOOD:
            table.add_run(first, first + count - 1)
            table.next = first + count
            return
        good, bad = 0, count
        while bad - good > 1:
            middle = (good + bad) // 2
            if await self._read(table, first, middle) is _Reply.GOOD:
                good = middle
            else:
                bad = middle
        if good:
            table.add_run(first, first + good - 1)
            table.next = first + good
            if (
                await self._read(table, first + good, 1) is _Reply.GOOD
                and await self._read(table, first, good + 1) is _Reply.REFUSED
            ):
                table.most = good  # it reads alone, and not with the others: the request was too long
                return
        table.hole_from = table.next

    async def _cross_hole(self, table: TableSurvey) -> None:
        """`next` is known not to read; find where something reads again."""
        missing = table.next
        while True:
            stride = max(1, min(self._stride_most, table.most, (missing - table.hole_from) // _NEAR))
            at = missing + stride
            if at > table.last:
                if stride == 1 or missing >= table.last:
                    table.next, table.hole_from = table.last + 1, -1
                    return
                at = table.last
            if is_forbidden(self.never, table.table, at, at):
                table.next = missing = at
                continue
            if await self._read(table, at, 1) is _Reply.GOOD:
                first = await self._run_begin(table, missing, at)
                table.add_run(first, at)
                table.next, table.hole_from = at + 1, -1
                return
            table.next = missing = at

    async def _run_begin(self, table: TableSurvey, missing: int, good: int) -> int:
        """The first address of the run that `good` belongs to; `missing` lies before it."""
        end = good
        while good - missing > 1:
            middle = (good + missing) // 2
            count = end - middle + 1
            if (
                is_forbidden(self.never, table.table, middle, end)
                or await self._read(table, middle, count) is _Reply.REFUSED
            ):
                missing = middle
            else:
                good = middle
        return good

    def _touchable(self, table: TableSurvey, first: int) -> int:
        """How many from `first` on may be asked at once."""
        count = min(table.most, table.last - first + 1)
        if first < table.careful_until:
            count = min(count, table.careful, table.careful_until - first)
        for of, low, high in (*self.never, *((table.table, low, high) for low, high in table.dangerous)):
            if of is table.table and low <= first <= high:
                return 0
            if of is table.table and first < low:
                count = min(count, low - first)
        return count

    def _take_care(self, table: TableSurvey, span: _Restarted) -> None:
        """Go on in smaller steps there, until the address is found that does it."""
        if span.first == span.last:
            table.dangerous.append((span.first, span.last))
            if table.hole_from >= 0 or table.next == span.first:
                table.next = span.first + 1
                table.hole_from = -1
            return
        length = span.last - span.first + 1
        table.careful_until = max(table.careful_until, span.last + 1)
        table.careful = 8 if length > 8 else 1

    # One request

    async def _knock(self) -> None:
        """Anything that it answers, so that it can be told later whether it is still there."""
        for table in self.tables[:2]:
            at = table.first
            while self._touchable(table, at) == 0 and at < table.last:
                at += 1
            question = Read(table.table, at, 1)
            outcome = await self._exchange(question)
            if outcome.kind is OutcomeKind.TIMEOUT and table is self.tables[0]:
                outcome = await self._exchange(question)
            if outcome.is_answer:
                self._known = question
                return
            if outcome.is_of_gateway:
                raise SurveyStopped(f"nobody is there, says the gateway of unit {self.unit_id}: {outcome.reason}")
        raise SurveyStopped(f"unit {self.unit_id} does not answer: {outcome.reason}")

    async def _read(self, table: TableSurvey, first: int, count: int) -> _Reply:
        question = Read(table.table, first, count)
        for attempt in range(_BUSY_TRIES):
            outcome = await self._exchange(question)
            if outcome.kind is OutcomeKind.GOOD:
                self._known = question
                table.longest = max(table.longest, count)
                return _Reply.GOOD
            if outcome.code is not None and outcome.code in _BUSY:
                await asyncio.sleep(_BUSY_S * (attempt + 1))
                continue
            if outcome.code == ExceptionCode.ILLEGAL_FUNCTION:
                raise _NoSuchTable
            if outcome.is_answer:
                return _Reply.REFUSED
            if outcome.kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED) and attempt < 3:
                await asyncio.sleep(self._timeout_s)
                continue
            if outcome.kind in (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED):
                raise SurveyStopped(f"the answers of unit {self.unit_id} keep coming garbled: {outcome.reason}")
            if attempt == 0 and await self._is_alive():
                continue  # it was a lost answer, or this question is never answered: once more
            if attempt > 0 and await self._is_alive():
                self.silent_at.append((table.table, first))
                return _Reply.REFUSED
            await self._wait_for_restart(table.table, first, count)
            raise _Restarted(first, first + count - 1)
        raise SurveyStopped(f"unit {self.unit_id} says that it is busy, {_BUSY_TRIES} times in a row")

    async def _is_alive(self) -> bool:
        assert self._known is not None
        outcome = await self._exchange(self._known)
        return outcome.is_answer

    async def _wait_for_restart(self, table: Table, first: int, count: int) -> None:
        self.restarts += 1
        span = f"{table.title} {first}" + (f"–{first + count - 1}" if count > 1 else "")
        if self.restarts > _MOST_RESTARTS:
            who = f"unit {self.unit_id} restarted {_MOST_RESTARTS} times"
            raise SurveyStopped(f"{who}, last when asked for {span}; name them as never to be touched")
        waited_s, pause_s = 0.0, 0.5
        while waited_s < self._restart_s:
            await asyncio.sleep(pause_s)
            waited_s += pause_s + self._timeout_s
            if await self._is_alive():
                return
            pause_s = min(2 * pause_s, 5.0)
        raise SurveyStopped(
            f"unit {self.unit_id} fell silent when asked for {span}, and did not come back within {self._restart_s:g} s"
        )

    async def _exchange(self, request: Request) -> Outcome:
        if self._left <= 0:
            raise _OutOfRequests
        self._left -= 1
        self.asked += 1
        outcome = await self._ask_line(self.unit_id, request, self._timeout_s)
        if outcome.kind is OutcomeKind.UNREACHABLE:
            raise SurveyStopped(f"the line was lost: {outcome.reason}")
        if outcome.is_answer:
            self.took_s.append(outcome.took_s)
        if self._on_step is not None:
            self._on_step(self)
        return outcome

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
        self._left = max(self._left, len(self.spans()))
        words: dict[tuple[Table, int], int] = {}
        for request in self.spans():
            content = (await self._exchange(request)).content
            if isinstance(content, ReadAnswer):
                values = [int(bit) for bit in content.bits(request.count)] if request.table.is_bits else content.words
                words |= {(request.table, request.address + number): value for number, value in enumerate(values)}
        return words

    def spans(self) -> list[Read]:
        """The requests that read everything that was found."""
        return [
            Read(table.table, at, min(table.most, last - at + 1))
            for table in self.tables
            for first, last in table.runs
            for at in range(first, last + 1, table.most)
        ]


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
