"""Ways back that are owed: of a pulse from the first byte of its "on", of a kept-alive write its safe value, until the
device has confirmed it or a person cancels it.

A way back goes out when it is due, before anything that is polled, whatever lock and journal say. Where no answer comes
it goes out again as soon as the device answers, but only within `OWED_S` from when it was due: another master may have
written there since, so later a person has to say so. After a silence, or where a word holds more than the pulse's own
bits, what stands there is read first; where that is neither side of the pulse a person is asked. The device is compared
again once its line was connected.

Whoever else writes the same bits settles it: they are somebody else's then.
"""

import asyncio
from collections.abc import Callable, Collection
from contextlib import suppress
from datetime import datetime
from enum import Enum

from msgspec import Struct

from kanaleto.control.ledger import CannotWriteDown, LedgerRow, Left
from kanaleto.control.order import Order, Result, State, may_read
from kanaleto.control.orders import OrderRefused, Orders
from kanaleto.control.outcomewords import hex_of, is_taken, under
from kanaleto.control.permission import permission_at
from kanaleto.control.wanted import WHOLE, CannotWrite
from kanaleto.events.log import EventKind, length_text
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.line import LinePoller
from kanaleto.polling.session import Session
from kanaleto.site.model import Device, DeviceLimits
from kanaleto.supervision.owned import Owned, fault_sentence
from kanaleto.wire.codes import ExceptionCode, Table

OWED_S = 60.0
_LEAD_S = 0.25  # before it is due: the row is written down, a word is read
_LOOK_S, _PROBE_S, _BUSY_S = 0.05, 1.0, 0.2
_WRITTEN_DOWN_S = 0.3


class OwedStage(Enum):
    """How far it is. The value is the word used on screens."""

    PULSING = "pulsing"  # it is not due yet
    OWED = "owed"  # it is due, and goes out as soon as the device answers
    ASKS = "asks"  # a person has to say so
    LEFT = "left standing"  # by a program that ended without it; a person has to say so


class OwedState(Struct, frozen=True, kw_only=True):
    """A way back at one moment. `what` it is of, in words; `why` it is not done yet."""

    number: int
    order: Order
    stage: OwedStage
    what: str
    why: str
    begun_wall_s: float
    due_wall_s: float
    tries: int


OnSettled = Callable[["WayBack", str], None]


