"""What an outcome means: for the board, for how a device is asked from now on, and for what is reported. The only place
that turns outcomes into states and events.

Rules. An exception of address or value, twice in a row, narrows a block down; so does a block that is never answered
while its device answers others. A device is silent from its first timeout on, and is asked less and less often while
others want the line. A refusal is an answer.
"""

from collections.abc import Callable

from kanaleto.board.board import Board, Record, Trouble
from kanaleto.board.listener import Listener
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.connection import Connection
from kanaleto.polling.outages import Outages
from kanaleto.polling.schedule import LONGEST_BACK_OFF_S, DeviceState, Job, Schedule
from kanaleto.site.model import Line
from kanaleto.wire.codes import ExceptionCode, exception_text
from kanaleto.wire.pdu import ReadAnswer

# tries of one block that nothing came of, its device answering others between, until it is narrowed down
_BLOCK_SILENCES = 3
_REFUSALS = 2  # refusals in a row until a block is narrowed down: a device that starts up may refuse once
_SLOW_SHARE, _SLOW_TIMES = 0.7, 3
_LATE_TIMES = 3  # a pause, or a device that was away, is no line without time
_WATCHDOG_SHARE = 0.8
_NOTED_READS = 16
_NOT_NOW = (ExceptionCode.ACKNOWLEDGE, ExceptionCode.SERVER_DEVICE_BUSY)
"""No refusals: the device is at work, and is asked again soon (application protocol 1.1b3, 7)."""
_SOON_S = 0.1
_NARROWED = (ExceptionCode.ILLEGAL_DATA_ADDRESS, ExceptionCode.ILLEGAL_DATA_VALUE)


