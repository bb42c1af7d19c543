"""When each block of a line is due: earliest deadline first, blocks without a pause in what time is left, silent
devices within a tenth.

Rules for a device that is silent. It is asked with one block, the one that last answered. While other devices of its
line want the line, all silent devices together spend what a tenth of the time brings in, and each is asked less and
less often. A line on which nobody else wants anything asks them at their periods.
"""

import heapq
from collections import deque
from collections.abc import Callable, Collection, Iterable

from msgspec import Struct, field

from kanaleto.board.health import Counts
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.planning.blocks import Block, DevicePlan, PlanDiff, difference
from kanaleto.site.model import DEMAND, Device

LONGEST_BACK_OFF_S = 30.0
SILENT_SHARE = 0.1
_REST_S = 1.0


class DeviceState(Struct, eq=False):
    """A device as the poller knows it. Times are loop times; `silent_since_s` is None while it answers. `back_off_s` is
    how long it is left alone after a try that nothing came of."""

    device: Device
    counts: Counts = field(default_factory=Counts)
    failures_in_a_row: int = 0
    silent_since_s: float | None = None
    last_answer_s: float | None = None
    heard_s: float = -1e9  # when it answered anything last, whoever asked
    last_asked_s: float | None = None
    next_try_s: float = 0.0
    back_off_s: float = 0.0
    probe_cost_s: float = 0.0
    slow_in_a_row: int = 0
    is_slow: bool = False
    is_on_credit: bool = False
    reason: str = ""
    trouble: OutcomeKind | None = None  # which kind of outcome `reason` tells of
    jobs_by_index: dict[int, "Job"] = field(default_factory=dict)
    """By where their blocks stand on the board."""
    part: DevicePlan | None = None  # whose blocks they are
    shortest_s: float = 0.0  # the shortest period of those that have one
    overruns: int = 0
    parked: dict["Job", None] = field(default_factory=dict)
    """Jobs that were due while the `enabled_by` point was off, in that order; they wait for it."""
    is_refused: bool = False
    """Whether a block of it may be refused now."""
    enabling: tuple[Block, int] | None = None  # where its `enabled_by` point is read

    @property
    def jobs(self) -> Collection["Job"]:
        return self.jobs_by_index.values()

    @property
    def is_polled(self) -> bool:
        """Whether anything of it is asked by itself now."""
        return self.shortest_s >= 0 and len(self.jobs_by_index) > len(self.parked)

    @property
    def is_silent(self) -> bool:
        return self.silent_since_s is not None


class Job(Struct, eq=False):
    """A block and when it is due next. `silences` counts tries in a row that nothing came of while its device answered
    others; `is_dead` when another plan has replaced it."""

    block: Block
    state: DeviceState
    due_s: float = 0.0
    is_running: bool = False
    is_dead: bool = False
    silences: int = 0
    first_silence_s: float = 0.0
    refusals: int = 0
    overruns: int = 0
    late_in_a_row: int = 0
    reads: int = 0


IsWanted = Callable[[Job], bool]
"""Whether a block may be asked at all now (its `enabled_by` point is on)."""


