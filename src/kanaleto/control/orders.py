"""The one door for writes. Each line has one queue and one worker; an order is checked, written down, sent once, read
back, and has one outcome that is reported.

In this order: what it is (the device, its map, what may never be written), who holds the register, whether it is the
device that the site knows, what stands there now, the row in the journal; and in the instant of sending, by whatever
way it went so far, the lock. Where a check wants a person's word the result says which (`needs`), and nothing was sent.
An order that waited for its line longer than `PATIENCE_S` is not sent any more.

A write is never repeated by itself, unless its map says that this point may be (`repeat`): where no answer came it is
not known whether it happened, and what stands there is read.
"""

import asyncio
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import suppress

from msgspec.structs import replace

from kanaleto.control.holders import Hold, Holders
from kanaleto.control.ledger import CannotWriteDown, Ledger, LedgerRow, PatientLedger
from kanaleto.control.lock import Lock
from kanaleto.control.order import Consent, Order, Result, State, may_read, owed_data, requests_of
from kanaleto.control.outcomewords import hex_of, is_taken, state_of, under, words_of_outcome
from kanaleto.control.permission import is_broadcast, permission_at, points_touched
from kanaleto.control.sameness import Sameness
from kanaleto.control.wanted import CannotWrite, text_of
from kanaleto.events.log import EventKind
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.polling.line import LinePoller
from kanaleto.polling.session import Session
from kanaleto.site.model import Device, DeviceLimits
from kanaleto.wire.codes import ExceptionCode, Function
from kanaleto.wire.pdu import Read, ReadAnswer, Request
from kanaleto.wire.records import MaskWrite

PATIENCE_S = 5.0
_CONNECTING_S, _LOOK_S = 2.0, 0.02
_MOST_WAITING, _MOST_TOLD = 200, 200

Told = Callable[[Result], None]
"""Hears of each outcome, on the engine's loop."""


class OrderRefused(Exception):
    """Why an order is not sent, and what would have to be said for it to be."""

    def __init__(self, text: str, needs: Consent | None = None) -> None:
        super().__init__(text)
        self.needs = needs


