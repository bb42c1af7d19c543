"""Polling of a whole site inside a running loop: the plan, the board, a poller a line, the list of exchanges, and what to say of them."""

import asyncio
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.board import Board
from kanaleto.polling.health import Tally, Worst
from kanaleto.polling.line import Exchange, LinePoller, OnRecord
from kanaleto.polling.plan import Plan, plan_site
from kanaleto.site.model import Device, Line, Site
from kanaleto.wire.pdu import Request

EXCHANGES_KEPT = 4000

MakeExchanger = Callable[[Line], Exchanger]


@dataclass(frozen=True, slots=True)
class DeviceStatus:
    """A device at one moment. Ages in seconds; `silent_s` is None while it answers, `next_try_s` how long until it is asked again."""

    device: Device
    tally: Tally
    silent_s: float | None
    next_try_s: float
    reason: str
    has_answered: bool


@dataclass(frozen=True, slots=True)
class LineStatus:
    """A line at one moment: its water (busy share and worst outcome a slice, oldest first), what it does now, its devices."""

    line: Line
    is_open: bool
    why_unreachable: str
    next_connect_s: float
    levels: tuple[tuple[float, Worst], ...]
    busy: float
    exchanges_per_s: float
    overruns: int
    has_found_echo: bool
    devices: tuple[DeviceStatus, ...]

    @property
    def silent(self) -> tuple[DeviceStatus, ...]:
        return tuple(status for status in self.devices if status.silent_s is not None)


class Session:
    """Polls `site`. `run` is for the loop's thread; board, exchanges and status may be read from any."""

    def __init__(
        self,
        site: Site,
        make_exchanger: MakeExchanger | None = None,
        wall: Callable[[], float] = time.time,
        on_record: OnRecord | None = None,
    ) -> None:
        self.site = site
        self.plan: Plan = plan_site(site)
        self.board = Board(self.plan)
        self.exchanges: deque[Exchange] = deque(maxlen=EXCHANGES_KEPT)
        self.count = 0
        self.is_held = False
        self._wall = wall
        make = make_exchanger or (lambda line: exchanger_for(line.link, line.connect_timeout_s, line.gap_s))
        self.pollers = [
            LinePoller(line, list(self.plan.blocks_of(line)), self.board, make(line), wall, self._note, on_record) for line in site.lines
        ]

    def _note(self, line: Line, device: Device | None, request: Request, outcome: Outcome, attempt: int) -> None:
        self.count += 1
        self.exchanges.append(Exchange(self.count, self._wall(), line, device, request, outcome, attempt))

    async def run(self) -> None:
        """Poll until cancelled."""
        async with asyncio.TaskGroup() as group:
            for poller in self.pollers:
                group.create_task(poller.run())

    def hold(self, is_held: bool) -> None:
        """Hold or resume polling on every line."""
        self.is_held = is_held
        for poller in self.pollers:
            poller.hold(is_held)

    def status(self, now_s: float) -> tuple[LineStatus, ...]:
        """Every line as it stands at loop time `now_s`."""
        return tuple(_line_status(poller, now_s) for poller in self.pollers)


def _line_status(poller: LinePoller, now_s: float) -> LineStatus:
    busy, rate = poller.water.recent(now_s)
    return LineStatus(
        poller.line,
        poller.exchanger.is_open,
        poller.why_unreachable,
        max(poller.next_connect_s - now_s, 0.0),
        poller.water.levels(now_s),
        busy,
        rate,
        poller.overruns,
        poller.exchanger.has_found_echo,
        tuple(
            DeviceStatus(
                state.device,
                state.counts.tally(),
                now_s - state.silent_since_s if state.silent_since_s is not None else None,
                max(state.next_try_s - now_s, 0.0),
                state.reason,
                state.last_answer_s is not None,
            )
            for state in poller.states.values()
        ),
    )
