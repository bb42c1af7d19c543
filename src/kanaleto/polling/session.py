"""Polling of a whole site inside a running loop: the plan, the board, a poller a line, exchanges and events, and what
to say of them."""

import asyncio
from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, suppress

from kanaleto.analysis.limits import LimitWatch
from kanaleto.board.board import Board, Record
from kanaleto.board.derived import EVERY_S
from kanaleto.board.health import MinuteLevel
from kanaleto.board.listener import EXCHANGES_KEPT, Exchange, Sink
from kanaleto.board.snapshot import LineStatus, Snapshot
from kanaleto.board.world import Planned, World
from kanaleto.events.clock import Clock
from kanaleto.events.log import Ended, EventKind, EventLog
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.planning.blocks import PlanDiff
from kanaleto.planning.plan import Block, DevicePlan, Plan
from kanaleto.polling.connection import OURS, same_connection
from kanaleto.polling.lending import AskThere, Lending
from kanaleto.polling.line import LinePoller
from kanaleto.polling.statuses import Lateness, Statuses, lateness, line_status
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device, Line, Site
from kanaleto.supervision.owned import After, Failure, Owned, follow, leave, loop_handler
from kanaleto.wire.pdu import Request

LOOK_S = 1.0
_ANEW_S, _MOST_FAILURES, _WITHIN_S = 1.0, 5, 60.0  # a line that fails begins again, so often at most
MOST_CONNECTING = 50  # lines that connect at once: many at a time overrun the queue of those who accept

MakeExchanger = Callable[[Line], Exchanger]