class Schedule:
    """The jobs of one line."""

    def __init__(self, is_wanted: IsWanted) -> None:
        self._is_wanted = is_wanted
        self._heap: list[tuple[float, int, Job]] = []  # due, a number that tells equals apart, job
        self._pushes = 0
        self._unpaced: deque[Job] = deque()
        self._once: deque[Job] = deque()
        self._states: dict[str, DeviceState] = {}
        self.rests_silent = False
        """Silent devices are left out, as long as something on this line may not wait for them."""
        self._credit_s = 0.0
        self._credit_at_s: float | None = None

    def set_jobs(self, state: DeviceState, part: DevicePlan, now: float, differs: PlanDiff | None = None) -> None:
        """The blocks of one device, in place of those it had. A job whose block still asks the same and means the same
        goes on, an answer under way included; others that ask the same keep their deadline. What `differs` may have
        been found before, elsewhere."""
        if differs is None or differs.old is not state.part or differs.new is not part:
            differs = difference(state.part, part)
        if differs.gone or differs.fresh:
            left = [state.jobs_by_index.pop(index) for index in differs.gone]
            self._set_others(state, differs.fresh, left, now)
        state.part, state.shortest_s = part, part.shortest_s
        state.enabling = _where(state)
        self._states[state.device.name] = state
        self._unpark(state, now)

    def _set_others(self, state: DeviceState, blocks: Iterable[Block], left: Iterable[Job], now: float) -> None:
        """Blocks that are not the very same; `left` are jobs that none of those has gone on with. One that stands where
        another stood asks and means the same, maybe at another pace."""
        at_index = {job.block.index: job for job in left}
        others: list[Block] = []
        new: list[tuple[Job, float]] = []
        for block in blocks:
            job = at_index.pop(block.index, None)
            if job is None:
                others.append(block)
                continue
            if job.block.period_s != block.period_s:
                new.append((job, min(job.due_s, now + block.period_s)))
            job.block = block
            state.jobs_by_index[block.index] = job
        before = {job.block.key: job for job in at_index.values()}
        for block in others:
            old = before.get(block.key) if before else None
            if old is not None and old.block.source == block.source and old.block.decodes_like(block):
                is_same_pace = old.block.period_s == block.period_s
                old.block = block
                state.jobs_by_index[block.index] = old
                del before[block.key]
                if is_same_pace:
                    continue
                new.append((old, min(old.due_s, now + block.period_s)))
            else:
                job = Job(block, state, overruns=old.overruns if old is not None else 0)
                state.jobs_by_index[block.index] = job
                new.append((job, min(old.due_s, now + block.period_s) if old is not None else now))
        for job in before.values():
            job.is_dead = True
        self._drop_dead(job for job, _ in new)
        for job, due_s in new:
            if job.block.period_s == 0:
                self._unpaced.append(job)
            elif job.block.period_s != DEMAND:
                self.push(job, due_s)

    def _drop_dead(self, moved: Iterable[Job] = ()) -> None:
        """Dead jobs leave the queues, and those that get another pace; the heap drops its own as they come up."""
        gone = set(moved)
        self._unpaced = deque(job for job in self._unpaced if not job.is_dead and job not in gone)
        self._once = deque(job for job in self._once if not job.is_dead)

    def forget(self, name: str) -> None:
        """A device is no more."""
        state = self._states.pop(name)
        for job in state.jobs:
            job.is_dead = True
        self._drop_dead()

    def rename(self, old: str, new: str) -> None:
        """A device bears another name."""
        self._states[new] = self._states.pop(old)

    def push(self, job: Job, due_s: float) -> None:
        """Due then."""
        job.due_s = due_s
        if job.block.period_s > 0 and not job.is_dead:
            self._pushes += 1
            heapq.heappush(self._heap, (due_s, self._pushes, job))

    def ask_once(self, jobs: Iterable[Job]) -> None:
        """Ask these before anything else, held or not, silent or not."""
        waiting = set(self._once)
        self._once += [job for job in jobs if job not in waiting]

    def take_once(self) -> Job | None:
        while self._once:
            job = self._once.popleft()
            if not job.is_dead:
                return job
        return None

    def make_due(self, state: DeviceState, now: float) -> None:
        """Everything of a device is due now."""
        state.next_try_s = 0.0
        for job in state.jobs:
            if job.block.period_s > 0 and job.due_s > now:
                self.push(job, now)

    def take_due(self, now: float) -> Job | None:
        """The job that is due first. Entries that were put off meanwhile are dropped."""
        heap = self._heap
        while heap and heap[0][0] <= now:
            due_s, _, job = heapq.heappop(heap)
            if due_s != job.due_s or job.is_dead or job.is_running:
                continue
            state = job.state
            if state.next_try_s > now:
                self.push(job, state.next_try_s)
                continue
            if state.device.enabled_by and not self._is_wanted(job):
                state.parked[job] = None
                continue
            if state.silent_since_s is not None and (wait_s := self._wait_for_credit(state, now)) > 0:
                state.next_try_s = now + wait_s
                self.push(job, state.next_try_s)
                continue
            return job
        for _ in range(len(self._unpaced)):
            job = self._unpaced.popleft()
            state = job.state
            if state.device.enabled_by and not self._is_wanted(job):
                state.parked[job] = None
                continue
            self._unpaced.append(job)
            if job.is_running or state.next_try_s > now:
                continue
            if state.silent_since_s is not None and (wait_s := self._wait_for_credit(state, now)) > 0:
                state.next_try_s = now + wait_s
                continue
            return job
        return None

    def note_read(self, job: Job, now: float) -> None:
        """A block was read: where it says that its device is on, what waits for that is due."""
        state = job.state
        if state.parked and state.enabling is not None and state.enabling[0] is job.block:
            self._unpark(state, now)

    def _unpark(self, state: DeviceState, now: float) -> None:
        """What waits is due, or waits on."""
        parked = [job for job in state.parked if not job.is_dead]
        if parked and self._is_wanted(parked[0]):
            state.parked.clear()
            for job in parked:
                if job.block.period_s == 0:
                    self._unpaced.append(job)
                else:
                    self.push(job, now)

    def next_due(self, now: float) -> float | None:
        """When to look again."""
        dues = [self._heap[0][0]] if self._heap else []
        for job in self._unpaced:
            if not job.is_running:
                dues.append(job.state.next_try_s)
        return min(dues, default=None)

    # Silent devices

    def others_want_the_line(self, state: DeviceState, until_s: float) -> bool:
        """Whether a device that answers has something due before then."""
        return any(
            job.block.period_s == 0 or (job.block.period_s > 0 and job.due_s < until_s)
            for other in self._states.values()
            if other is not state and not other.is_silent
            for job in other.jobs
        )

    def has_live_others(self, state: DeviceState) -> bool:
        return any(other is not state and not other.is_silent and other.jobs for other in self._states.values())

    def _earn(self, now: float) -> None:
        if self._credit_at_s is not None:
            most = 2 * max((state.probe_cost_s for state in self._states.values()), default=0.0)
            self._credit_s = min(self._credit_s + SILENT_SHARE * (now - self._credit_at_s), most)
        self._credit_at_s = now

    def _wait_for_credit(self, state: DeviceState, now: float) -> float:
        """Seconds until a silent device may be asked; 0 for now."""
        if self.rests_silent:
            return _REST_S
        self._earn(now)
        state.is_on_credit = self.others_want_the_line(state, now + state.probe_cost_s)
        if not state.is_on_credit:
            return 0.0
        lacking_s = state.probe_cost_s - self._credit_s
        return lacking_s / SILENT_SHARE + 1e-6 if lacking_s > 0 else 0.0

    def spend(self, state: DeviceState, took_s: float, now: float) -> None:
        """A silent device was asked in vain for so long; it costs credit where others wanted the line."""
        self._earn(now)
        if state.is_on_credit:
            self._credit_s = max(self._credit_s - took_s, -2 * state.probe_cost_s)

    def credit_within_s(self) -> float:
        """The longest until there is credit for any silent device: for every other of the line, and what may be under
        way."""
        silent_s = sum(other.probe_cost_s for other in self._states.values() if other.is_silent)
        longest_s = max((other.probe_cost_s for other in self._states.values()), default=0.0)
        return (silent_s + 3 * longest_s) / SILENT_SHARE + 2 * longest_s


def _where(state: DeviceState) -> tuple[Block, int] | None:
    """The block that reads a device's `enabled_by` point, and the point's number in it."""
    name = state.device.enabled_by
    for job in state.jobs if name else ():
        for number, point in enumerate(job.block.points):
            if point.name == name:
                return job.block, number
    return None
