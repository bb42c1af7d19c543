"""Polls one line: connects, asks what is due, earliest deadline first, and comes back from everything by itself.

A device that stays silent is asked less and less often, with one block and without retries; its first answer makes all of its blocks
due at once. While the line cannot be reached every block of it is in trouble, and connecting is tried again and again, with
growing pauses.
"""

import asyncio
import heapq
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.board import Board, Record, Trouble
from kanaleto.polling.health import Counts, Water
from kanaleto.polling.plan import Block
from kanaleto.site.model import DEMAND, Device, Line
from kanaleto.wire.pdu import ReadAnswer, Request

LONGEST_BACK_OFF_S = 30.0
_MOST_ASKED = 1000  # one-off requests waiting for the line


@dataclass(frozen=True, slots=True)
class Exchange:
    """One row of the exchange list. `number` counts up over the whole site; `attempt` is 0 for the first try."""

    number: int
    wall_s: float
    line: Line
    device: Device | None
    request: Request
    outcome: Outcome
    attempt: int


OnExchange = Callable[[Line, Device | None, Request, Outcome, int], None]
OnRecord = Callable[[Block, Record], None]
OnUnreachable = Callable[[Line, str], None]


@dataclass(slots=True)
class _Job:
    """A block and when it is due next."""

    block: Block
    due_s: float
    is_running: bool = False


@dataclass(slots=True)
class DeviceState:
    """A device as the poller knows it. Times are loop times; `silent_since_s` is None while it answers."""

    device: Device
    counts: Counts = field(default_factory=Counts)
    failures_in_a_row: int = 0
    silent_since_s: float | None = None
    last_answer_s: float | None = None
    next_try_s: float = 0.0
    reason: str = ""
    jobs: list[_Job] = field(default_factory=list)


def _wake(sleeper: asyncio.Future[None]) -> None:
    if not sleeper.done():
        sleeper.set_result(None)


@dataclass(slots=True)
class _Asked:
    unit_id: int
    device: Device | None
    request: Request
    timeout_s: float
    future: asyncio.Future[Outcome]