class Session:
    """Polls `site`. `snapshot` may be read from any thread, and so may the rings `exchanges` and `events` and the
    counter `count`; everything else is for the loop's thread."""

    def __init__(self, site: Site, make_exchanger: MakeExchanger | None = None, clock: Clock | None = None) -> None:
        self.world = World(site, self._tell_learned)
        self.exchanges: deque[Exchange] = deque(maxlen=EXCHANGES_KEPT)
        self.clock = clock or Clock()
        self.events = EventLog(self.clock.now)
        self.limits = LimitWatch(self.events)
        self._sinks_owned: dict[Sink, Owned] = {}
        self._have_sinks([self.limits])
        self.count = 0
        self._number = 0  # of rows: exchanges, and what came without having been asked for
        self.is_held = False
        self._lines_off: set[str] = set()
        self.lending = Lending(lambda line: self._poller(line, []), self._switch_lines)
        self._make = make_exchanger or (
            lambda line: exchanger_for(line.link, line.connect_timeout_s, line.gap_s, preferred=line.prefer_port)
        )
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._over: asyncio.Future[None] | None = None
        self._derive_timer: asyncio.TimerHandle | None = None
        self._look_timer: asyncio.TimerHandle | None = None
        self._look_due_s = 0.0
        self._lateness: deque[float] = deque(maxlen=600)
        self._connecting = asyncio.Semaphore(MOST_CONNECTING)
        by_line = self.plan.parts_by_line()
        self.pollers = [self._poller(line, by_line.get(line.name, [])) for line in site.lines]
        self._statuses = Statuses()
        self.snapshot = self._taken(0.0)

    @property
    def site(self) -> Site:
        return self.world.site

    @property
    def plan(self) -> Plan:
        return self.world.plan

    @property
    def board(self) -> Board:
        return self.world.board

    def _poller(self, line: Line, parts: list[DevicePlan]) -> LinePoller:
        return LinePoller(line, parts, self.board, self._make(line), self.clock, self, self._connecting)

    # What pollers tell

    def on_exchange(self, line: Line, device: Device | None, request: Request, outcome: Outcome, attempt: int) -> None:
        self.count += 1
        self._number += 1
        exchange = Exchange(self._number, self.clock.at(outcome.asked_at), line, device, request, outcome, attempt)
        self.exchanges.append(exchange)
        for sink in self._of_exchanges:
            try:
                sink.on_exchange(exchange)
            except Exception as error:  # it is the sink's failure, and no line's; as below
                self._failed(sink, error)

    def on_stray(self, line: Line, device: Device | None, outcome: Outcome) -> None:
        self._number += 1
        exchange = Exchange(self._number, self.clock.at(outcome.asked_at), line, device, None, outcome, 0)
        self.exchanges.append(exchange)
        for sink, owned in self._hearing(self.sinks):
            with owned:
                sink.on_stray(exchange)

    def overhear(self, line: Line, device: Device | None, request: Request | None, outcome: Outcome) -> None:
        """What another master asked on a line that is listened to; nothing of it was sent by this program."""
        self._number += 1
        exchange = Exchange(self._number, self.clock.at(outcome.asked_at), line, device, request, outcome, 0)
        self.exchanges.append(exchange)
        for sink, owned in self._hearing(self._of_exchanges):
            with owned:
                sink.on_exchange(exchange)

    def under_way_since_s(self) -> float:
        """When the oldest request that has no outcome yet was asked, by wall time; 0 where there is none. For any
        thread."""
        asked = [poller.exchanger.under_way_since_s for poller in list(self.pollers)]
        oldest_s = min((one_s for one_s in asked if one_s), default=0.0)
        return self.clock.at(oldest_s) if oldest_s else 0.0

    def on_record(self, block: Block, record: Record) -> None:
        for sink in self._of_records:
            try:
                sink.on_record(block, record, self.board)
            except Exception as error:
                self._failed(sink, error)

    def on_unreachable(self, line: Line, why: str) -> None:
        if why not in OURS:
            now_s, kind = asyncio.get_running_loop().time(), OutcomeKind.UNREACHABLE
            self.on_stray(line, None, Outcome(kind, 0, b"", b"", None, now_s, now_s, 0.0, now_s, why))
        for sink, owned in self._hearing(self.sinks):
            with owned:
                sink.on_unreachable(line, why)

    def on_event(
        self, kind: EventKind, line: str, device: str, text: str, going_on: object = None, is_spell: bool = False,
        at_s: float | None = None, data: dict[str, object] | None = None,
    ) -> None:  # fmt: skip
        wall_s = self.clock.at(at_s) if at_s is not None else None
        self.events.note(kind, line, device, text, going_on, is_spell, data=data, wall_s=wall_s)

    def change_event(self, line: str, device: str, going_on: object, text: str) -> None:
        self.events.change(line, device, going_on, text)

    def widen_event(
        self, line: str, device: str, going_on: object, widened: object, text: str, data: dict[str, object],
        at_s: float,
    ) -> None:  # fmt: skip
        self.events.widen(line, device, going_on, widened, text, data, self.clock.at(at_s))

    def on_renamed(self, line: str, old: str, new: str) -> None:
        self.events.rename(line, old, new)
        self.limits.rename(line, old, new)

    def end_event(self, line: str, device: str, going_on: object, more: str = "", is_since_last: bool = False) -> None:
        self.events.end(line, device, going_on, more=more, is_since_last=is_since_last)

    def on_read(self, block: Block) -> None:
        self._poll_as(self.world.note_read(block, asyncio.get_running_loop().time()))

    def on_refused(self, block: Block, why: str) -> None:
        self._poll_as(self.world.note_refused(block, why, asyncio.get_running_loop().time()))

    def _tell_learned(self, line: str, device: str, text: str, goes_on: bool) -> None:
        self.on_event(EventKind.LEARNED, line, device, text, text if goes_on else None)

    def _poll_as(self, part: DevicePlan | None) -> None:
        """A device is planned again: its line goes on with that."""
        if part is not None:
            self._tell_plan()
        for poller in self.pollers if part is not None else ():
            if part is not None and poller.line.name == part.line.name:
                poller.replan(part)

    @property
    def late_s(self) -> float:
        """How late the loop was in the last ten minutes, at 99 %."""
        late = sorted(self._lateness)
        return late[len(late) * 99 // 100] if late else 0.0

    # Running

    async def run(self) -> None:
        """Poll until cancelled."""
        loop = self._loop = asyncio.get_running_loop()
        loop.set_exception_handler(loop_handler)
        follow(self._hear_failure)
        self._over = loop.create_future()
        self.clock.anchor(loop.time)
        self._tell_plan()
        self._deriving, self._looking = Owned("derived points"), Owned("clock and events")
        self._derive(loop)
        self._look_around(loop)
        for poller in self.pollers:
            self._start(poller)
        try:
            await self._over
        finally:
            for timer in (self._derive_timer, self._look_timer):
                if timer is not None:
                    timer.cancel()
            tasks, self._tasks = [*self._tasks.values(), *self.lending.end_all()], {}
            for task in tasks:
                task.cancel()
            for poller in self.pollers:
                poller.end("polling has ended")
            await asyncio.gather(*tasks, return_exceptions=True)
            leave(self._hear_failure)
            for owned in (self._deriving, self._looking, *self._sinks_owned.values()):
                owned.finish()

    def _hear_failure(self, failure: Failure) -> None:
        """On whatever thread it happened."""
        with suppress(RuntimeError):  # the loop is over
            self._loop.call_soon_threadsafe(self._note_failure, failure.text)

    def _note_failure(self, text: str) -> None:
        self.events.note(EventKind.FAULT, "", "", text)

    def _derive(self, loop: asyncio.AbstractEventLoop) -> None:
        """Evaluate the formulas, and again in a while."""
        if self._over is None or self._over.done():
            return
        with self._deriving:
            self.world.derive(loop.time())
            self.limits.on_derived(self.world, loop.time())
        self._derive_timer = loop.call_later(EVERY_S, self._derive, loop)

    def _look_around(self, loop: asyncio.AbstractEventLoop) -> None:
        """Every second: at the clock, and at what has not come again."""
        if self._over is None or self._over.done():
            return
        with self._looking:
            text = self.clock.look()
            if text:
                self.events.note(EventKind.CLOCK, "", "", text)
            self.events.sweep()
        now_s = loop.time()
        self._look_timer = loop.call_later(LOOK_S, self._look_around, loop)
        if self._look_due_s:
            self._lateness.append(max(now_s - self._look_due_s, 0.0))
        self._look_due_s = now_s + LOOK_S
        for sink, owned in self._hearing(self.sinks):
            with owned:
                sink.on_second(self.world, now_s, self.clock.at(now_s))

    def _tell_plan(self) -> None:
        for sink, owned in self._hearing(self.sinks if self._over is not None else ()):
            with owned:
                sink.on_plan(self.world)

    def listen(self, sink: Sink) -> None:
        """Have it hear of all that is polled, from now on."""
        self._have_sinks([*self.sinks, sink])
        for new, owned in self._hearing([sink] if self._over is not None else ()):
            with owned:
                new.on_plan(self.world)

    def leave(self, sink: Sink) -> None:
        """It hears nothing more."""
        self._have_sinks([other for other in self.sinks if other is not sink])

    def _hearing(self, sinks: Sequence[Sink]) -> Iterator[tuple[Sink, Owned]]:
        """One after the other, but for those that have left meanwhile: what one hears may end another."""
        for sink in sinks:
            owned = self._sinks_owned.get(sink)
            if owned is not None:
                yield sink, owned

    def _failed(self, sink: Sink, error: Exception) -> None:
        for _, owned in self._hearing([sink]):
            owned.fail(error)

    def _have_sinks(self, sinks: list[Sink]) -> None:
        """Who hears nothing of what happens thousands of times a second is not called for it."""
        before, owned = self._sinks_owned, dict[Sink, Owned]()
        for sink in sinks:
            known = before.pop(sink) if sink in before else Owned(f"sink {type(sink).__name__}")
            owned[sink] = known
        for gone in before.values():
            gone.finish()
        self._sinks_owned = owned
        self.sinks = sinks
        self._of_exchanges = [sink for sink in sinks if type(sink).on_exchange is not Sink.on_exchange]
        self._of_records = [sink for sink in sinks if type(sink).on_record is not Sink.on_record]

    def _start(self, poller: LinePoller) -> None:
        task = asyncio.get_running_loop().create_task(self._polled_on(poller), name=poller.line.name)
        self._tasks[poller.line.name] = task

    async def _polled_on(self, poller: LinePoller) -> None:
        """A poller never ends by itself: an error in one is an internal error. Its line begins again, as if it had just
        been opened; where that does not help all ends in order."""
        owned = Owned(f"line {poller.line.name}", After.BEGINS_AGAIN)
        poller.turn = owned
        failed_s: deque[float] = deque(maxlen=_MOST_FAILURES)
        try:
            while True:
                with owned:
                    await poller.run()
                now_s = self._loop.time()
                failed_s.append(now_s)
                if len(failed_s) == _MOST_FAILURES and now_s - failed_s[0] < _WITHIN_S:
                    self._end_all(owned.error or RuntimeError(f"line {poller.line.name} ended unasked"))
                    return
                poller.begin_again()
                await asyncio.sleep(_ANEW_S)
        except Exception as error:  # what cannot begin again ends all: no line stands still unseen
            self._end_all(error)
        finally:
            owned.finish()

    def _end_all(self, error: BaseException) -> None:
        if self._over is not None and not self._over.done():
            self._over.set_exception(error)

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
        self.named(line_name).reconnect()

    def ask_device(self, name: str) -> None:
        """Ask a device now, whatever its back-off. Raises KeyError."""
        for poller in self.pollers:
            if name in poller.states:
                self._poll_as(self.world.try_holes_again(name))
                poller.ask_device(name)
                return
        raise KeyError(f"there is no device {name!r} any more")

    def switch_line(self, line_name: str, is_on: bool) -> None:
        """Close a line, or open it; it stays so through edits. Raises KeyError."""
        self.named(line_name)
        self._lines_off = self._lines_off - {line_name} if is_on else self._lines_off | {line_name}
        self._switch_lines()

    def _switch_lines(self) -> None:
        for poller in self.pollers:
            poller.lent_to = self.lending.lent_to(poller.line.link)
            is_off = poller.line.name in self._lines_off or bool(poller.lent_to)
            if poller.is_off != is_off:
                poller.switch(not is_off)

    def switch_points(self, device_name: str, is_on: bool, point_names: set[str] | None = None) -> None:
        """Poll points of a device, or leave them out; all of them when none are named. They stay so through edits.
        Raises KeyError."""
        self._poll_as(self.world.switch_points(device_name, is_on, point_names))

    def shorten_reads(self, line_name: str, most: int | None) -> None:
        """Ask so few registers in one request on a line, for now; None for as many as its devices bear. Raises
        KeyError."""
        for device in self.named(line_name).line.devices:
            self._poll_as(self.world.shorten_reads(device.name, most))

    def reset_counts(self) -> None:
        """Count outcomes from nought, on every device."""
        for poller in self.pollers:
            poller.outcomes += 1  # what was reported of it is not what is so
            for state in poller.states.values():
                state.counts.reset()

    def at_risk(self) -> list[Device]:
        """Devices that do something of their own when nobody asks them for a while (`watchdog_s`), and that are asked
        now."""
        return [
            state.device
            for poller in self.pollers
            if poller.exchanger.is_open
            for state in poller.states.values()
            if state.device.watchdog_s is not None and not state.is_silent and state.last_answer_s is not None
        ]

    def named(self, line_name: str) -> LinePoller:
        """A line's poller. Raises KeyError."""
        for poller in self.pollers:  # which is asked for each request that is passed on
            if poller.line.name == line_name:
                return poller
        for poller in self.lending.guests:
            if poller.line.name == line_name:
                return poller
        raise KeyError(f"there is no line {line_name!r} any more")

    def asks_on(self, link: Link) -> AskThere | None:
        """Where a line leads to the same place with the same settings: asks there, between what is polled."""
        return self.lending.asks_on(link, self.pollers)

    def borrowed(self, link: Link, to: str) -> AbstractAsyncContextManager[None]:
        """The lines on that serial port are closed meanwhile; `to` says what has it."""
        return self.lending.borrowed(link, self.pollers, to)

    def host(self, link: Link) -> Line:
        """A line that leads there, of the site or a guest. Raises ValueError."""
        return self.lending.host(link, self.pollers)

    # Another site, or the same edited

    def planning(self, site: Site) -> Callable[[], Planned]:
        """What makes a plan for `site` of all that is known now; in any thread, beside the loop."""
        return self.world.planning(site)

    def take_over(self, site: Site, planned: Planned | None = None, what: str = "") -> None:
        """Go on with another site, or an edited one (`what` was done to it). Lines whose link is the same keep their
        connection and what is known of their devices. With `planned` only what was learned since is planned here."""
        is_edited = site.path == self.site.path
        stale = self.world.take_over(site, planned)
        self._lines_off &= {line.name for line in site.lines}
        self._take_over_lines(site, planned.differs if planned is not None else {})
        here = {(line.name, device.name) for line, device in site.devices()} | {(line.name, "") for line in site.lines}
        self.events.end_all(Ended.NO_MORE, lambda line, device: not line or (line, device) in here)
        for name in stale:
            self._poll_as(self.world.replan(name))
        self._tell_plan()
        if is_edited:
            self.events.note(EventKind.EDIT, "", "", what or f"{site.name} was edited and taken over")
        else:
            self.events.note(EventKind.SITE, "", "", f"{site.name} is open")
        if self._over is not None:
            self.publish()

    def _take_over_lines(self, site: Site, differs: Mapping[str, PlanDiff]) -> None:
        self.lending.give_way(site)
        by_line = self.plan.parts_by_line()
        running = {poller.line.name: poller for poller in self.pollers}
        pollers = {}
        for line in site.lines:
            poller = running.get(line.name)
            if poller is not None and same_connection(poller.line, line):
                del running[line.name]
                poller.adopt(line, by_line.get(line.name, []), self.board, differs)
                pollers[line.name] = poller
        for poller in running.values():
            self._stop(poller)
            self._forget_answers(poller.line, site, by_line)
        self.pollers = [pollers.get(line.name) or self._begin(line, by_line.get(line.name, [])) for line in site.lines]

    def _forget_answers(self, before: Line, site: Site, by_line: Mapping[str, list[DevicePlan]]) -> None:
        """Other devices answer there from now on, real ones or those that stand in: what the others said is theirs."""
        now = next((line for line in site.lines if line.name == before.name), None)
        if now is None or now.led_from == before.led_from:
            return
        for part in by_line.get(now.name, []):
            for block in part.blocks:
                self.board.forget(block)

    def _stop(self, poller: LinePoller) -> None:
        task = self._tasks.pop(poller.line.name, None)
        poller.end(f"line {poller.line.name!r} is no more, or leads elsewhere now")
        if task is not None:
            task.cancel()

    def _begin(self, line: Line, parts: list[DevicePlan]) -> LinePoller:
        poller = self._poller(line, parts)
        poller.is_held = self.is_held
        poller.lent_to = self.lending.lent_to(line.link)
        poller.is_off = line.name in self._lines_off or bool(poller.lent_to)
        if self._over is not None:
            self._start(poller)
        return poller

    # What to say of it

    def publish(self) -> None:
        """Let others see how everything stands now."""
        self.snapshot = self._taken(asyncio.get_running_loop().time())

    def _taken(self, now_s: float) -> Snapshot:
        return Snapshot(
            site=self.site,
            plan=self.plan,
            board=self.board.frozen(),
            lines=self._statuses.of(self.pollers, now_s, self.plan),
            version=self.world.version,
            now_s=now_s,
            is_held=self.is_held,
            exchanges=self.count,
            at_risk=tuple(self.at_risk()),
            past=self.limits.past,
            over=self.limits.over,
        )

    def status(self, now_s: float) -> tuple[LineStatus, ...]:
        """Every line as it stands at loop time `now_s`."""
        return tuple(line_status(poller, now_s, self.plan) for poller in self.pollers)

    def minutes_of(self, line_name: str) -> dict[int, MinuteLevel]:
        """The last day of a line, by minute of wall time. For any thread."""
        poller = next((poller for poller in self.pollers if poller.line.name == line_name), None)
        if poller is None:
            return {}
        return {int(self.clock.at(60.0 * number) // 60): level for number, level in poller.water.minutes()}

    def learned(self) -> dict[str, dict[str, object]]:
        """What was learned, as keys of the site file by device name: limits, and addresses that a device does not
        give."""
        return self.world.learned()

    def lateness(self) -> list[Lateness]:
        """Blocks that are not read as often as asked, by more than a tenth."""
        return lateness(self.pollers, self.board)
