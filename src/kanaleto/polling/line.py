"""Polls one line: connects, asks what is due, and comes back from everything by itself. What is due when stands in
`schedule`.

While the line cannot be reached every block of it is in trouble, and connecting is tried again and again, with growing
pauses. A network connection on which nothing has answered for long is closed and made again: the far end may have
forgotten it.
"""

import asyncio
from collections.abc import Iterable, Mapping

from kanaleto.board.board import Board, Trouble
from kanaleto.board.health import Water
from kanaleto.board.listener import Listener
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.exchange import QUARANTINE_S, Exchanger
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.lines.portcounters import PortCounters
from kanaleto.planning.basis import basis_of
from kanaleto.planning.blocks import PlanDiff
from kanaleto.planning.plan import DevicePlan
from kanaleto.polling.chain import SETTLED, Chain
from kanaleto.polling.connection import OFF, RECONNECTING, Connection
from kanaleto.polling.judgement import Judgement
from kanaleto.polling.oneoff import May, OneOff, Requests, Then
from kanaleto.polling.outages import Outages
from kanaleto.polling.schedule import LONGEST_BACK_OFF_S, DeviceState, Job, Schedule
from kanaleto.site.model import Device, Line
from kanaleto.supervision.owned import Owned
from kanaleto.wire.codes import WRITING
from kanaleto.wire.frames import unit_of
from kanaleto.wire.pdu import Request

_NETWORK_PAUSE_S = 5.0
_PORT_EACH_S = 1.0
_INSTANT_S = 0.005
_MAY_BE_COUNTED = (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED, OutcomeKind.TIMEOUT)


def _wake(sleeper: asyncio.Future[None]) -> None:
    if not sleeper.done():
        sleeper.set_result(None)