class LinePoller:
    """See the head of this file. All methods but the constructor are for the loop's thread; plain attributes may be read by anybody."""

    def __init__(
        self,
        line: Line,
        blocks: list[Block],
        board: Board,
        exchanger: Exchanger,
        wall: Callable[[], float],
        on_exchange: OnExchange,
        on_record: OnRecord | None = None,
    ) -> None:
        self.line = line
        self.exchanger = exchanger
        self.states = {device.name: DeviceState(device) for device in line.devices}
        self.water = Water()
        self.why_unreachable = ""
        self.next_connect_s = 0.0
        self.overruns = 0
        self.is_held = False
        self.on_unreachable: OnUnreachable | None = None
        self._blocks = blocks
        self._board = board
        self._wall = wall
        self._on_exchange = on_exchange
        self._on_record = on_record
        self._heap: list[tuple[float, int, _Job]] = []
        self._unpaced: deque[_Job] = deque()
        self._asked: deque[_Asked] = deque()
        self._sleeping: set[asyncio.Future[None]] = set()
        for block in blocks:
            job = _Job(block, 0.0)
            self.states[block.device.name].jobs.append(job)
            if block.period_s == 0:
                self._unpaced.append(job)
            elif block.period_s != DEMAND:
                self._push(job, 0.0)

    # From outside, in the loop's thread

    def hold(self, is_held: bool) -> None:
        """Stop asking, or go on; one-off requests still go out."""
        self.is_held = is_held
        self._ring()

    def ask(self, unit_id: int, request: Request, timeout_s: float, device: Device | None = None) -> asyncio.Future[Outcome]:
        """A one-off request, before anything that is due. Raises OverflowError when too many wait already."""
        if len(self._asked) >= _MOST_ASKED:
            raise OverflowError(f"{_MOST_ASKED} requests wait for line {self.line.name} already")
        future: asyncio.Future[Outcome] = asyncio.get_running_loop().create_future()
        self._asked.append(_Asked(unit_id, device, request, timeout_s, future))
        self._ring()
        return future

    def _ring(self) -> None:
        for sleeper in self._sleeping:
            _wake(sleeper)

    # The life of a line

    async def run(self) -> None:
        """Poll until cancelled."""
        self._loop = asyncio.get_running_loop()
        pause_s = self.line.reconnect_s
        try:
            while True:
                opened_s = self._loop.time()
                try:
                    if not self.line.connects_per_request:
                        await self._open()
                        opened_s = self._loop.time()
                    await self._poll_while_open()
                    why = self.exchanger.lost_because
                except Unreachable as error:
                    why = str(error)
                has_lasted = self._loop.time() - opened_s > LONGEST_BACK_OFF_S
                pause_s = self.line.reconnect_s if has_lasted else pause_s
                self._tell_unreachable(why, pause_s)
                await self._sleep_until(self.next_connect_s)
                pause_s = min(2 * pause_s, LONGEST_BACK_OFF_S)
        finally:
            self.exchanger.close("polling stopped")

    async def _open(self) -> None:
        await self.exchanger.open()
        self.why_unreachable = ""
        now = self._loop.time()
        for state in self.states.values():
            state.next_try_s = now + state.device.pause_after_connect_s

    def _tell_unreachable(self, why: str, pause_s: float) -> None:
        now = self._loop.time()
        self.why_unreachable = why
        self.next_connect_s = now + pause_s
        for block in self._blocks:
            self._board.fail(block.index, Trouble(why, now, is_refusal=False))
        if self.on_unreachable is not None:
            self.on_unreachable(self.line, why)
        while self._asked:
            self._refuse(self._asked.popleft(), why, now)

    def _refuse(self, asked: _Asked, why: str, now: float) -> None:
        if not asked.future.done():
            asked.future.set_result(Outcome(OutcomeKind.UNREACHABLE, asked.unit_id, b"", b"", None, now, now, 0.0, now, why))

    async def _sleep_until(self, when_s: float | None) -> None:
        """Sleep until then, or until something is asked of this line; for good when it is None."""
        sleeper = self._loop.create_future()
        self._sleeping.add(sleeper)
        timer = self._loop.call_at(when_s, _wake, sleeper) if when_s is not None else None
        try:
            await sleeper
        finally:
            self._sleeping.discard(sleeper)
            if timer is not None:
                timer.cancel()

    async def _poll_while_open(self) -> None:
        """As many workers as requests may be in flight; without transactions that is one."""
        if self.line.in_flight == 1:
            await self._work()
            return
        await asyncio.gather(*(self._work() for _ in range(self.line.in_flight)))

    async def _work(self) -> None:
        exchanger, loop = self.exchanger, self._loop
        has_asked_last = False
        while exchanger.is_open or self.line.connects_per_request:
            now = loop.time()
            job = None if self.is_held else self._take_due(now)
            if self._asked and (job is None or not has_asked_last):
                has_asked_last = True
                if job is not None:
                    self._push(job, job.due_s)
                await self._serve(self._asked.popleft())
            elif job is not None:
                has_asked_last = False
                await self._poll(job)
            else:
                await self._sleep_until(None if self.is_held else self._next_due())

    async def _ask(self, unit_id: int, request: Request, timeout_s: float, pause_s: float, pdu: bytes | None = None) -> Outcome:
        """One exchange, on a connection of its own where the line wants that. Raises Unreachable when there is none then."""
        if not self.line.connects_per_request:
            return await self.exchanger.ask(unit_id, request, timeout_s, pdu)
        await self.exchanger.open()
        self.why_unreachable = ""
        try:
            await asyncio.sleep(pause_s)
            return await self.exchanger.ask(unit_id, request, timeout_s, pdu)
        finally:
            self.exchanger.close("one request a connection")

    # When

    def _push(self, job: _Job, due_s: float) -> None:
        job.due_s = due_s
        if job.block.period_s != 0:
            heapq.heappush(self._heap, (due_s, job.block.index, job))

    def _take_due(self, now: float) -> _Job | None:
        """The job that is due first. Jobs without a pause get what time is left; entries that were put off meanwhile are dropped."""
        heap = self._heap
        while heap and heap[0][0] <= now:
            due_s, _, job = heapq.heappop(heap)
            if due_s != job.due_s:
                continue
            next_try_s = self.states[job.block.device.name].next_try_s
            if next_try_s > now:
                self._push(job, next_try_s)
                continue
            return job
        for _ in range(len(self._unpaced)):
            job = self._unpaced[0]
            self._unpaced.rotate(-1)
            if not job.is_running and self.states[job.block.device.name].next_try_s <= now:
                return job
        return None

    def _next_due(self) -> float | None:
        dues = [self._heap[0][0]] if self._heap else []
        dues += [self.states[job.block.device.name].next_try_s for job in self._unpaced if not job.is_running]
        return min(dues, default=None)

    def _put_off(self, job: _Job) -> None:
        """The block was read, or could not be: due again a period after it was due, or now if that is past."""
        period_s = job.block.period_s
        if period_s <= 0:
            return
        now = self._loop.time()
        due_s = (job.due_s or now) + period_s
        if due_s < now:
            self.overruns += 1
            due_s = now
        self._push(job, due_s)

    # What

    async def _serve(self, asked: _Asked) -> None:
        pause_s = asked.device.pause_after_connect_s if asked.device is not None else 0.0
        try:
            outcome = await self._ask(asked.unit_id, asked.request, asked.timeout_s, pause_s)
        except Unreachable as error:
            self._refuse(asked, str(error), self._loop.time())
            raise
        self._count(asked.device, asked.request, outcome, 0)
        if not asked.future.done():
            asked.future.set_result(outcome)

    async def _poll(self, job: _Job) -> None:
        job.is_running = True
        try:
            await self._poll_block(job)
        finally:
            job.is_running = False
            if self.line.in_flight > 1:
                self._ring()

    async def _poll_block(self, job: _Job) -> None:
        block = job.block
        device = block.device
        state = self.states[device.name]
        tries = 1 if state.silent_since_s is not None else 1 + device.retries
        for attempt in range(tries):
            outcome = await self._ask(device.unit_id, block.request, device.timeout_s, device.pause_after_connect_s, block.pdu)
            self._count(device, block.request, outcome, attempt)
            if outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION, OutcomeKind.UNREACHABLE):
                break
        content = outcome.content
        if outcome.kind is OutcomeKind.GOOD and isinstance(content, ReadAnswer):
            record = Record(content.data, block.decoder.decode(content.data), outcome.done_at, self._wall())
            self._board.put(block.index, record)
            if state.failures_in_a_row or state.reason:
                self._restore(state)
            state.last_answer_s = outcome.done_at
            if self._on_record is not None:
                self._on_record(block, record)
        else:
            self._note_failure(state, block, outcome)
        self._put_off(job)

    def _note_failure(self, state: DeviceState, block: Block, outcome: Outcome) -> None:
        is_refusal = outcome.kind is OutcomeKind.EXCEPTION
        self._board.fail(block.index, Trouble(outcome.reason, outcome.done_at, is_refusal))
        if is_refusal:
            if state.silent_since_s is not None:
                self._restore(state)
            state.last_answer_s = outcome.done_at
            state.reason = outcome.reason
            return
        if outcome.kind is OutcomeKind.UNREACHABLE:
            return
        state.failures_in_a_row += 1
        state.reason = outcome.reason
        if outcome.kind is OutcomeKind.TIMEOUT:
            if state.silent_since_s is None:
                state.silent_since_s = outcome.sent_at
            back_off_s = min(self.line.reconnect_s * 2 ** min(state.failures_in_a_row - 1, 10), LONGEST_BACK_OFF_S)
            state.next_try_s = outcome.done_at + back_off_s

    def _restore(self, state: DeviceState) -> None:
        """It answers again: everything of it is due now."""
        was_silent = state.silent_since_s is not None
        state.failures_in_a_row, state.silent_since_s, state.reason, state.next_try_s = 0, None, "", 0.0
        if was_silent:
            now = self._loop.time()
            for job in state.jobs:
                if job.block.period_s > 0 and job.due_s > now:
                    self._push(job, now)

    def _count(self, device: Device | None, request: Request, outcome: Outcome, attempt: int) -> None:
        self.water.add(outcome.asked_at, outcome.done_at, outcome.kind)
        if device is not None:
            self.states[device.name].counts.add(outcome)
        self._on_exchange(self.line, device, request, outcome, attempt)