class Judgement:
    """Of one line; `line` and `board` change when an edited site is taken over."""

    def __init__(
        self,
        line: Line,
        board: Board,
        schedule: Schedule,
        connection: Connection,
        listener: Listener,
        now: Callable[[], float],
        clock: Clock,
        outages: Outages,
    ) -> None:
        self.line = line
        self._outages = outages
        self.board = board
        self.schedule = schedule
        self._connection = connection
        self._listener = listener
        self._now, self._clock = now, clock

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
        elif kind is OutcomeKind.EXCEPTION and not outcome.is_of_gateway:
            self._take_refusal(job, outcome)
        elif kind is not OutcomeKind.UNREACHABLE:
            if state.silent_since_s is not None:
                now = self._now()
                # the line stays quiet a while after
                self.schedule.spend(state, max(now - start_s, state.probe_cost_s), now)
            self._take_failure(job, outcome)
        is_later = kind is OutcomeKind.EXCEPTION and outcome.code in _NOT_NOW
        if is_later and job.block.period_s > 0 and not job.is_dead:
            self.schedule.push(job, self._now() + min(job.block.period_s, _SOON_S * 2 ** min(job.refusals, 8)))
        else:
            self._put_off(job)

    def _watch(self, state: DeviceState, watchdog_s: float, now: float) -> None:
        """Tell when a device is left alone nearly as long as it bears."""
        alone_s = now - state.last_asked_s if state.last_asked_s is not None else 0.0
        if alone_s > _WATCHDOG_SHARE * watchdog_s:
            if self._outages.explains(state.device.name, now - alone_s):
                return
            text = (
                f"was not asked for {alone_s:.1f} s, and trips after {watchdog_s:g}: the line is too busy, or was held"
            )
            self._listener.on_event(EventKind.WATCHDOG, self.line.name, state.device.name, text, going_on="watchdog")
        else:
            self._listener.end_event(self.line.name, state.device.name, "watchdog")

    def _put_off(self, job: Job) -> None:
        """Due again a period after it was due, or now if that is past."""
        period_s = job.block.period_s
        if period_s <= 0 or job.is_dead:
            return
        now = self._now()
        due_s = (job.due_s or now) + period_s
        if due_s < now:
            job.overruns += 1
            job.state.overruns += 1
            due_s = now
            job.late_in_a_row += 1
            if self._outages.is_disturbed(now):  # that takes the time, not the load of the line
                job.late_in_a_row = 0
            if job.late_in_a_row >= _LATE_TIMES and not job.state.is_silent:
                self._tell_overrun(job)
        else:
            job.late_in_a_row = 0
        self.schedule.push(job, due_s)

    def _tell_overrun(self, job: Job) -> None:
        block, name = job.block, job.state.device.name
        cycle_s = self.board.cycles_s[block.index]
        read = block.request
        late = (
            f"{read.table.counted(read.count)} from {read.address} (wire): period {block.period_s:g} s, reached "
            f"{cycle_s:.3g} s: the line has no time for more"
        )
        key = (EventKind.OVERRUN, block.key)
        self._listener.on_event(EventKind.OVERRUN, self.line.name, name, late, going_on=key, is_spell=True)

    def _take(self, job: Job, outcome: Outcome, content: ReadAnswer) -> None:
        block, state = job.block, job.state
        if not job.is_dead:
            record = Record(
                content.data, block.decoder.decode(content.data), outcome.done_at, self._clock.at(outcome.done_at)
            )
            self.board.put(block.index, record)
            self._listener.on_record(block, record)
            if state.parked:
                self.schedule.note_read(job, outcome.done_at)
        job.silences = 0
        job.reads += 1
        if job.refusals or state.reason:
            self._end_refusal(job)
        self._note_alive(state, outcome)
        if outcome.took_s > _SLOW_SHARE * state.device.timeout_s or state.slow_in_a_row:
            self._note_speed(state, outcome.took_s)
        if job.reads % _NOTED_READS == 1 and not job.is_dead:  # there is little to learn from reading it again
            self._listener.on_read(block)

    def _end_refusal(self, job: Job) -> None:
        """This block is given; where no other is refused, or has yet to show it, all refusals are over."""
        job.refusals = 0
        state = job.state
        if any(other.refusals for other in state.jobs):
            return
        state.reason, state.trouble = "", None

    def _note_alive(self, state: DeviceState, outcome: Outcome) -> None:
        state.last_answer_s = outcome.done_at
        if self._outages.looks:
            is_good = outcome.is_good
            is_refusing = is_good and (
                (state.part is not None and state.part.not_given > 0)  # which is not asked for any more
                or (state.is_refused and any(other.refusals for other in state.jobs))
            )
            state.is_refused = not is_good or is_refusing
            self._outages.answered(state.device.name, outcome.done_at, is_good, is_refusing)
        if not state.failures_in_a_row and not state.is_silent:
            return
        silent_since_s = state.silent_since_s
        state.failures_in_a_row, state.silent_since_s = 0, None
        state.back_off_s = state.next_try_s = 0.0
        state.reason, state.trouble = "", None
        if silent_since_s is not None:
            self.schedule.make_due(state, self._now())

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
        job.silences = 0
        job.refusals += 1
        state.is_refused = True
        self._note_alive(state, outcome)
        state.reason, state.trouble = outcome.reason, outcome.kind
        if job.is_dead:
            return
        self.board.fail(block.index, Trouble(outcome.reason, is_refusal=code not in _NOT_NOW))
        what = (
            f"{'puts off' if code in _NOT_NOW else 'refuses'} {block.request.table.counted(block.request.count)} from "
            f"{block.request.address} (wire): {exception_text(code)}"
        )
        self._outages.refused(state.device.name, code, f"exception {code}: {what}")
        if code in _NARROWED and job.refusals >= _REFUSALS:
            self._listener.on_refused(block, f"exception {code}, {exception_text(code)}")

    def _take_failure(self, job: Job, outcome: Outcome) -> None:
        """Nothing came, or nothing sound; or a gateway says that nothing came to it (application protocol 1.1b3, 7)."""
        block, state = job.block, job.state
        is_silence = outcome.kind is OutcomeKind.TIMEOUT or outcome.is_of_gateway
        reason = f"its gateway says so: {outcome.reason}" if outcome.is_of_gateway else outcome.reason
        if not job.is_dead:
            self.board.fail(block.index, Trouble(reason, is_refusal=False))
        state.failures_in_a_row += 1
        state.reason, state.trouble = reason, outcome.kind
        answers_others = job.silences and state.last_answer_s is not None and state.last_answer_s > job.first_silence_s
        if not answers_others or not is_silence:
            self._outages.failed(state.device.name, outcome.done_at, reason, outcome.kind)
        if not is_silence:
            return
        if job.silences and state.last_answer_s is not None and state.last_answer_s > job.first_silence_s:
            self._note_block_silent(job, outcome)
            return
        if not job.silences:
            job.first_silence_s = outcome.sent_at
        job.silences = max(job.silences, 1)
        if not state.is_silent:
            state.silent_since_s = outcome.sent_at
        if self.schedule.has_live_others(state):
            state.back_off_s = min(max(2 * state.back_off_s, self.line.first_pause_s), LONGEST_BACK_OFF_S)
        else:
            state.back_off_s = 0.0
        state.next_try_s = outcome.done_at + state.back_off_s
        self._ask_best_next(state)
        if outcome.is_of_gateway:
            self._connection.note_answer()  # the gateway lives
        else:
            self._connection.note_timeout()

    def _note_block_silent(self, job: Job, outcome: Outcome) -> None:
        """The device answers others and not this block: the device is not silent, the block is put off, and narrowed
        down in the end."""
        job.silences += 1
        job.first_silence_s = outcome.sent_at
        job.state.failures_in_a_row = 0
        job.due_s = self._now() + min(job.block.period_s * 2**job.silences, LONGEST_BACK_OFF_S)
        if job.silences >= _BLOCK_SILENCES and len(job.block.points) > 1 and not job.is_dead:
            self._listener.on_refused(job.block, "it never answers a request for it")

    def _ask_best_next(self, state: DeviceState) -> None:
        """The block most likely to be answered is asked first while a device is silent."""
        jobs = [job for job in state.jobs if job.block.period_s > 0]
        if jobs:
            best = min(jobs, key=lambda job: (job.silences, job.block.request.count))
            self.schedule.push(best, min(state.next_try_s, min(job.due_s for job in jobs)))
