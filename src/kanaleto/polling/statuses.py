"""What is said of a session: lines and devices at one moment, blocks that come too late."""

from collections.abc import Sequence
from typing import NamedTuple

from msgspec import Struct

from kanaleto.board.board import Board
from kanaleto.board.snapshot import DeviceStatus, LineStatus
from kanaleto.planning.plan import Block, Plan
from kanaleto.polling.line import LinePoller
from kanaleto.polling.schedule import DeviceState

_TOLD_AGAIN_S = 1.0


class Lateness(Struct, frozen=True):
    """A block that is not read as often as was asked, in seconds."""

    block: Block
    asked_s: float
    reached_s: float
    overruns: int


class _CachedStatus(NamedTuple):
    what: tuple[object, ...]
    plan: Plan
    at_s: float
    status: LineStatus


class Statuses:
    """How lines do, for those who look again and again: a line on which nothing has happened since is reported as it
    was, for up to a second, since only ages have changed."""

    def __init__(self) -> None:
        self._cached: dict[str, _CachedStatus] = {}

    def of(self, pollers: Sequence[LinePoller], now_s: float, plan: Plan) -> tuple[LineStatus, ...]:
        """Every line as it stands at loop time `now_s`."""
        before, self._cached = self._cached, {}
        for poller in pollers:
            line, why = poller.line, poller.connection.why_unreachable
            what = (poller.outcomes, poller.is_off, poller.lent_to, poller.exchanger.is_open, why)
            cached = before.get(line.name)
            if (
                cached is None
                or cached.what != what
                or cached.plan is not plan
                or cached.status.line is not line
                or now_s - cached.at_s >= _TOLD_AGAIN_S
            ):
                cached = _CachedStatus(what, plan, now_s, line_status(poller, now_s, plan))
            self._cached[line.name] = cached
        return tuple(self._cached[poller.line.name].status for poller in pollers)


def line_status(poller: LinePoller, now_s: float, plan: Plan) -> LineStatus:
    """A line as it stands at loop time `now_s`. For the loop's thread."""
    busy, rate = poller.water.recent(now_s)
    has_silent = any(state.is_silent for state in poller.states.values())
    credit_s = poller.schedule.credit_within_s() if has_silent else 0.0
    return LineStatus(
        line=poller.line,
        is_open=poller.exchanger.is_open,
        is_off=poller.is_off,
        lent_to=poller.lent_to,
        port=poller.port,
        why_unreachable=poller.connection.why_unreachable,
        next_connect_s=max(poller.connection.next_connect_s - now_s, 0.0),
        water=poller.water.frozen(now_s),
        busy=busy,
        exchanges_per_s=rate,
        overruns=poller.overruns,
        late_answers=poller.exchanger.traffic.strays.late,
        has_found_echo=poller.exchanger.has_found_echo,
        devices=tuple(_device_status(state, now_s, plan, credit_s) for state in poller.states.values()),
    )


def _device_status(state: DeviceState, now_s: float, plan: Plan, credit_s: float) -> DeviceStatus:
    """`notice_within_s` is the longest until a silent device is asked again from any moment on: its back-off, and
    until there is credit."""
    part = plan.part_of(state.device.name)
    return DeviceStatus(
        device=state.device,
        tally=state.counts.tally(),
        silent_s=now_s - state.silent_since_s if state.silent_since_s is not None else None,
        next_try_s=max(state.next_try_s - now_s, 0.0),
        notice_within_s=max(state.back_off_s, state.shortest_s) + credit_s if state.is_silent else 0.0,
        reason=state.reason,
        trouble=state.trouble,
        has_answered=state.last_answer_s is not None,
        is_slow=state.is_slow,
        points_off=part.switched_off if part is not None else 0,
        points_refused=part.not_given if part is not None else 0,
    )


def lateness(pollers: Sequence[LinePoller], board: Board) -> list[Lateness]:
    """Blocks that are not read as often as asked, by more than a tenth."""
    late = []
    for poller in pollers:
        for state in poller.states.values():
            for job in state.jobs:
                period_s, reached_s = job.block.period_s, board.cycles_s[job.block.index]
                if job.overruns and period_s > 0 and reached_s > 1.1 * period_s:
                    late.append(Lateness(job.block, period_s, reached_s, job.overruns))
    return late
