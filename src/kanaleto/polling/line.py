"""Polls one line: connects, asks what is due, and comes back from everything by itself. What is due when stands in `schedule`.

While the line cannot be reached every block of it is in trouble, and connecting is tried again and again, with growing pauses. A network
connection on which nothing has answered for long is closed and made anew: the far end may have forgotten it.
"""

import asyncio
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import QUARANTINE_S, Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.board import Board, Record, Trouble
from kanaleto.polling.chain import SETTLED, Chain
from kanaleto.polling.events import EventKind
from kanaleto.polling.health import Water
from kanaleto.polling.listener import Listener
from kanaleto.polling.plan import Block
from kanaleto.polling.schedule import LONGEST_BACK_OFF_S, DeviceState, Job, Schedule
from kanaleto.site.model import Device, Line
from kanaleto.wire.codes import ExceptionCode, exception_text
from kanaleto.wire.pdu import ReadAnswer, Request

_MOST_ASKED = 1000  # one-off requests waiting for the line
_BLOCK_SILENCES = 3  # tries of one block that nothing came of, its device answering others between, until it is narrowed down
_REFUSALS = 2  # refusals in a row until a block is narrowed down: a device that starts up may refuse once
_DEAD_CONNECTION = 6  # timeouts in a row, with no answer from anybody, until a network connection is made anew
_SLOW_SHARE, _SLOW_TIMES = 0.7, 3
_WATCHDOG_SHARE = 0.8
_NOTED_READS = 16
_WRITING = (0x05, 0x06, 0x0F, 0x10, 0x15, 0x16, 0x17)
_NARROWED = (ExceptionCode.ILLEGAL_DATA_ADDRESS, ExceptionCode.ILLEGAL_DATA_VALUE)


@dataclass(slots=True)
class _Asked:
    unit_id: int
    device: Device | None
    request: Request
    timeout_s: float
    future: asyncio.Future[Outcome]


def _wake(sleeper: asyncio.Future[None]) -> None:
    if not sleeper.done():
        sleeper.set_result(None)