class Orders:
    """For the engine's loop."""

    def __init__(self, session: Session, lock: Lock, ledger: Ledger, sameness: Sameness) -> None:
        self.lock, self.ledger, self.holders = lock, PatientLedger(ledger), Holders()
        self.listeners: list[Told] = []
        self.last: deque[Result] = deque(maxlen=_MOST_TOLD)
        self.sent = 0
        self.granted: set[str] = set()
        """Owners that began while it was unlocked, and go on with that; locking by hand takes it from them."""
        self._session, self._sameness = session, sameness
        self._queues: dict[str, asyncio.Lock] = {}
        self._waiting: dict[str, int] = {}
        self._knows_no_mask: set[str] = set()

    # What stands where

    def poller_of(self, order: Order) -> LinePoller:
        """Raises Refused."""
        try:
            return self._session.named(order.line)
        except KeyError as error:
            raise OrderRefused(str(error.args[0])) from None

    def device_of(self, order: Order) -> Device | None:
        """Raises Refused where it is no more, or has another unit ID by now."""
        poller = self.poller_of(order)
        if not order.device:
            return None
        device = next((device for device in poller.line.devices if device.name == order.device), None)
        if device is None or device.unit_id != order.unit_id:
            raise OrderRefused(f"{order.device} is not unit {order.unit_id} of {order.line} any more")
        return device

    def why_locked(self, order: Order) -> str:
        """Why the lock lets it not out now, or nothing."""
        if order.owner in self.granted and not self.lock.is_read_only:
            return ""
        return self.lock.why_not(order.device)

    # The door

    async def send(
        self,
        order: Order,
        on_taken: Callable[[Outcome], None] = lambda outcome: None,
        on_sending: Callable[[float], None] = lambda now_s: None,
    ) -> Result:
        """One outcome, whatever happens. `on_taken` is called in the instant in which the device has taken it,
        `on_sending` (with the loop time) in that in which its first byte is about to go."""
        loop = asyncio.get_running_loop()
        began_s = loop.time()
        queue = self._queues.setdefault(order.line, asyncio.Lock())
        if self._waiting.get(order.line, 0) >= _MOST_WAITING:
            return self._announced(self._not_sent(order, f"{_MOST_WAITING} writes wait for {order.line} already"))
        self._waiting[order.line] = self._waiting.get(order.line, 0) + 1
        try:
            async with queue:
                try:
                    result = await self._carry_out(order, began_s, on_taken, on_sending)
                except (OrderRefused, CannotWrite, CannotWriteDown) as why:
                    result = self._not_sent(order, str(why), getattr(why, "needs", None))
        finally:
            self._waiting[order.line] -= 1
        return self._announced(replace(result, took_s=loop.time() - began_s))

    async def send_all(self, orders: Sequence[Order], on_each: Told = lambda result: None) -> list[Result]:
        """One after the other, up to the first that does not go well."""
        results: list[Result] = []
        for order in orders:
            result = await self.send(order)
            results.append(result)
            on_each(result)
            if not result.is_well:
                break
        return results

    def _not_sent(self, order: Order, why: str, needs: Consent | None = None) -> Result:
        return Result(order=order, state=State.NOT_SENT, text=why, needs=needs, wall_s=self._session.clock.now())

    def note_last(self, result: Result) -> None:
        """What went out by another way than this door stands among the last writes too."""
        self.last.append(result)

    def _announced(self, result: Result) -> Result:
        if result.needs is None:
            self.last.append(result)
        for listener in list(self.listeners):
            listener(result)
        return result

    async def _carry_out(
        self, order: Order, began_s: float, on_taken: Callable[[Outcome], None], on_sending: Callable[[float], None]
    ) -> Result:
        poller = self.poller_of(order)
        device = self.device_of(order)
        locked = self.why_locked(order)
        if locked:
            raise OrderRefused(locked)
        is_to_all = is_broadcast(poller.line, order.unit_id)
        version = self._session.world.version
        self._check_policy(order, poller, device)
        await self._wait_for_line(poller)
        if is_to_all and Consent.BROADCAST not in order.consents:
            names = ", ".join(device.name for device in poller.line.devices) or "all of them"
            raise OrderRefused(
                f"unit 0 is a broadcast: it goes to every device of {order.line} ({names})", Consent.BROADCAST
            )
        self._check_holder(order)
        if device is not None and not is_to_all:
            await self._check_device(order, poller, device)
        limits = device.limits if device is not None else DeviceLimits()
        before = None if is_to_all else await self._before(order, poller, device)
        requests = self.requests(order, limits, before)
        return await self._send(
            order, poller, device, requests, before, began_s, is_to_all, on_taken, on_sending, version
        )

    # Before it is sent

    @staticmethod
    async def _wait_for_line(poller: LinePoller) -> None:
        """A line that is just being connected is waited for, one that is down is not. Raises Refused."""
        loop = asyncio.get_running_loop()
        end_s = loop.time() + _CONNECTING_S
        while not poller.connection.can_ask or poller.is_off:
            why = "it is switched off" if poller.is_off else poller.connection.why_unreachable
            if why or loop.time() >= end_s:
                raise OrderRefused(f"{poller.line.name} is down: {why or 'it is not connected yet'}")
            await asyncio.sleep(_LOOK_S)

    def require_allowed(self, order: Order) -> None:
        """Raises Refused where the site file or the map do not let it be written, or want a word for it."""
        self._check_policy(order, self.poller_of(order), self.device_of(order))

    def require_place(self, order: Order, device: Device | None) -> None:
        """The map may have been edited since the order was made. Raises Refused where a point stands elsewhere now."""
        points = {point.name: point for point in device.points} if device is not None else {}
        for name in order.points:
            point = points.get(name)
            if point is None or point.table is not order.table:
                raise OrderRefused(f"{name} is no point of {order.device} any more")
            if point.address < order.address or point.end > order.end:
                raise OrderRefused(
                    f"{name} stands at {point.address} now: the map was edited meanwhile, look at it again"
                )

    def why_not_now(self, order: Order) -> str:
        """Why the site file or the map do not let it out any more, or nothing: they may have been edited while it
        waited."""
        try:
            self.require_allowed(order)
        except OrderRefused as why:
            return str(why)
        return ""

    async def differs(self, order: Order) -> str:
        """How the device differs from what the site knows of it, or nothing. Raises Refused where there is none."""
        device = self.device_of(order)
        return await self._sameness.compare(self.poller_of(order), device) if device is not None else ""

    def _check_policy(self, order: Order, poller: LinePoller, device: Device | None) -> None:
        """What the site file and the map say of writing there."""
        self.require_place(order, device)
        said = permission_at(self._session.site.lines, poller.line, order.unit_id, (order.touched,))
        if said.never:
            raise OrderRefused(said.never)
        if said.confirms and Consent.CONFIRM not in order.consents:
            text = f" to {order.new_text}" if order.new_text else ""
            raise OrderRefused(f"{said.confirms} wants each write confirmed: {order.name}{text}?", Consent.CONFIRM)

    def _check_holder(self, order: Order) -> None:
        hold = self.holders.who(order.line, order.unit_id, order.table, order.address, order.end, order.owner)
        if hold is None:
            return
        if Consent.HOLDER not in order.consents:
            raise OrderRefused(f"{order.name} is held by {hold.name}, which writes it", Consent.HOLDER)
        self.holders.take_over(hold)

    async def _check_device(self, order: Order, poller: LinePoller, device: Device) -> None:
        if Consent.DEVICE in order.consents:
            await self._sameness.accept(poller, device)
            return
        differs = await self._sameness.compare(poller, device)
        if differs:
            self._session.events.note(EventKind.KNOWN, order.line, device.name, differs)
            raise OrderRefused(differs, Consent.DEVICE)

    async def _before(self, order: Order, poller: LinePoller, device: Device | None) -> bytes | None:
        """What stands there now. Raises Refused where it is not what was seen."""
        if not order.reads_before or not may_read(order, device):
            return None
        now, _ = await self.read(order, poller, device)
        seen = order.seen
        if now is None or seen is None or len(seen) != len(now):
            return now
        if under(now, order.mask) != under(seen, order.mask) and Consent.CHANGED not in order.consents:
            words, text = hex_of(now), self._value_text(order, device, now)
            stands = text if text == words else f"{text} ({words})"
            raise OrderRefused(f"{order.name} has changed meanwhile: {stands} stands there now", Consent.CHANGED)
        return now

    async def read(
        self, order: Order, poller: LinePoller, device: Device | None, is_urgent: bool = False
    ) -> tuple[bytes | None, str]:
        """The order's items as they stand, a byte for each coil; or None and why."""
        timeout_s = device.timeout_s if device is not None else poller.line.timeout_s
        try:
            request = Read(order.table, order.address, order.count)
            outcome = await poller.ask(order.unit_id, request, timeout_s, device, is_urgent)
        except (OverflowError, ValueError) as error:
            return None, str(error)
        content = outcome.content
        if not isinstance(content, ReadAnswer):
            return None, outcome.reason
        if order.table.is_bits:
            return bytes(content.bits(order.count)), ""
        return content.data, ""

    def knows_mask(self, device: str, limits: DeviceLimits) -> bool:
        """Whether a device may know mask write: as the site says, else until it has refused one. For any thread."""
        known = limits.functions
        return Function.MASK_WRITE_REGISTER in known if known is not None else device not in self._knows_no_mask

    def requests(self, order: Order, limits: DeviceLimits, before: bytes | None) -> list[Request]:
        """What carries it out, by what the device is known to know. Raises Refused and CannotWrite."""
        if not order.is_masked:
            return requests_of(order, limits)
        if self.knows_mask(order.device, limits) and order.device:
            return requests_of(order, limits)
        if before is None:
            raise OrderRefused(
                f"{order.name} is a part of a word, the device has no mask write (16), and the word cannot be read"
            )
        if Consent.WHOLE_WORD not in order.consents:
            raise OrderRefused(
                "the device has no mask write (16): the whole word is read, changed and written, "
                "and what another master writes in between is lost",
                Consent.WHOLE_WORD,
            )
        return requests_of(order, limits, before)

    # Sending

    async def _send(
        self, order: Order, poller: LinePoller, device: Device | None, requests: Sequence[Request],
        before: bytes | None, began_s: float, is_to_all: bool, on_taken: Callable[[Outcome], None],
        on_sending: Callable[[float], None], version: int,
    ) -> Result:  # fmt: skip
        session, loop = self._session, asyncio.get_running_loop()
        timeout_s = device.timeout_s if device is not None else poller.line.timeout_s

        def may() -> str:
            """In the instant of sending: nothing that was looked at before need be so still."""
            now_s = loop.time()
            if now_s - began_s > PATIENCE_S:
                return f"it waited for its line for more than {PATIENCE_S:g} s, and is not sent any more"
            why = self.why_locked(order)
            if not why and session.world.version != version:  # what was checked is another site's
                why = self.why_not_now(order)
            if not why:
                on_sending(now_s)
            return why

        old = order.old_text or self._value_text(order, device, before)
        data: dict[str, object] = {
            "old": old, "new": order.new_text or hex_of(order.data), "unit_id": order.unit_id,
            "table": order.table.value, "address": order.address, "words": hex_of(order.data),
            "function": int(requests[0].function), "requests": len(requests), "by": order.owner or "person",
        }  # fmt: skip
        if order.is_masked:
            data["mask"] = f"{order.mask:04X}"
        if order.owed is not None:
            data["owed"] = owed_data(order)
        text = f"{data['old']} → {data['new']}" if data["old"] else f"→ {data['new']}"
        wall_s = session.clock.now()
        row = LedgerRow(wall_s=wall_s, line=order.line, device=order.device, point=order.name, text=text, data=data)
        number = await self.ledger.begin(row)
        outcome: Outcome | None = None
        sent = went = 0
        try:
            for request in requests:
                outcome, times = await self._ask(poller, order, request, timeout_s, device, may)
                sent, went = sent + min(times, 1), went + times
                if not is_taken(outcome):
                    break
        except (OverflowError, ValueError) as error:
            await self.ledger.take_back(number)
            raise OrderRefused(str(error)) from None
        assert outcome is not None
        if not sent:
            await self.ledger.take_back(number)
            raise OrderRefused(outcome.reason)
        self.sent += went
        if is_taken(outcome):
            on_taken(outcome)
        if outcome.code == ExceptionCode.ILLEGAL_FUNCTION and isinstance(requests[0], MaskWrite):
            self._knows_no_mask.add(order.device)
        state, said = state_of(outcome, sent, len(requests), is_to_all)
        after, why_not = None, ""
        if state is not State.REFUSED and order.reads_back and not is_to_all and may_read(order, device):
            after, why_not = await self.read(order, poller, device)
        is_equal = under(after, order.mask) == under(order.data, order.mask) if after is not None else None
        message = words_of_outcome(order, state, said, after, before, is_equal, why_not)
        done: dict[str, object] = {"outcome": state.value, "told": message}
        if outcome.kind is not OutcomeKind.GOOD:
            done["kind"] = outcome.kind.value
        if is_equal is not None:
            done["equal"] = is_equal
        goes_on = order.owed is not None and state is not State.REFUSED
        if order.owed is not None and not goes_on:
            done["settled"] = message
        with suppress(CannotWriteDown):  # it is reported by whoever keeps the journal
            await self.ledger.complete(number, session.clock.now(), {**data, **done}, went, goes_on)
        session.events.note(
            EventKind.WRITE, order.line, order.device, f"{text}: {message}", point=order.name, data={**data, **done}
        )
        return Result(
            order=order, state=state, text=message, outcome=outcome, before=before, after=after, is_equal=is_equal,
            wall_s=wall_s, row=number if goes_on else None,
        )  # fmt: skip

    def _value_text(self, order: Order, device: Device | None, data: bytes | None) -> str:
        """What stands there, as the point's own value where it is one."""
        points = points_touched(device, order.touched) if device is not None else []
        point = next((point for point in points if (point.name,) == order.points), None)
        if (
            data is None
            or point is None
            or order.is_masked
            or point.size * (1 if order.table.is_bits else 2) != len(data)
        ):
            return hex_of(data)
        power = self._session.board.exponent_of(order.device, point)
        return text_of(point, data, power) if power is not None else hex_of(data)

    async def _ask(
        self, poller: LinePoller, order: Order, request: Request, timeout_s: float, device: Device | None,
        may: Callable[[], str],
    ) -> tuple[Outcome, int]:  # fmt: skip
        """Once; again only where the map says that it may be repeated. And how often it went."""
        went = 0
        tries = 1 + (device.retries if device is not None and order.may_repeat else 0)
        for left in reversed(range(tries)):
            outcome = await poller.order(order.unit_id, request, timeout_s, device, may, order.is_urgent)
            went += 1 if outcome.request else 0
            is_settled = outcome.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION) or not outcome.request
            if is_settled or not left:
                return outcome, went
        raise AssertionError("the last try gives back")

    def hold(self, order: Order, owner: str, name: str, on_taken: Callable[[], None]) -> None:
        """From now on these registers are `owner`'s. Raises Refused where somebody else has them, and no person has
        said to take over."""
        self._check_holder(replace(order, owner=owner))
        self.holders.take(Hold(order.line, order.unit_id, order.table, order.address, order.end, owner, name, on_taken))
