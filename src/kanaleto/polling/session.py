"""Polling of a whole site inside a running loop: the plan, the board, a poller a line, exchanges and events, and what to say of them."""

import asyncio
import time
from collections import deque
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.board import Board, Record
from kanaleto.polling.derived import EVERY_S, Formulas
from kanaleto.polling.events import EventKind, EventLog
from kanaleto.polling.health import Tally, Worst
from kanaleto.polling.lessons import Lessons
from kanaleto.polling.line import LinePoller
from kanaleto.polling.listener import Exchange
from kanaleto.polling.plan import Block, Place, Plan, plan_device, plan_site
from kanaleto.polling.schedule import DeviceState
from kanaleto.site.counting import from_wire
from kanaleto.site.link import Link, SerialLink
from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer, Request

EXCHANGES_KEPT = 4000
MOST_CONNECTING = 50  # lines that connect at once: many at a time overrun the queue of those who accept
_LAST_ANSWER_S, _LONGEST_FRAME = 0.2, 256  # how long a line is left alone when it changes hands: a device thinks, then answers
HOLES_AGAIN_S = 300.0  # points that a device does not give are tried again after this long

MakeExchanger = Callable[[Line], Exchanger]


@dataclass(frozen=True, slots=True)
class DeviceStatus:
    """A device at one moment. Ages in seconds; `silent_s` is None while it answers, `next_try_s` how long until it is asked again,
    `notice_within_s` the longest until its return is noticed."""

    device: Device
    tally: Tally
    silent_s: float | None
    next_try_s: float
    notice_within_s: float
    reason: str
    has_answered: bool
    is_slow: bool


@dataclass(frozen=True, slots=True)
class Lateness:
    """A block that is not read as often as was asked, in seconds."""

    block: Block
    asked_s: float
    reached_s: float
    overruns: int


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
    late_answers: int
    has_found_echo: bool
    devices: tuple[DeviceStatus, ...]

    @property
    def silent(self) -> tuple[DeviceStatus, ...]:
        return tuple(status for status in self.devices if status.silent_s is not None)