class LinePoller:
    """See the head of this file. All methods but the constructor are for the loop's thread; plain attributes may be read by anybody."""

    def __init__(
        self,
        line: Line,
        blocks: Iterable[Block],
        board: Board,
        exchanger: Exchanger,
        wall: Callable[[], float],
        listener: Listener,
        connecting: asyncio.Semaphore,
    ) -> None:
        self.line = line
        self.exchanger = exchanger
        self.states: dict[str, DeviceState] = {}
        self.water = Water()
        self.schedule = Schedule(self._is_wanted)
        self.why_unreachable = ""
        self.next_connect_s = 0.0
        self.is_held = False
        self.is_off = False
        self._board = board
        self._wall = wall
        self._listener = listener
        self._connecting = connecting
        self._asked: deque[_Asked] = deque()
        self._sleeping: set[asyncio.Future[None]] = set()
        self._timeouts_in_a_row = 0
        self._has_told_down = False
        self._start_s = 0.0
        self._set_blocks(list(blocks), 0.0)

    def _set_blocks(self, blocks: list[Block], now: float) -> None:
        for device in self.line.devices:
            state = self.states.setdefault(device.name, DeviceState(device))
            state.device = device
            own = [block for block in blocks if block.device is device]
            longest_s = max((block.cost_s for block in own), default=0.0)
            state.probe_cost_s = device.timeout_s + longest_s + (0 if self.exchanger.framing.has_transactions else QUARANTINE_S)
            self.schedule.set_jobs(state, own, now)

    @property
    def overruns(self) -> int:
        return sum(job.overruns for state in self.states.values() for job in state.jobs)

    # From outside, in the loop's thread

    def adopt(self, line: Line, blocks: Iterable[Block], board: Board) -> None:
        """Go on with another plan, and maybe other devices, on the same connection."""
        names = {device.name for device in line.devices}
        for name in [name for name in self.states if name not in names]:
            self.schedule.forget(name)
            del self.states[name]
        self.line, self._board = line, board
        self._set_blocks(list(blocks), asyncio.get_running_loop().time())
        self._ring()

    def replan(self, device: Device, blocks: Iterable[Block]) -> None:
        """Other blocks for one device."""
        self.schedule.set_jobs(self.states[device.name], blocks, asyncio.get_running_loop().time())
        self._ring()

    def hold(self, is_held: bool) -> None:
        """Stop asking, or go on; one-off requests still go out."""
        self.is_held = is_held
        self._ring()

    def switch(self, is_on: bool) -> None:
        """Close the line, or open it again."""
        self.is_off = not is_on
        if self.is_off:
            self.exchanger.close("the line is switched off")
        self._ring()

    def cycle(self) -> None:
        """Ask every block once, held or not."""
        self.schedule.ask_once(job for state in self.states.values() for job in state.jobs)
        self._ring()

    def ask_device(self, name: str) -> None:
        """Ask every block of a device now, whatever its back-off. Raises KeyError."""
        state = self.states[name]
        state.next_try_s = state.back_off_s = 0.0
        self.schedule.ask_once(state.jobs)
        self._ring()

    def reconnect(self) -> None:
        """Connect now, whatever the pause; an open connection is closed and made anew."""
        self.exchanger.close("reconnecting, as was asked")
        self.next_connect_s = 0.0
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
        self._start_s = self._loop.time()
        pause_s = self.line.reconnect_s
        try:
            while True:
                while self.is_off:
                    self._tell_unreachable("the line is switched off", 0.0)
                    await self._sleep_until(None)
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
                if not self.is_off:
                    await self._sleep_until(self.next_connect_s)
                pause_s = min(2 * pause_s, LONGEST_BACK_OFF_S)
        finally:
            self.exchanger.close("polling stopped")

    async def _open(self) -> None:
        async with self._connecting:
            await self.exchanger.open()
        self._tell_reached()
        self._timeouts_in_a_row = 0
        now = self._loop.time()
        for state in self.states.values():
            state.next_try_s = now + state.device.pause_after_connect_s

    def _tell_reached(self) -> None:
        self.why_unreachable = ""
        if self._has_told_down:
            self._has_told_down = False
            self._listener.on_event(EventKind.LINE_UP, self.line.name, "", "can be reached again")

    def _tell_unreachable(self, why: str, pause_s: float) -> None:
        now = self._loop.time()
        self.why_unreachable = why
        self.next_connect_s = now + pause_s
        for state in self.states.values():
            for job in state.jobs:
                self._board.fail(job.block.index, Trouble(why, now, is_refusal=False))
        self._listener.on_unreachable(self.line, why)
        if not self._has_told_down:
            self._has_told_down = True
            self._listener.on_event(EventKind.LINE_DOWN, self.line.name, "", why)
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
        async with asyncio.TaskGroup() as group:
            for _ in range(self.line.in_flight):
                group.create_task(self._work())

    async def _work(self) -> None:
        exchanger, loop, schedule = self.exchanger, self._loop, self.schedule
        has_asked_last = False
        while (exchanger.is_open or self.line.connects_per_request) and not self.is_off:
            now = loop.time()
            job = schedule.take_once() or (None if self.is_held else schedule.take_due(now))
            if self._asked and (job is None or not has_asked_last):
                has_asked_last = True
                if job is not None:
                    schedule.push(job, job.due_s)
                await self._serve(self._asked.popleft())
            elif job is not None:
                has_asked_last = False
                await self._poll(job)
            else:
                await self._sleep_until(None if self.is_held else schedule.next_due(now))

    def _is_wanted(self, job: Job) -> bool:
        """Whether the device's `enabled_by` point is on; the block that holds it is always wanted."""
        name = job.state.device.enabled_by
        if not name or any(point.name == name for point in job.block.points):
            return True
        for other in job.state.jobs:
            for number, point in enumerate(other.block.points):
                if point.name == name:
                    record = self._board.records[other.block.index]
                    return record is not None and bool(record.values[number])
        return True

    async def _ask(self, unit_id: int, request: Request, timeout_s: float, pause_s: float, pdu: bytes | None = None) -> Outcome:
        """One exchange, on a connection of its own where the line wants that. Raises Unreachable when there is none then."""
        if not self.line.connects_per_request:
            return await self.exchanger.ask(unit_id, request, timeout_s, pdu)
        async with self._connecting:
            await self.exchanger.open()
        self._tell_reached()
        try:
            await asyncio.sleep(pause_s)
            return await self.exchanger.ask(unit_id, request, timeout_s, pdu)
        finally:
            self.exchanger.close("one request a connection")

    async def _serve(self, asked: _Asked) -> None:
        pause_s = asked.device.pause_after_connect_s if asked.device is not None else 0.0
        try:
            outcome = await self._ask(asked.unit_id, asked.request, asked.timeout_s, pause_s)
        except Unreachable as error:
            self._refuse(asked, str(error), self._loop.time())
            raise
        self.count(asked.device, asked.request, outcome, 0)
        self._pause_after_write(asked)
        if not asked.future.done():
            asked.future.set_result(outcome)

    def _pause_after_write(self, asked: _Asked) -> None:
        """Some devices need a while after a write before they answer again."""
        if asked.device is not None and asked.device.pause_after_write_s and asked.request.function in _WRITING:
            state = self.states.get(asked.device.name)
            if state is not None:
                state.next_try_s = max(state.next_try_s, self._loop.time() + asked.device.pause_after_write_s)

    # One block

    async def _poll(self, job: Job) -> None:
        """Poll a block, and then whatever else is due at once."""
        if self.line.connects_per_request:
            await self._poll_alone(job)
            return
        chain = Chain(self, self._loop.create_future())
        chain.begin(job, self._loop.time())
        await chain.ended

    async def _poll_alone(self, job: Job) -> None:
        block, device = job.block, job.state.device
        start_s = self._loop.time()
        try:
            for attempt in range(self.begin(job, start_s)):
                outcome = await self._ask(device.unit_id, block.request, device.timeout_s, device.pause_after_connect_s, block.pdu)
                self.count(device, block.request, outcome, attempt)
                if outcome.kind in SETTLED:
                    break
            self.judge(job, outcome, start_s)
        finally:
            job.is_running = False

    def next_at_once(self, now: float) -> Job | None:
        """What is due now, unless something else goes first."""
        if self._asked or self.is_held or self.is_off:
            return None
        return self.schedule.take_due(now)

    def begin(self, job: Job, now: float) -> int:
        """A block is about to be asked, up to so many times."""
        job.is_running = True
        state = job.state
        if state.device.watchdog_s is not None:
            self._watch(state, state.device.watchdog_s, now)
        return 1 if state.silent_since_s is not None else 1 + state.device.retries

    def judge(self, job: Job, outcome: Outcome, start_s: float) -> None:
        """What came of a block, after all its tries."""
        state, kind = job.state, outcome.kind
        state.last_asked_s = outcome.done_at
        if kind is OutcomeKind.GOOD and isinstance(outcome.content, ReadAnswer):
            self._take(job, outcome, outcome.content)
        elif kind is OutcomeKind.EXCEPTION:
            self._take_refusal(job, outcome)
        elif kind is not OutcomeKind.UNREACHABLE:
            if state.silent_since_s is not None:
                now = self._loop.time()
                self.schedule.spend(state, max(now - start_s, state.probe_cost_s), now)  # the line stays quiet a while after
            self._take_failure(job, outcome)
        self._put_off(job)

    def _watch(self, state: DeviceState, watchdog_s: float, now: float) -> None:
        """Tell when a device is left alone nearly as long as it bears."""
        alone_s = now - state.last_asked_s if state.last_asked_s is not None else 0.0
        if alone_s > _WATCHDOG_SHARE * watchdog_s:
            text = f"was not asked for {alone_s:.1f} s, and trips after {watchdog_s:g}: the line is too busy, or was held"
            self._listener.on_event(EventKind.WATCHDOG, self.line.name, state.device.name, text, going_on="watchdog")
        else:
            self._listener.end_event(self.line.name, state.device.name, "watchdog")

    def _put_off(self, job: Job) -> None:
        """Due again a period after it was due, or now if that is past."""
        period_s = job.block.period_s
        if period_s <= 0 or job.is_dead:
            return
        now = self._loop.time()
        due_s = (job.due_s or now) + period_s
        if due_s < now:
            job.overruns += 1
            due_s = now
        self.schedule.push(job, due_s)

    def _take(self, job: Job, outcome: Outcome, content: ReadAnswer) -> None:
        block, state = job.block, job.state
        if not job.is_dead:
            record = Record(content.data, block.decoder.decode(content.data), outcome.done_at, self._wall())
            self._board.put(block.index, record)
            self._listener.on_record(block, record)
        if job.refusals or state.reason:
            self._end_refusal(job)
        job.silences = 0
        self._note_alive(state, outcome)
        if outcome.took_s > _SLOW_SHARE * state.device.timeout_s or state.slow_in_a_row:
            self._note_speed(state, outcome.took_s)
        job.reads += 1
        if job.reads % _NOTED_READS == 1 and not job.is_dead:  # there is little to learn from reading it again
            self._listener.on_read(block)

    def _end_refusal(self, job: Job) -> None:
        if job.refusals:
            job.refusals = 0
            self._listener.end_event(self.line.name, job.state.device.name, job.block.key)
        if not any(other.refusals for other in job.state.jobs):
            job.state.reason = ""

    def _note_alive(self, state: DeviceState, outcome: Outcome) -> None:
        state.last_answer_s = outcome.done_at
        if not state.failures_in_a_row and not state.is_silent:
            return
        silent_since_s = state.silent_since_s
        state.failures_in_a_row, state.silent_since_s, state.back_off_s, state.next_try_s, state.reason = 0, None, 0.0, 0.0, ""
        if silent_since_s is not None:
            silence = f"answers again after {outcome.done_at - silent_since_s:.1f} s"
            self._listener.on_event(EventKind.DEVICE_BACK, self.line.name, state.device.name, silence)
            self.schedule.make_due(state, self._loop.time())

    def _note_speed(self, state: DeviceState, took_s: float) -> None:
        limit_s = state.device.timeout_s
        state.slow_in_a_row = state.slow_in_a_row + 1 if took_s > _SLOW_SHARE * limit_s else 0
        if state.slow_in_a_row == _SLOW_TIMES:
            slow = f"answers in {1000 * took_s:.0f} ms, the limit is {1000 * limit_s:.0f}"
            self._listener.on_event(EventKind.DEVICE_SLOW, self.line.name, state.device.name, slow, going_on="slow")
        elif not state.slow_in_a_row:
            self._listener.end_event(self.line.name, state.device.name, "slow")
        state.is_slow = state.slow_in_a_row >= _SLOW_TIMES

    def _take_refusal(self, job: Job, outcome: Outcome) -> None:
        block, state = job.block, job.state
        code = outcome.code or 0
        self._note_alive(state, outcome)
        job.silences = 0
        job.refusals += 1
        state.reason = outcome.reason
        if job.is_dead:
            return
        self._board.fail(block.index, Trouble(outcome.reason, outcome.done_at, is_refusal=True))
        what = f"refuses {block.request.count} {block.request.table.title} from {block.request.address} (wire): {exception_text(code)}"
        self._listener.on_event(EventKind.EXCEPTION, self.line.name, state.device.name, f"exception {code}: {what}", block.key)
        if code in _NARROWED and job.refusals >= _REFUSALS:
            self._listener.on_refused(block, f"exception {code}, {exception_text(code)}")

    def _take_failure(self, job: Job, outcome: Outcome) -> None:
        """Nothing came, or nothing sound."""
        block, state = job.block, job.state
        if not job.is_dead:
            self._board.fail(block.index, Trouble(outcome.reason, outcome.done_at, is_refusal=False))
        state.failures_in_a_row += 1
        state.reason = outcome.reason
        if outcome.kind is not OutcomeKind.TIMEOUT:
            return
        if job.silences and state.last_answer_s is not None and state.last_answer_s > job.first_silence_s:
            self._note_block_silent(job, outcome)
            return
        if not job.silences:
            job.first_silence_s = outcome.sent_at
        job.silences = max(job.silences, 1)
        if not state.is_silent:
            state.silent_since_s = outcome.sent_at
            self._listener.on_event(EventKind.DEVICE_LOST, self.line.name, state.device.name, f"fell silent: {outcome.reason}")
        if self.schedule.has_live_others(state):
            state.back_off_s = min(max(2 * state.back_off_s, self.line.reconnect_s), LONGEST_BACK_OFF_S)
        else:
            state.back_off_s = 0.0
        state.next_try_s = outcome.done_at + state.back_off_s
        self._ask_best_next(state)
        self._note_dead_connection()

    def _note_block_silent(self, job: Job, outcome: Outcome) -> None:
        """The device answers others and not this block: the device is not silent, the block is put off, and narrowed down in the end."""
        job.silences += 1
        job.first_silence_s = outcome.sent_at
        job.state.failures_in_a_row = 0
        job.due_s = self._loop.time() + min(job.block.period_s * 2**job.silences, LONGEST_BACK_OFF_S)
        if job.silences >= _BLOCK_SILENCES and len(job.block.points) > 1 and not job.is_dead:
            self._listener.on_refused(job.block, "it never answers a request for it")

    def _ask_best_next(self, state: DeviceState) -> None:
        """The block most likely to be answered is asked first while a device is silent."""
        jobs = [job for job in state.jobs if job.block.period_s > 0]
        if jobs:
            best = min(jobs, key=lambda job: (job.silences, job.block.request.count))
            self.schedule.push(best, min(state.next_try_s, min(job.due_s for job in jobs)))

    def _note_dead_connection(self) -> None:
        """Nobody answers on this connection any more: make a new one, the far end may have forgotten it."""
        self._timeouts_in_a_row += 1
        if self._timeouts_in_a_row >= _DEAD_CONNECTION and self.exchanger.framing.has_transactions and not self.line.connects_per_request:
            self._timeouts_in_a_row = 0
            self.exchanger.close("the connection is open and nobody answers on it; connecting anew")

    def count(self, device: Device | None, request: Request, outcome: Outcome, attempt: int) -> None:
        """Every outcome goes through here, once."""
        self.water.add(outcome.asked_at, outcome.done_at, outcome.kind)
        if outcome.content is not None:
            self._timeouts_in_a_row = 0
        state = self.states.get(device.name) if device is not None else None
        if state is not None:
            state.counts.add(outcome)
        strays = self.exchanger.traffic.strays
        if strays.gateway_late_s:
            late = f"its gateway gave up {strays.gateway_late_s:.2f} s after the request: raise timeout_s above that"
            self._listener.on_event(EventKind.GATEWAY, self.line.name, "", late, going_on="gateway")
            strays.gateway_late_s = 0.0
        self._listener.on_exchange(self.line, device, request, outcome, attempt)