class LinePoller:
    """See the head of this file. All methods but the constructor are for the loop's thread; plain attributes may be
    read by anybody."""

    def __init__(
        self,
        line: Line,
        parts: Iterable[DevicePlan],
        board: Board,
        exchanger: Exchanger,
        clock: Clock,
        listener: Listener,
        connecting: asyncio.Semaphore,
    ) -> None:
        self.line = line
        self.exchanger = exchanger
        self.states: dict[str, DeviceState] = {}
        self.outages = Outages(line.name, listener, self._polled, self._watchdog_of)
        self.connection = Connection(line, exchanger, listener, connecting, self.outages)
        self.water = Water()
        self.schedule = Schedule(self._is_wanted)
        self.is_held = False
        self.is_off = False
        self.is_opening = False
        self.lent_to = ""  # what of ours has its port now
        self.turn: Owned | None = None
        self.outcomes = 0
        self.port: PortCounters | None = None
        """What its port has counted since the start."""
        self._port_before = PortCounters()
        self._port_due_s = 0.0
        self._resting: frozenset[object] = frozenset()
        self._reported_late = 0
        self._listener = listener
        self._requests = Requests()
        self._judgement = Judgement(
            line, board, self.schedule, self.connection, listener, self._now, clock, self.outages
        )
        self._sleeping: set[asyncio.Future[None]] = set()
        exchanger.on_stray = self._note_stray
        self._set_parts(parts, 0.0, {})

    def _set_parts(self, parts: Iterable[DevicePlan], now: float, differs: Mapping[str, PlanDiff]) -> None:
        by_device = {part.device.name: part for part in parts}
        for device in self.line.devices:
            state = self.states.get(device.name)
            # another unit is another device, whatever its name
            if state is None or state.device.unit_id != device.unit_id:
                if state is not None:
                    self.schedule.forget(device.name)
                    self.outages.forget(device.name)
                state = self.states[device.name] = DeviceState(device)
            state.device = device
            part = by_device.get(device.name) or DevicePlan(device, basis_of(self.line, device), (), {})
            state.probe_cost_s = (
                device.timeout_s
                + part.longest_cost_s
                + (0 if self.exchanger.framing.has_transactions else QUARANTINE_S)
            )
            self.schedule.set_jobs(state, part, now, differs.get(device.name))

    def _watchdog_of(self, name: str) -> float | None:
        state = self.states.get(name)
        return state.device.watchdog_s if state is not None else None

    @property
    def _longest_pause_s(self) -> float:
        """How long the pause between two connects may grow: a network line that is polled is soon back."""
        line = self.line
        is_network = line.link.local_port is None
        is_quick = line.reconnect_s is None and is_network and any(True for _ in self._polled())
        return _NETWORK_PAUSE_S if is_quick else LONGEST_BACK_OFF_S

    def _now(self) -> float:
        return self._loop.time()

    def _polled(self) -> Iterable[str]:
        """Devices that are asked by themselves."""
        return (name for name, state in self.states.items() if state.is_polled)

    @property
    def overruns(self) -> int:
        return sum(state.overruns for state in self.states.values())

    # From outside, in the loop's thread

    def adopt(self, line: Line, parts: Iterable[DevicePlan], board: Board, differs: Mapping[str, PlanDiff]) -> None:
        """Go on with another plan, and maybe other devices, on the same connection. `differs` says what does, of
        devices of which it is known."""
        names = {device.name for device in line.devices}
        renamed = {state.device.unit_id: name for name, state in self.states.items() if name not in names}
        for device in line.devices:
            if device.name not in self.states and device.unit_id in renamed:
                self._rename(renamed.pop(device.unit_id), device.name)
        for name in [name for name in self.states if name not in names]:
            self.schedule.forget(name)
            self.outages.forget(name)
            del self.states[name]
        self.line = self.connection.line = self._judgement.line = line
        self._judgement.board = board
        self._set_parts(parts, asyncio.get_running_loop().time(), differs)
        self._ring()

    def _rename(self, old: str, new: str) -> None:
        """The same unit under another name."""
        self.states[new] = self.states.pop(old)
        self._listener.on_renamed(self.line.name, old, new)
        self.schedule.rename(old, new)
        self.outages.rename(old, new)

    def replan(self, part: DevicePlan) -> None:
        """Other blocks for one device."""
        self.schedule.set_jobs(self.states[part.device.name], part, asyncio.get_running_loop().time())
        self._ring()

    def rest_silent(self, owner: object, rests: bool) -> None:
        """Leave silent devices out, as long as any owner wants that."""
        self._resting = self._resting | {owner} if rests else self._resting - {owner}
        self.schedule.rests_silent = bool(self._resting)

    def hold(self, is_held: bool) -> None:
        """Stop asking, or go on; one-off requests still go out."""
        self.is_held = is_held
        self._ring()

    def switch(self, is_on: bool) -> None:
        """Close the line, or open it again."""
        self.is_off = not is_on
        if self.is_off:
            self.exchanger.close(OFF)
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

    def connect_soon(self) -> None:
        """Something waits for this line that may not wait for the pause between two connects."""
        if not self.exchanger.is_open and not self.is_off:
            self.connection.next_connect_s = 0.0
            self._ring()

    def drop_unanswered(self, why: str) -> None:
        """What was sent and not answered must not arrive later: a stream connection that may still hold it is closed,
        with all that waits in it."""
        if self.exchanger.is_open and self.exchanger.may_hold_bytes:
            self.exchanger.close(why)
            self._ring()

    def reconnect(self) -> None:
        """Connect now, whatever the pause; an open connection is closed and made again."""
        self.exchanger.close(RECONNECTING)
        self.connection.next_connect_s = 0.0
        self._ring()

    def ask(
        self, unit_id: int, request: Request, timeout_s: float, device: Device | None = None, is_urgent: bool = False,
        then: Then | None = None,
    ) -> asyncio.Future[Outcome]:  # fmt: skip
        """A one-off request, before anything that is due. It has its outcome in any case, also when the line is dropped
        or edited meanwhile. Raises OverflowError when too many wait already."""
        one = self._requests.add(unit_id, request, timeout_s, device, None, is_urgent, then)
        self._ring()
        return one.future

    def order(
        self, unit_id: int, request: Request, timeout_s: float, device: Device | None, may: May,
        is_urgent: bool = False, then: Then | None = None,
    ) -> asyncio.Future[Outcome]:  # fmt: skip
        """The same for what writes, which `may` answers for in the instant of sending. Urgent ones do not wait for what
        is due. Where nothing was sent the outcome has no request."""
        one = self._requests.add(unit_id, request, timeout_s, device, may, is_urgent, then)
        self._ring()
        return one.future

    def begin_again(self) -> None:
        """After an internal error: nothing is under way, all that is polled is due by itself again."""
        now = asyncio.get_running_loop().time()  # it may have failed before it ran
        for state in self.states.values():
            for job in state.jobs:
                job.is_running = False
                self.schedule.push(job, now)
        self._requests.refuse_all("the line has failed, and begins again", now)

    def end(self, why: str) -> None:
        """This poller is done with, whether it ever ran or not: what waits for it, and what is asked of it from now on,
        ends as unreachable. The task that runs it is cancelled by whoever started it."""
        self._requests.end(why)

    def _ring(self) -> None:
        for sleeper in self._sleeping:
            _wake(sleeper)

    # The life of a line

    async def run(self) -> None:
        """Poll until cancelled."""
        self._loop = asyncio.get_running_loop()
        pause_s = self.line.first_pause_s
        try:
            while True:
                while self.is_off:
                    self.exchanger.close(OFF)  # it may have been switched off while it was being opened
                    self._note_down(OFF, 0.0)
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
                pause_s = self.line.first_pause_s if has_lasted else pause_s
                self._note_down(why, pause_s)
                if not self.is_off:
                    await self._sleep_until(self.connection.next_connect_s)
                pause_s = min(2 * pause_s, self._longest_pause_s)
        finally:
            self.exchanger.close("polling stopped")

    async def _open(self) -> None:
        self.is_opening = True
        try:
            await self.connection.open()
        finally:
            self.is_opening = False
        now = self._loop.time()
        for state in self.states.values():
            state.next_try_s = now + state.device.pause_after_connect_s

    def _note_down(self, why: str, pause_s: float) -> None:
        now, trouble, fail = self._loop.time(), Trouble(why, is_refusal=False), self._judgement.board.fail
        for state in self.states.values():
            for job in state.jobs:
                fail(job.block.index, trouble)
        self.connection.note_down(why, now + pause_s)
        self._requests.refuse_all(why, now)

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
        connection, loop, schedule = self.connection, self._loop, self.schedule
        has_asked_last = False
        while connection.can_ask and not self.is_off:
            if self.turn is not None:
                self.turn.check()
            if self._requests and (not has_asked_last or self._requests.is_urgent):
                has_asked_last = True
                await self._serve(self._requests.take())
                continue
            has_asked_last = False  # what is due comes between two one-off requests
            now = loop.time()
            job = schedule.take_once() or (None if self.is_held else schedule.take_due(now))
            if job is not None:
                await self._poll(job)
            elif not self._requests:
                await self._sleep_until(None if self.is_held else schedule.next_due(now))

    def _is_wanted(self, job: Job) -> bool:
        """Whether the device's `enabled_by` point is on; the block that holds it is always wanted."""
        enabling = job.state.enabling
        if enabling is None or enabling[0] is job.block:
            return True
        record = self._judgement.board.records[enabling[0].index]
        return record is not None and bool(record.values[enabling[1]])

    async def _serve(self, one: OneOff) -> None:
        if one.may is not None and (wait_s := self.exchanger.free_in_s) > _INSTANT_S:
            try:  # it is asked in the instant in which the line is free
                await asyncio.sleep(wait_s)
            except asyncio.CancelledError:
                one.refuse(self._requests.ended_because or "polling has ended", self._loop.time())
                raise
        why_not = one.may() if one.may is not None else ""
        if why_not:
            one.refuse(why_not, self._loop.time())
            return
        pause_s = one.device.pause_after_connect_s if one.device is not None else 0.0
        one.was_sent = True  # from here on that is to be assumed, unless it is known better
        try:
            outcome = await self.connection.ask(one.unit_id, one.request, one.timeout_s, pause_s)
        except Unreachable as error:
            one.was_sent = False
            one.refuse(str(error), self._loop.time())
            raise
        except ValueError as error:  # what cannot be asked at all is its asker's fault, and ends no line
            one.fail(error)
            return
        except asyncio.CancelledError:
            one.refuse(self._requests.ended_because or "polling has ended", self._loop.time())
            raise
        try:
            self.count(one.device, one.request, outcome, 0, is_polled=False)
            self._pause_after_write(one)
        finally:
            one.end(outcome)

    def _pause_after_write(self, one: OneOff) -> None:
        """Some devices need a while after a write before they answer again."""
        if one.device is not None and one.device.pause_after_write_s and one.request.function in WRITING:
            state = self.states.get(one.device.name)
            if state is not None:
                state.next_try_s = max(state.next_try_s, self._loop.time() + one.device.pause_after_write_s)

    # One block

    async def _poll(self, job: Job) -> None:
        """Poll a block, and then whatever else is due at once."""
        if self.line.connects_per_request:
            await self._poll_alone(job)
            return
        chain = Chain(self, self._judgement, self._loop.create_future())
        chain.begin(job, self._loop.time())
        await chain.ended
        while chain.is_paused:
            try:
                while self.has_urgent and self.connection.can_ask:
                    await self._serve(self._requests.take())
                chain.go_on(self._loop.create_future())
                await chain.ended
            except BaseException:
                job.is_running = False
                raise

    async def _poll_alone(self, job: Job) -> None:
        block, device = job.block, job.state.device
        start_s = self._loop.time()
        try:
            for attempt in range(self._judgement.begin(job, start_s)):
                outcome = await self.connection.ask(
                    device.unit_id, block.request, device.timeout_s, device.pause_after_connect_s, block.pdu
                )
                self.count(device, block.request, outcome, attempt)
                if outcome.kind in SETTLED:
                    break
            self._judgement.judge(job, outcome, start_s)
        finally:
            job.is_running = False

    @property
    def has_urgent(self) -> bool:
        return self._requests.is_urgent

    def next_at_once(self, now: float) -> Job | None:
        """What is due now, unless something else goes first."""
        if self._requests or self.is_held or self.is_off:
            return None
        return self.schedule.take_due(now)

    def count(
        self, device: Device | None, request: Request, outcome: Outcome, attempt: int, is_polled: bool = True
    ) -> None:
        """Every outcome goes through here, once; `is_polled` where the line asked it by itself."""
        self.outcomes += 1
        self.water.add(outcome.asked_at, outcome.done_at, outcome.kind)
        if outcome.content is not None:
            self.connection.note_answer()
        state = self.states.get(device.name) if device is not None else None
        if state is not None:
            state.counts.add(outcome)
            if outcome.is_answer:
                state.heard_s = outcome.done_at
                if not is_polled and self.outages.looks:
                    self.outages.answered(state.device.name, outcome.done_at, outcome.is_good, state.is_refused)
            elif is_polled:
                self.outages.tried(state.device.name, outcome.kind, outcome.sent_at)
        if outcome.kind in _MAY_BE_COUNTED:
            self._look_at_port()
        strays = self.exchanger.traffic.strays
        if strays.late != self._reported_late:
            self._reported_late = strays.late
            names = (
                name for name, device_state in self.states.items() if device_state.device.unit_id == strays.late_unit_id
            )
            late = "an answer came after its request had been given up, and was thrown away"
            self._note_spell(EventKind.LATE, next(names, ""), late)
        if strays.gateway_late_s:
            late = f"its gateway gave up {strays.gateway_late_s:.2f} s after the request: raise timeout_s above that"
            self._listener.on_event(EventKind.GATEWAY, self.line.name, "", late, going_on="gateway")
            strays.gateway_late_s = 0.0
        self._listener.on_exchange(self.line, device, request, outcome, attempt)

    def _look_at_port(self) -> None:
        """What its port counted by itself since it was looked at last."""
        now = self._loop.time()
        if now < self._port_due_s:
            return
        self._port_due_s = now + _PORT_EACH_S
        counted = self.exchanger.channel.counted()
        if counted is None:
            return
        before, self._port_before = self._port_before, counted
        grown = counted.since(before)
        if min(grown.framing, grown.parity, grown.overrun) < 0:  # it was opened again
            grown = counted
        self.port = grown if self.port is None else self.port.plus(grown)
        if grown:
            text = f"its port itself counts errors: {self.port} since the start"
            self._listener.on_event(EventKind.GARBLED, self.line.name, "", text, going_on="port", is_spell=True)
            self._listener.change_event(self.line.name, "", "port", text)

    def _note_stray(self, kind: OutcomeKind, raw: bytes, reason: str, at: float) -> None:
        """Bytes that came, and are nobody's answer."""
        unit_id = unit_of(self.exchanger.framing.name, raw)
        device = next((state.device for state in self.states.values() if state.device.unit_id == unit_id), None)
        stray = Outcome(kind, unit_id, b"", raw, None, at, at, at, at, reason)
        self._listener.on_stray(self.line, device, stray)

    def _note_spell(self, kind: EventKind, device: str, text: str) -> None:
        self._listener.on_event(kind, self.line.name, device, text, going_on=kind, is_spell=True)