class Session:
    """Polls `site`. `run` and what changes the session are for the loop's thread; plan, board, exchanges, events and status may be read
    from any. `version` counts up when the plan changes."""

    def __init__(self, site: Site, make_exchanger: MakeExchanger | None = None, wall: Callable[[], float] = time.time) -> None:
        self.site = site
        self.lessons: dict[str, Lessons] = {}
        self.switched_off: set[tuple[str, str]] = set()  # device and point
        self.plan: Plan = plan_site(site, self.lessons)
        self.board = Board(self.plan)
        self._formulas = Formulas(site, self.plan)
        self.version = 0
        self.exchanges: deque[Exchange] = deque(maxlen=EXCHANGES_KEPT)
        self.events = EventLog(wall)
        self.count = 0
        self.is_held = False
        self._wall = wall
        self._make = make_exchanger or (lambda line: exchanger_for(line.link, line.connect_timeout_s, line.gap_s))
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._over: asyncio.Future[None] | None = None
        self._derive_timer: asyncio.TimerHandle | None = None
        self._connecting = asyncio.Semaphore(MOST_CONNECTING)
        self._blocks_by_line = self.plan.blocks_by_line()
        self.pollers = [self._poller(line) for line in site.lines]

    def _poller(self, line: Line) -> LinePoller:
        blocks = self._blocks_by_line.get(line.name, [])
        return LinePoller(line, blocks, self.board, self._make(line), self._wall, self, self._connecting)

    # What pollers tell

    def on_exchange(self, line: Line, device: Device | None, request: Request, outcome: Outcome, attempt: int) -> None:
        self.count += 1
        self.exchanges.append(Exchange(self.count, self._wall(), line, device, request, outcome, attempt))

    def on_record(self, block: Block, record: Record) -> None:
        """A block was read; for those who print samples."""

    def on_unreachable(self, line: Line, why: str) -> None:
        """A line could not be reached, again."""

    def on_event(self, kind: EventKind, line: str, device: str, text: str, going_on: object = None) -> None:
        self.events.note(kind, line, device, text, going_on)

    def end_event(self, line: str, device: str, going_on: object) -> None:
        self.events.end(line, device, going_on)

    def on_read(self, block: Block) -> None:
        lessons = self.lessons.get(block.device.name)
        if lessons is None:
            lessons = self.lessons[block.device.name] = Lessons(block.device.limits.max_registers, block.device.limits.max_bits)
        has_news = lessons.note_read(block.request.table, block.request.count, block.points)
        if lessons.holes and asyncio.get_running_loop().time() - lessons.holes_since_s > HOLES_AGAIN_S:
            lessons.try_holes_again()
            has_news = True
        if has_news:
            self._replan(block.line, block.device)

    def on_refused(self, block: Block, why: str) -> None:
        limits = block.device.limits
        lessons = self.lessons.setdefault(block.device.name, Lessons(limits.max_registers, limits.max_bits))
        told = lessons.note_refused(block.request.table, block.request.count, block.points, why)
        if told:
            lessons.holes_since_s = asyncio.get_running_loop().time()
            self.on_event(EventKind.LEARNED, block.line.name, block.device.name, told, going_on=told)
        self._replan(block.line, block.device)

    def _replan(self, line: Line, device: Device) -> None:
        """Plan one device anew; the rest goes on as it is."""
        lessons = self.lessons.get(device.name)
        off = {point for name, point in self.switched_off if name == device.name}
        kept = [block for block in self.plan.blocks if block.device is not device]
        before = {block.key: block for block in self.plan.blocks if block.device is device}
        blocks, places = plan_device(line, device, lessons, len(self.board.records), off)
        own = [before.get(block.key, block) for block in blocks]
        swapped = {id(block): old for block, old in zip(blocks, own, strict=True)}
        self.board.extend([block for block in blocks if block.key not in before], len(self.board.records) + len(blocks))
        new_places = iter([place.with_block(swapped.get(id(place.block))) for place in places])
        self.plan = Plan((*kept, *own), tuple(next(new_places) if place.device is device else place for place in self.plan.places))
        self._note_plan()
        self.version += 1
        for poller in self.pollers:
            if poller.line is line:
                poller.replan(device, own)
        if lessons is not None:
            for table in Table:
                largest = max((block.request.count for block in own if block.request.table is table), default=0)
                told = lessons.settle(table, largest)
                if told:
                    self.on_event(EventKind.LEARNED, line.name, device.name, told)

    def _note_plan(self) -> None:
        """Points stand elsewhere now: formulas and powers of ten follow."""
        self.board.note_places(self.plan)
        self._formulas = Formulas(self.site, self.plan)

    # Running

    async def run(self) -> None:
        """Poll until cancelled."""
        loop = asyncio.get_running_loop()
        self._over = loop.create_future()
        self._derive(loop)
        for poller in self.pollers:
            self._start(poller)
        try:
            await self._over
        finally:
            if self._derive_timer is not None:
                self._derive_timer.cancel()
            tasks, self._tasks = list(self._tasks.values()), {}
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)

    def _derive(self, loop: asyncio.AbstractEventLoop) -> None:
        """Evaluate the formulas, and again in a while."""
        if self._over is None or self._over.done():
            return
        if self.site.derived:
            self.board.derived = self._formulas.evaluate(self.board, loop.time())
        self._derive_timer = loop.call_later(EVERY_S, self._derive, loop)

    def _start(self, poller: LinePoller) -> None:
        task = asyncio.get_running_loop().create_task(poller.run(), name=poller.line.name)
        task.add_done_callback(self._note_end)
        self._tasks[poller.line.name] = task

    def _note_end(self, task: asyncio.Task[None]) -> None:
        """A poller never ends by itself: an error in one is an error of ours, and ends all."""
        if not task.cancelled() and task.exception() is not None and self._over is not None and not self._over.done():
            self._over.set_exception(task.exception() or RuntimeError("a poller ended"))

    # What a person may ask for

    def hold(self, is_held: bool) -> None:
        """Hold or resume polling on every line."""
        self.is_held = is_held
        for poller in self.pollers:
            poller.hold(is_held)

    def cycle(self) -> None:
        """Ask every block of the site once, held or not."""
        for poller in self.pollers:
            poller.cycle()

    def reconnect(self, line_name: str) -> None:
        """Connect a line now. Raises KeyError."""
        self._named(line_name).reconnect()

    def ask_device(self, name: str) -> None:
        """Ask a device now, whatever its back-off. Raises KeyError."""
        for poller in self.pollers:
            if name in poller.states:
                lessons = self.lessons.get(name)
                if lessons is not None and lessons.holes:
                    lessons.try_holes_again()
                    self._replan(poller.line, poller.states[name].device)
                poller.ask_device(name)
                return
        raise KeyError(name)

    def switch_line(self, line_name: str, is_on: bool) -> None:
        """Close a line, or open it. Raises KeyError."""
        self._named(line_name).switch(is_on)

    def switch_points(self, device_name: str, is_on: bool, point_names: set[str] | None = None) -> None:
        """Poll points of a device, or leave them out; all of them when none are named. Raises KeyError."""
        for line, device in self.site.devices():
            if device.name == device_name:
                names = {(device_name, name) for name in point_names or {point.name for point in device.points}}
                self.switched_off = self.switched_off - names if is_on else self.switched_off | names
                self._replan(line, device)
                return
        raise KeyError(device_name)

    def reset_counts(self) -> None:
        """Count outcomes from nought, on every device."""
        for poller in self.pollers:
            for state in poller.states.values():
                state.counts.reset()

    def at_risk(self) -> list[Device]:
        """Devices that do something of their own when nobody asks them for a while (`watchdog_s`), and that are asked now."""
        return [
            state.device
            for poller in self.pollers
            if poller.exchanger.is_open
            for state in poller.states.values()
            if state.device.watchdog_s is not None and not state.is_silent and state.last_answer_s is not None
        ]

    def _named(self, line_name: str) -> LinePoller:
        for poller in self.pollers:
            if poller.line.name == line_name:
                return poller
        raise KeyError(line_name)

    def asks_on(self, link: Link) -> Callable[[int, Request, float], Awaitable[Outcome]] | None:
        """Where a line of the site leads to the same place with the same settings: asks there, between what is polled."""
        for poller in self.pollers:
            if poller.line.link == link and not poller.is_off:
                return poller.ask
        return None

    async def read_once(self, place: Place, step: int) -> tuple[bytes | None, str]:
        """A point's words `step` addresses away, asked once; or None and why. What must never be read is not."""
        point, device = place.point, place.device
        first = point.address + step
        if not 0 <= first <= 0x10000 - point.size:
            return None, "there is no such address"
        if device.limits.forbids_reading(point.table, first, first + point.size - 1):
            return None, "never_read covers it"
        outcome = await self._named(place.line.name).ask(device.unit_id, Read(point.table, first, point.size), device.timeout_s, device)
        content = outcome.content
        return (content.data, "") if isinstance(content, ReadAnswer) else (None, outcome.reason)

    @asynccontextmanager
    async def borrowed(self, port: str) -> AsyncIterator[None]:
        """The lines on that serial port are closed meanwhile: a port has one master. Those that were open go on afterwards."""
        taken = [
            poller.line.name for poller in self.pollers
            if isinstance(poller.line.link, SerialLink) and poller.line.link.port == port and not poller.is_off
        ]  # fmt: skip
        for name in taken:
            self.switch_line(name, False)
        try:
            if taken:  # an answer under way would be taken for somebody else's
                character_s = max(self._named(name).exchanger.channel.character_s for name in taken)
                await asyncio.sleep(_LAST_ANSWER_S + _LONGEST_FRAME * character_s)
            yield
        finally:
            for poller in self.pollers:
                if poller.line.name in taken:
                    poller.switch(True)

    def take_over(self, site: Site) -> None:
        """Go on with an edited site. Lines whose link is the same keep their connection and what is known of their devices; blocks that
        read the same keep their records."""
        old_plan, old_board = self.plan, self.board
        kept = {device.name for _, device in site.devices()} & set(self.lessons)
        same = {device.name: device for _, device in self.site.devices()}
        self.lessons = {
            device.name: self.lessons[device.name]
            for _, device in site.devices()
            if device.name in kept and device.limits == same[device.name].limits and device.points == same[device.name].points
        }
        self.site = site
        self.plan = plan_site(site, self.lessons)
        self.board = Board(self.plan)
        self.board.carry_over(self.plan, old_plan, old_board)
        self._note_plan()
        self.version += 1
        self._blocks_by_line = self.plan.blocks_by_line()
        running = {poller.line.name: poller for poller in self.pollers}
        self.pollers = []
        for line in site.lines:
            poller = running.get(line.name)
            if poller is not None and _same_connection(poller.line, line):
                del running[line.name]
                poller.adopt(line, self._blocks_by_line.get(line.name, []), self.board)
                self.pollers.append(poller)
        for poller in running.values():
            self._stop(poller)
        by_name = {poller.line.name: poller for poller in self.pollers}
        self.pollers = [by_name.get(line.name) or self._begin(line) for line in site.lines]
        self.events.note(EventKind.SITE, "", "", f"{site.name} was edited and taken over")

    def _stop(self, poller: LinePoller) -> None:
        task = self._tasks.pop(poller.line.name, None)
        if task is not None:
            task.cancel()

    def _begin(self, line: Line) -> LinePoller:
        poller = self._poller(line)
        poller.is_held = self.is_held
        if self._over is not None:
            self._start(poller)
        return poller

    # What to say of it

    def status(self, now_s: float) -> tuple[LineStatus, ...]:
        """Every line as it stands at loop time `now_s`."""
        return tuple(_line_status(poller, now_s) for poller in self.pollers)

    def learned(self) -> dict[str, dict[str, object]]:
        """What was learned, as keys of the site file by device name: limits, and addresses that a device does not give."""
        changes: dict[str, dict[str, object]] = {}
        for _, device in self.site.devices():
            lessons = self.lessons.get(device.name)
            if lessons is None:
                continue
            found: dict[str, object] = {}
            for key, tables in (("max_registers", (Table.HOLDING, Table.INPUT)), ("max_bits", (Table.COIL, Table.DISCRETE))):
                limits = [most for table in tables if (most := lessons.learned_most(table)) is not None]
                if limits:
                    found[key] = min(limits)
            ranges = [_range_text(device, point) for point in device.points if point.name in lessons.holes]
            if ranges:
                found["never_read"] = ranges
            if found:
                changes[device.name] = found
        return changes

    def lateness(self) -> list[Lateness]:
        """Blocks that are not read as often as asked, by more than a tenth."""
        late = []
        for poller in self.pollers:
            for state in poller.states.values():
                for job in state.jobs:
                    period_s, reached_s = job.block.period_s, self.board.cycles_s[job.block.index]
                    if job.overruns and period_s > 0 and reached_s > 1.1 * period_s:
                        late.append(Lateness(job.block, period_s, reached_s, job.overruns))
        return late


def _range_text(device: Device, point: Point) -> str:
    """A point's addresses as `never_read` has them, counted as the device's map counts."""
    first, last = (from_wire(address, point.table, device.numbering) for address in (point.address, point.end - 1))
    return f"{point.table.value} {first}" + (f"-{last}" if first != last else "")


def _same_connection(one: Line, other: Line) -> bool:
    return (one.link, one.gap_s, one.in_flight, one.connects_per_request) == (
        other.link, other.gap_s, other.in_flight, other.connects_per_request,
    )  # fmt: skip


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
        poller.exchanger.traffic.strays.late,
        poller.exchanger.has_found_echo,
        tuple(_device_status(poller, state, now_s) for state in list(poller.states.values())),
    )


def _device_status(poller: LinePoller, state: DeviceState, now_s: float) -> DeviceStatus:
    return DeviceStatus(
        state.device,
        state.counts.tally(),
        now_s - state.silent_since_s if state.silent_since_s is not None else None,
        max(state.next_try_s - now_s, 0.0),
        poller.schedule.notice_within_s(state) if state.is_silent else 0.0,
        state.reason,
        state.last_answer_s is not None,
        state.is_slow,
    )