class WayBack:
    """One of them. `order` is what goes out; `by_us` what stands there until then, under the order's mask. For the
    engine's loop; `state` may be read by anybody."""

    def __init__(
        self, number: int, order: Order, by_us: bytes | None, what: str, orders: Orders, session: Session,
        due_s: float, begun_s: float, stage: OwedStage = OwedStage.PULSING,
    ) -> None:  # fmt: skip
        self.number, self.order, self.what, self.begun_s = number, order, what, begun_s
        self.first: asyncio.Future[Result] = asyncio.get_running_loop().create_future()
        """What came of the first try that was due."""
        self.is_settled = False
        self.cause: Order | None = None
        """What it is the way back of."""
        self.is_dropped = self.has_nothing_to_send = False
        self.row: int | None = None
        """In the journal: of what it is the way back. It stays open there as long as it is owed."""
        self._by_us, self._due_s, self._stage = by_us, due_s, stage
        self._orders, self._session = orders, session
        self._why = ""
        self._tries = 0
        self._said = self._is_hurried = False
        self._consents_device = False
        self._wake = asyncio.Event()
        self._openings = self._opened_now()
        self._begun_wall_s = session.clock.at(begun_s)
        self._task: asyncio.Task[None] | None = None

    @property
    def state(self) -> OwedState:
        return OwedState(
            number=self.number, order=self.order, stage=self._stage, what=self.what, why=self._why,
            begun_wall_s=self._begun_wall_s, due_wall_s=self._session.clock.at(self._due_s), tries=self._tries,
        )  # fmt: skip

    def start(self, on_settled: OnSettled) -> None:
        self._task = asyncio.get_running_loop().create_task(self._live(on_settled), name=f"way back {self.number}")

    # What a person, or the end of the program, may do

    def begun_at(self, begun_s: float, for_s: float) -> None:
        """It is known by now when its pulse began."""
        self.begun_s, self._due_s = begun_s, begun_s + for_s

    def say_so(self) -> None:
        """A person wants it sent now, once."""
        self._said = self._consents_device = True
        self._wake.set()

    def hurry(self) -> None:
        """Now, not only when it is due."""
        self._is_hurried = True
        self._wake.set()

    def settle(self, text: str, state: State = State.NOT_SENT) -> None:
        """It is not owed any more."""
        if self.is_settled:
            return
        self.is_settled = True
        self._why = text
        self._wake.set()
        if not self.first.done():
            self.first.set_result(Result(order=self.order, state=state, text=text, wall_s=self._session.clock.now()))

    async def ended(self) -> None:
        """It is left as it stands: the program ends."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)

    # Its life

    async def _live(self, on_settled: OnSettled) -> None:
        owned = Owned("way back")
        try:
            await self._run(owned)
        finally:
            owned.finish()
        on_settled(self, self._why)

    async def _run(self, owned: Owned) -> None:
        loop = asyncio.get_running_loop()
        await self._until(self._due_s - min(_LEAD_S, max((self._due_s - loop.time()) / 2, 0.0)))
        is_first = True
        while not self.is_settled:
            if self._stage in (OwedStage.ASKS, OwedStage.LEFT) and not self._said:
                await self._wake_up(None)
                continue
            was_said, self._said = self._said, False
            self._stage = OwedStage.OWED if loop.time() >= self._due_s or self._is_hurried else self._stage
            if not was_said and loop.time() - self._due_s > OWED_S:
                self._ask(f"{self._why or 'it was not confirmed'} within {OWED_S:g} s: is it still to be sent?")
                continue
            heard_s = self._heard_s()
            try:
                owned.check()
                wait_s = await self._try(is_first, was_said)
            except OrderRefused as why:
                self._ask(str(why))
                wait_s = 0.0
            except (CannotWrite, ValueError, OverflowError) as error:
                self._ask(str(error))
                wait_s = 0.0
            except Exception as error:  # an internal error: a person is asked
                owned.fail(error)
                self._ask(fault_sentence(error))
                wait_s = 0.0
            is_first = False
            if self.is_settled:
                break
            if was_said:
                self._ask(self._why)
            self._note_first()
            if wait_s:
                await self._wait_for_answer(heard_s, wait_s)

    def _note_first(self) -> None:
        if not self.first.done():
            text = f"{self._why}; it is owed, and goes out as soon as it can: H lists it"
            wall_s = self._session.clock.now()
            self.first.set_result(Result(order=self.order, state=State.UNKNOWN, text=text, wall_s=wall_s))

    def _ask(self, why: str) -> None:
        self._why, self._stage = why, OwedStage.ASKS
        self._note_first()

    async def _until(self, when_s: float) -> None:
        """Until then, or until something is to be done sooner."""
        loop = asyncio.get_running_loop()
        while not (self._is_hurried or self._said or self.is_settled):
            left_s = when_s - loop.time()
            if left_s <= 0:
                return
            await self._wake_up(left_s)
            when_s = max(when_s, self._due_s - _LEAD_S)  # it may have been put off meanwhile

    async def _wake_up(self, within_s: float | None) -> None:
        with suppress(TimeoutError):
            async with asyncio.timeout(within_s):
                await self._wake.wait()
        self._wake.clear()

    async def _wait_for_answer(self, heard_s: float, most_s: float) -> None:
        """Until the device answers anything, or it is asked about it again."""
        loop = asyncio.get_running_loop()
        end_s = loop.time() + most_s
        while not self._said and not self.is_settled and loop.time() < end_s:
            if self._heard_s() > heard_s:
                return
            await asyncio.sleep(_LOOK_S)

    def _heard_s(self) -> float:
        with suppress(OrderRefused):
            state = self._orders.poller_of(self.order).states.get(self.order.device)
            return state.heard_s if state is not None else -1e9
        return -1e9

    def _opened_now(self) -> int:
        with suppress(OrderRefused):
            return self._orders.poller_of(self.order).connection.openings
        return -1

    # One try

    async def _try(self, is_first: bool, was_said: bool) -> float:
        """Send it, once; for how long to wait for the next try. Raises Refused where a person has to say so."""
        order = self.order
        poller, device = self._orders.poller_of(order), self._orders.device_of(order)
        never = permission_at(self._session.site.lines, poller.line, order.unit_id, (order.touched,)).never
        if never:
            raise OrderRefused(f"{never}, by now, so nothing is sent: c leaves it so")
        if not poller.connection.can_ask:
            self._why = f"{order.line} is down: {poller.connection.why_unreachable or 'it is not connected'}"
            poller.connect_soon()
            return _PROBE_S
        if self._openings != poller.connection.openings and not poller.line.connects_per_request:
            differs = await self._orders.differs(order)
            if differs and not self._consents_device:
                raise OrderRefused(differs)
            self._openings = poller.connection.openings
        now: bytes | None = None
        if (not is_first or not order.table.is_bits) and may_read(order, device):
            now, why = await self._orders.read(order, poller, device, is_urgent=True)
            if now is None:
                self._why = f"{order.device or f'unit {order.unit_id}'} does not say what stands there: {why}"
                return _PROBE_S
            stands = under(now, order.mask)
            if stands == under(order.data, order.mask):
                return self._confirmed("it stands there", None)
            if stands != under(self._by_us, order.mask) and self._by_us is not None and not was_said:
                raise OrderRefused(f"{order.name} holds {hex_of(now)}, neither what we wrote nor what was before")
        return await self._send(poller, device, now)

    async def _send(self, poller: LinePoller, device: Device | None, now: bytes | None) -> float:
        order, orders = self.order, self._orders
        limits = device.limits if device is not None else DeviceLimits()
        timeout_s = device.timeout_s if device is not None else poller.line.timeout_s
        requests = orders.requests(order, limits, now)
        row = asyncio.ensure_future(orders.ledger.begin(self._row(now)))
        await asyncio.wait({row}, timeout=_WRITTEN_DOWN_S)  # it is sent all the same
        loop = asyncio.get_running_loop()
        if self._tries == 0 and not self._is_hurried and not self._said and self._due_s > loop.time():
            await self._until(self._due_s)
        outcome: Outcome | None = None
        went = 0
        for request in [] if self.is_settled else requests:
            outcome = await poller.order(
                order.unit_id, request, timeout_s, device, lambda: "it is settled" if self.is_settled else "", True
            )
            went += 1 if outcome.request else 0
            if not is_taken(outcome):
                break
        self._tries += 1 if went else 0
        orders.sent += went
        if outcome is None or not outcome.request:
            with suppress(CannotWriteDown):
                await orders.ledger.take_back(await row)
            self._why = outcome.reason if outcome is not None else self._why
            return _PROBE_S
        if is_taken(outcome):
            lasted = self._confirmed("confirmed", outcome)
        elif outcome.kind is OutcomeKind.EXCEPTION and not outcome.is_of_gateway:
            self._why = f"the way back was refused: {outcome.reason}"
            lasted = _BUSY_S if outcome.code == ExceptionCode.SERVER_DEVICE_BUSY else _PROBE_S
        else:
            self._why = f"the way back was not confirmed: {outcome.reason}"
            lasted = _PROBE_S
        state = State.DONE if is_taken(outcome) else State.UNKNOWN if outcome.code is None else State.REFUSED
        await self._complete(row, self._row(now).data, state, went)
        orders.note_last(
            Result(order=order, state=state, text=self._why, outcome=outcome, before=now, wall_s=self._wall_of(outcome))
        )
        return lasted

    def _wall_of(self, outcome: Outcome) -> float:
        return self._session.clock.at(outcome.asked_at)

    def _confirmed(self, how: str, outcome: Outcome | None) -> float:
        lasted = f" after {length_text(max(outcome.sent_at - self.begun_s, 0.0))}" if outcome is not None else ""
        text = f"{self.order.new_text or hex_of(self.order.data)}{lasted}, {how}"
        self.settle(text, State.DONE)
        return 0.0

    def _row(self, now: bytes | None) -> LedgerRow:
        order = self.order
        old = hex_of(now) if now is not None and not order.table.is_bits else order.old_text
        data: dict[str, object] = {
            "old": old, "new": order.new_text or hex_of(order.data), "unit_id": order.unit_id,
            "table": order.table.value, "address": order.address, "words": hex_of(order.data), "by": self.what,
        }  # fmt: skip
        if order.mask != WHOLE:
            data["mask"] = f"{order.mask:04X}"
        text = f"{old} → {data['new']}, the way back of {self.what}"
        return LedgerRow(
            wall_s=self._session.clock.now(), line=order.line, device=order.device, point=order.name, text=text,
            data=data,
        )  # fmt: skip

    async def _complete(self, row: "asyncio.Future[int]", data: dict[str, object], state: State, went: int) -> None:
        completed = {**data, "outcome": state.value, "told": self._why}
        with suppress(CannotWriteDown):
            await self._orders.ledger.complete(await row, self._session.clock.now(), completed, max(went, 1))


def meets(order: Order, other: Order) -> bool:
    """Whether two orders write the same bits."""
    is_there = (order.line, order.unit_id, order.table) == (other.line, other.unit_id, other.table)
    if other.unit_id == 0 or order.unit_id == 0:
        is_there = (order.line, order.table) == (other.line, other.table)
    if not is_there or order.address >= other.end or other.address >= order.end:
        return False
    if order.table.is_bits or order.count > 1 or other.count > 1:
        return True
    return bool(order.mask & other.mask)


class Owings:
    """All that is owed. For the engine's loop; `states` is made again when it is asked for."""

    def __init__(self, session: Session, orders: Orders, tell: Callable[[str], None]) -> None:
        self.open: dict[int, WayBack] = {}
        self._session, self._orders, self._tell = session, orders, tell
        self._count = 0
        self._closing: set[asyncio.Task[None]] = set()
        self.left: list[str] = []
        """What was not confirmed when the program ended, in words."""
        orders.listeners.append(self._on_result)

    @property
    def states(self) -> tuple[OwedState, ...]:
        return tuple(way_back.state for way_back in list(self.open.values()) if not way_back.is_settled)

    def begin(
        self, order: Order, by_us: bytes | None, what: str, due_s: float, begun_s: float,
        stage: OwedStage = OwedStage.PULSING, cause: Order | None = None,
    ) -> WayBack:  # fmt: skip
        """It is owed from now on, for what `cause` writes."""
        self._count += 1
        way_back = WayBack(self._count, order, by_us, what, self._orders, self._session, due_s, begun_s, stage)
        way_back.cause = cause
        self.open[way_back.number] = way_back
        kind = EventKind.PULSE if stage is OwedStage.PULSING else EventKind.OWED
        self._session.events.note(
            kind,
            order.line,
            order.device,
            f"{order.name}: {what}",
            going_on=("owed", way_back.number),
            point=order.name,
        )
        way_back.start(self._settled)
        return way_back

    def _on_result(self, result: Result) -> None:
        """Somebody else has written there: it is theirs now."""
        if not result.is_done:
            return
        for way_back in list(self.open.values()):
            if result.order is not way_back.cause and meets(way_back.order, result.order):
                way_back.settle("it was written otherwise since, and nothing is owed any more")

    def _settled(self, way_back: WayBack, message: str) -> None:
        self.open.pop(way_back.number, None)
        if way_back.is_dropped:
            return
        order = way_back.order
        event = self._session.events.end(order.line, order.device, ("owed", way_back.number))
        if event is not None:
            event.text = f"{order.name}: {way_back.what}; {message}"
        text = f"{order.device or f'unit {order.unit_id}'} {order.name}: {message}"
        self._tell(text)
        task = asyncio.get_running_loop().create_task(self._close_row(way_back, message))
        self._closing.add(task)
        task.add_done_callback(self._closing.discard)

    async def _close_row(self, way_back: WayBack, text: str) -> None:
        if way_back.row is not None:
            with suppress(CannotWriteDown):
                await self._orders.ledger.settle(way_back.row, self._session.clock.now(), text)

    def drop(self, way_back: WayBack) -> None:
        """What it was to be the way back of has not happened."""
        self.open.pop(way_back.number, None)
        way_back.is_dropped = True
        way_back.settle("nothing was written")
        self._session.events.end(way_back.order.line, way_back.order.device, ("owed", way_back.number))

    def hurry(self) -> None:
        """All of it now."""
        for way_back in list(self.open.values()):
            if way_back.state.stage not in (OwedStage.ASKS, OwedStage.LEFT):
                way_back.hurry()
            elif not way_back.has_nothing_to_send:
                way_back.say_so()

    def take_left(self, left: Left) -> str:
        """What another program owed when it ended; what is to be reported of it."""
        owed = left.data["owed"]
        try:
            words = bytes.fromhex(owed["words"]) if owed.get("words") is not None else None
            by_us = bytes.fromhex(owed["by_us"])
            order = Order(
                line=left.line, unit_id=int(owed["unit_id"]), device=left.device, table=Table(owed["table"]),
                address=int(owed["address"]), data=words if words is not None else by_us, mask=int(owed["mask"]),
                points=tuple(owed["points"]), new_text=str(owed["told"]), old_text=str(owed["by_us_told"]),
            )  # fmt: skip
        except (KeyError, TypeError, ValueError):
            return ""  # a row that nobody of ours wrote
        ended = datetime.fromtimestamp(left.ended_wall_s).strftime("%H:%M:%S")
        stands = str(owed["by_us_told"]) or hex_of(by_us)
        name = f"{left.device or f'unit {order.unit_id}'} {order.name}"
        offer = (
            f"H lists it, and sends {order.new_text}" if words is not None else "no safe value was named: H lists it"
        )
        now_s = asyncio.get_running_loop().time()
        what = f"it was left at {stands} by a program that ended at {ended}"
        way_back = self.begin(order, by_us, what, now_s, now_s, OwedStage.LEFT)
        way_back.has_nothing_to_send = words is None
        way_back.row = left.number
        return f"{name} was left standing at {stands} at {ended}: {offer}"

    def cancel(self, number: int) -> str:
        """A person does not want it sent any more."""
        way_back = self.open.get(number)
        if way_back is None:
            return "it is not owed any more"
        way_back.settle("cancelled: what stands there stays")
        return f"{way_back.order.name}: nothing is owed any more; what stands there stays"

    def say_so(self, number: int) -> str:
        way_back = self.open.get(number)
        if way_back is None:
            return "it is not owed any more"
        if way_back.has_nothing_to_send:
            return f"{way_back.order.name}: no safe value was named; write one, or press c to take it off the list"
        way_back.say_so()
        return f"{way_back.order.name}: {way_back.order.new_text or hex_of(way_back.order.data)} is sent now"

    async def settle_on(self, lines: Collection[str], within_s: float) -> list[str]:
        """All that is owed on these lines goes out now; what was not confirmed in time, in words. It stays owed."""
        way_backs = [one for one in self.open.values() if one.order.line in lines]
        for one in way_backs:
            if not one.has_nothing_to_send:
                one.hurry()
        loop = asyncio.get_running_loop()
        end_s = loop.time() + within_s
        while loop.time() < end_s and any(not one.is_settled and not one.has_nothing_to_send for one in way_backs):
            await asyncio.sleep(0.02)
        return [
            f"{one.order.device or f'unit {one.order.unit_id}'}: {one.order.name} is owed"
            f" {one.order.new_text or hex_of(one.order.data)}"
            for one in way_backs
            if not one.is_settled
        ]

    def give_up(self, lines: Collection[str], why: str) -> None:
        """What is owed there has nobody any more to whom it could be given."""
        for way_back in [one for one in self.open.values() if one.order.line in lines]:
            way_back.settle(why)

    async def stop(self, within_s: float) -> None:
        """The program ends: what is owed goes out now; what is not confirmed in time is left, and reported."""
        for way_back in self.open.values():
            way_back.hurry()
        loop = asyncio.get_running_loop()
        end_s = loop.time() + within_s
        while loop.time() < end_s and any(
            way_back.state.stage in (OwedStage.PULSING, OwedStage.OWED) for way_back in self.open.values()
        ):
            await asyncio.sleep(0.02)
        for way_back in list(self.open.values()):
            await way_back.ended()
            order = way_back.order
            state = way_back.state
            stands = hex_of(way_back._by_us) if not order.table.is_bits else order.old_text
            who = order.device or f"unit {order.unit_id}"
            text = (
                f"{who}: {order.name} may still stand at {stands or 'what we wrote'};"
                f" {order.new_text or hex_of(order.data)} was not confirmed ({state.why or 'no answer'})"
            )
            self.left.append(text)
            self._session.events.note(EventKind.OWED, order.line, order.device, text, point=order.name)
        self.open.clear()
        await asyncio.gather(*self._closing, return_exceptions=True)
