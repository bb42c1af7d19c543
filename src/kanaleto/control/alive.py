"""Writes that are kept alive: repeated at their period, so that a device's watchdog stays quiet, until they are stopped
in a defined way.

A kept-alive write holds its registers: nobody else writes them, and what is switched in them changes the word that is
repeated. It goes out before anything that is due, so that it waits for one exchange at most; how long that may be is
reckoned before it begins (`waits`). It is written down once when it begins and at each change, and counted.

It ends by being stopped, when a person takes its registers over, when its device or line is no more, when the device
was silent for too long, or with the program; then the safe value goes out, where there is one. That one is sent
whatever the lock or the journal say.

Too long is longer than the device's own `watchdog_s`, counted from its last answer of any kind; where none is known,
three periods and a timeout, and three unanswered tries in a row. What was kept alive is never taken up by itself after
that: a device that was away has forgotten it, and somebody may stand at the machine.
"""

import asyncio
from array import array
from collections.abc import Callable
from contextlib import suppress

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.control.ledger import CannotWriteDown, LedgerRow
from kanaleto.control.order import Order, Owed, Result, State, owed_data, requests_of
from kanaleto.control.orders import OrderRefused, Orders
from kanaleto.control.outcomewords import hex_of
from kanaleto.control.waits import Wait
from kanaleto.control.wanted import CannotWrite
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.session import Session
from kanaleto.site.model import DeviceLimits, Site
from kanaleto.supervision.owned import After, Owned, fault_sentence

LEAST_PERIOD_S, MOST_PERIOD_S = 0.02, 3600.0
_COUNT_EVERY_S = 1.0
_KEPT = 512
_SAFE_S, _WRITTEN_DOWN_S = 3.0, 0.3
_LOOK_S = 0.05


class Wish(Struct, frozen=True, kw_only=True):
    """What is to be kept alive: `order` has whole words. `safe` goes out at the end, where it is not None. While it
    lives, silent devices of its line may be left out, and reads be split so that none takes longer than it may."""

    order: Order
    period_s: float
    safe: bytes | None = None
    leaves_out_silent: bool = False
    splits_reads: bool = False
    is_late_all_right: bool = False


class AliveState(Struct, frozen=True, kw_only=True):
    """A kept-alive write at one moment; lateness in seconds."""

    number: int
    wish: Wish
    wait: Wait
    begun_wall_s: float
    sent: int
    failed: int
    late_s: float
    worst_s: float
    said: str
    is_over: bool


class KeptAlive:
    """One of them. For the engine's loop; `state` is frozen and may be read by anybody."""

    def __init__(self, number: int, wish: Wish, wait: Wait, orders: Orders, session: Session) -> None:
        self.wish, self.owner = wish, f"kept alive {number}"
        self.lateness = array("d")
        self.is_over = False
        self._orders, self._session, self.number, self._wait = orders, session, number, wait
        self._data = wish.order.data
        self._begun_wall_s = session.clock.now()
        self._sent = self._failed = self._counted = 0
        self._late_s = self._worst_s = 0.0
        self._said = ""
        self._heard_s = asyncio.get_running_loop().time()
        self._unanswered = 0
        self.is_away = False
        """Whether it ended because its device was silent for too long."""
        self.row_left: int | None = None
        """Its row in the journal, where its safe value was not confirmed: it stays open as long as that is owed."""
        self.is_ending = False
        self.ended: asyncio.Future[str] = asyncio.get_running_loop().create_future()
        """What came of its end, in words."""
        self.is_owed = False
        """Whether its safe value is still to be confirmed, once it has ended."""
        self.on_lost: Callable[[str], None] = lambda why: None
        """Called when it ends by itself."""
        self._row: int | None = None
        self._counting: asyncio.Task[None] | None = None
        self._change: tuple[bytes, asyncio.Future[tuple[str, str]]] | None = None
        self._wake = asyncio.Event()
        self._openings = orders.poller_of(wish.order).connection.openings
        self._version = -1
        self._device = orders.device_of(wish.order)
        self._task: asyncio.Task[None] | None = None
        self._must_not_write = False

    @property
    def name(self) -> str:
        order = self.wish.order
        return f"{order.device or f'unit {order.unit_id}'}: {order.name}"

    @property
    def data(self) -> bytes:
        """What is repeated now."""
        return self._data

    @property
    def state(self) -> AliveState:
        wish = replace(self.wish, order=replace(self.wish.order, data=self._data))
        return AliveState(
            number=self.number, wish=wish, wait=self._wait, begun_wall_s=self._begun_wall_s, sent=self._sent,
            failed=self._failed, late_s=self._late_s, worst_s=self._worst_s, said=self._said, is_over=self.is_over,
        )  # fmt: skip

    def _limit_s(self) -> float:
        """How long the device may be silent."""
        device = self._device
        if device is not None and device.watchdog_s is not None:
            return device.watchdog_s
        timeout_s = device.timeout_s if device is not None else self._orders.poller_of(self.wish.order).line.timeout_s
        return 3 * self.wish.period_s + timeout_s

    def _heard_last_s(self) -> float:
        with suppress(OrderRefused):
            state = self._orders.poller_of(self.wish.order).states.get(self.wish.order.device)
            return max(self._heard_s, state.heard_s if state is not None else -1e9)
        return self._heard_s

    def _why_away(self, now_s: float) -> str:
        """Why it is not repeated any more, where the device has been silent for too long; else nothing."""
        silent_s = now_s - self._heard_last_s()
        has_watchdog = self._device is not None and self._device.watchdog_s is not None
        if silent_s <= self._limit_s() or (not has_watchdog and self._unanswered < 3):
            return ""
        return f"{self.wish.order.device or 'the device'} has not answered for {silent_s:.1f} s"

    @property
    def heard_s(self) -> float:
        """When the device answered anything last, by the loop's time."""
        return self._heard_last_s()

    async def write_down(self) -> None:
        """Before its first bytes go. Raises CannotWriteDown."""
        await self._write_down(self._data)

    async def take_back(self) -> None:
        """It did not begin after all."""
        self.is_over = True
        await self._count(goes_on=False)

    def start(self, due_s: float, on_end: Callable[["KeptAlive", str], None]) -> None:
        """Repeat it, for the first time then."""
        self._task = asyncio.get_running_loop().create_task(self._run(due_s, on_end), name=self.owner)

    # Its life

    async def _run(self, due_s: float, on_end: Callable[["KeptAlive", str], None]) -> None:
        loop = asyncio.get_running_loop()
        counted_s = loop.time()
        why, has_ended = "", False
        owned = Owned("kept alive", After.BEGINS_AGAIN)
        try:
            while not self.is_over:
                owned.check()
                await self._until(due_s)
                if self.is_over:
                    break
                change, self._change = self._change, None
                if change is not None:
                    await self._take(*change)
                    due_s = loop.time() + self.wish.period_s
                    continue
                self._require_allowed()
                await self._require_same_device()
                outcome = await self._send_unless_away()
                if outcome is None:
                    self.is_away = has_ended = True
                    why = self._why_away(loop.time())
                    break
                if outcome.request:
                    self._note_lateness(outcome, due_s)
                self._note(outcome)
                due_s = max(due_s + self.wish.period_s, loop.time())
                if loop.time() - counted_s >= _COUNT_EVERY_S:
                    counted_s = loop.time()
                    self._count_beside()
        except (OrderRefused, CannotWrite, CannotWriteDown, ValueError, OverflowError) as error:
            why = str(error)
        except Exception as error:  # an internal error: it ends as any other, with its safe value, and may be taken up
            owned.fail(error)
            why = fault_sentence(error)
        finally:
            owned.finish()
        if has_ended or not self.is_over:
            self.is_over = True
            on_end(self, why)

    async def _send_unless_away(self) -> Outcome | None:
        """None where the device has been silent for too long by then: nothing of it is sent any more."""
        loop = asyncio.get_running_loop()

        def may() -> str:
            return "it has been stopped" if self.is_over else self._why_away(loop.time())

        sending = loop.create_task(self._send(self._data, may))
        try:
            while not sending.done():
                if self._why_away(loop.time()):
                    self.is_over = True  # what waits for its line is not sent
                    return None
                left_s = self._heard_last_s() + self._limit_s() - loop.time()
                await asyncio.wait({sending}, timeout=max(left_s + 0.001, _LOOK_S))
        except asyncio.CancelledError:
            sending.cancel()
            raise
        outcome = sending.result()
        return None if not outcome.request and self._why_away(loop.time()) else outcome

    async def _until(self, due_s: float) -> None:
        """Until then, or until something is to be changed or ended."""
        self._wake.clear()
        if self._change is not None or self.is_over:
            return
        delay_s = due_s - asyncio.get_running_loop().time()
        if delay_s > 0:
            with suppress(TimeoutError):
                async with asyncio.timeout(delay_s):
                    await self._wake.wait()

    def _require_allowed(self) -> None:
        """Raises Refused where its line or its device is no more, its point stands elsewhere, or may not be written any
        more. Looked at again only once the site is another."""
        self._orders.device_of(self.wish.order)
        if self._session.world.version != self._version:
            self._version = self._session.world.version
            self._orders.require_allowed(self.wish.order)

    async def _require_same_device(self) -> None:
        """Once its line was connected again. Raises Refused where another one stands there now: it is not written to,
        not even for a safe end."""
        openings = self._orders.poller_of(self.wish.order).connection.openings
        if openings != self._openings and not self._orders.poller_of(self.wish.order).line.connects_per_request:
            differs = await self._orders.differs(self.wish.order)
            if differs:
                self._must_not_write = True  # nor is its safe value
                raise OrderRefused(differs)
        self._openings = openings

    async def _send(self, data: bytes, may: Callable[[], str]) -> Outcome:
        """To where it was begun, as long as its line is there. Raises Refused and CannotWrite."""
        poller, device = self._orders.poller_of(self.wish.order), self._device
        limits = device.limits if device is not None else DeviceLimits()
        timeout_s = device.timeout_s if device is not None else poller.line.timeout_s
        order = replace(self.wish.order, data=data)
        for request in requests_of(order, limits):
            outcome = await poller.order(order.unit_id, request, timeout_s, device, may, is_urgent=True)
            self._sent += 1 if outcome.request else 0
            self._orders.sent += 1 if outcome.request else 0
        return outcome

    def _note(self, outcome: Outcome) -> None:
        if outcome.is_answer:
            self._heard_s, self._unanswered = outcome.done_at, 0
        else:
            self._unanswered += 1
        self._failed += 0 if outcome.is_good else 1
        self._said = "" if outcome.is_good else outcome.reason

    def _note_lateness(self, outcome: Outcome, due_s: float) -> None:
        """From when it was due to its first byte."""
        poller = self._orders.poller_of(self.wish.order)
        own_s = len(outcome.request) * poller.exchanger.channel.character_s
        self._late_s = max(outcome.sent_at - own_s - due_s, 0.0)
        self._worst_s = max(self._worst_s, self._late_s)
        if len(self.lateness) >= _KEPT:
            del self.lateness[: _KEPT // 2]
        self.lateness.append(self._late_s)

    # Changing what is repeated

    async def change(self, order: Order) -> tuple[str, str]:
        """Other bits, or another word, from now on: why that is not so, and why it is not known whether the device has
        it; both empty once it was answered. Only its holder may."""
        why = self._orders.why_locked(order)
        if why or self.is_over:
            return why or "it is not kept alive any more", ""
        data = order.data
        if order.is_masked:
            word = int.from_bytes(self._data) & ~order.mask & 0xFFFF | int.from_bytes(order.data) & order.mask
            data = word.to_bytes(2)
        if self._change is not None and not self._change[1].done():
            return "another change is under way", ""
        done: asyncio.Future[tuple[str, str]] = asyncio.get_running_loop().create_future()
        self._change = (data, done)
        self._wake.set()
        return await done

    async def _take(self, data: bytes, done: "asyncio.Future[tuple[str, str]]") -> None:
        before, order = self._data, self.wish.order
        text = doubt = ""
        try:
            await self._end_count()
            await self._write_down(data)
            now = asyncio.get_running_loop().time
            outcome = await self._send(data, lambda: self._orders.why_locked(order) or self._why_away(now()))
            self._note(outcome)
            if outcome.code is not None or not outcome.request:
                text = outcome.reason
                await self._end_count()
                await self._write_down(before)
            else:
                doubt = "" if outcome.is_good else outcome.reason
                self._data = data  # where no answer came it may have been taken: the next one tells
        except (OrderRefused, CannotWrite, CannotWriteDown, ValueError, OverflowError) as error:
            text = str(error)
            raise
        finally:
            if not done.done():
                done.set_result((text, doubt))

    # In the journal

    async def _write_down(self, data: bytes) -> None:
        """Raises CannotWriteDown."""
        order = self.wish.order
        row_data: dict[str, object] = {
            "old": "", "new": hex_of(data), "unit_id": order.unit_id, "table": order.table.value,
            "address": order.address, "words": hex_of(data), "by": self.owner, "every_s": self.wish.period_s,
            "owed": owed_data(replace(order, data=data, owed=Owed(self.wish.safe, "its safe value"))),
        }  # fmt: skip
        text = f"kept alive at {hex_of(data)} every {self.wish.period_s:g} s"
        wall_s = self._session.clock.now()
        self._row_data, self._counted = row_data, self._sent
        self._row = await self._orders.ledger.begin(
            LedgerRow(wall_s=wall_s, line=order.line, device=order.device, point=order.name, text=text, data=row_data)
        )

    def _count_beside(self) -> None:
        """The device waits for no disk."""
        if self._counting is None or self._counting.done():
            self._counting = asyncio.get_running_loop().create_task(self._count(goes_on=True))

    async def _end_count(self, count: int | None = None, is_owed: bool = False) -> None:
        """What is being counted, and then how often it went in all."""
        if self._counting is not None:
            await asyncio.gather(self._counting, return_exceptions=True)
        if is_owed:
            self.row_left = self._row
        await self._count(goes_on=is_owed, count=count)

    async def _count(self, goes_on: bool, count: int | None = None) -> None:
        """How often it went so far."""
        if self._row is None:
            return
        count = self._sent - self._counted if count is None else count
        with suppress(CannotWriteDown):  # the row is there; its count is what it was
            if not count and not goes_on:
                await self._orders.ledger.take_back(self._row)
            else:
                data = {**self._row_data, "outcome": State.DONE.value, "failed": self._failed}
                if not goes_on:
                    data["settled"] = "it ended"
                await self._orders.ledger.complete(
                    self._row, self._session.clock.now(), data, max(count, 1), goes_on=goes_on
                )
        if not goes_on:
            self._row = None

    # Its end

    async def end(self) -> str:
        """Stop repeating, and send the safe value; what came of that, in words."""
        self.is_over = self.is_ending = True
        self._wake.set()
        if self._change is not None and not self._change[1].done():
            self._change[1].set_result(("it is not kept alive any more", ""))
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)
        safe, count = self.wish.safe, self._sent - self._counted
        text = f"the last value, {hex_of(self._data)}, stands there"
        if safe is None or self._must_not_write:
            await self._end_count(count)
            return text
        if self.is_away:  # its line is busy with silence; the way back is somebody's who waits for an answer
            self._orders.poller_of(self.wish.order).drop_unanswered("what was kept alive is not to arrive later")
            self.is_owed = True
            await self._end_count(count, is_owed=True)
            return "its safe value goes out once the device answers"
        text, is_confirmed = await self._send_safe(safe)
        self.is_owed = not is_confirmed
        await self._end_count(count, is_owed=not is_confirmed)
        return text

    async def _send_safe(self, safe: bytes) -> tuple[str, bool]:
        """What came of it, and whether the device has confirmed it."""
        order = self.wish.order
        data: dict[str, object] = {
            "old": hex_of(self._data), "new": hex_of(safe), "unit_id": order.unit_id, "table": order.table.value,
            "address": order.address, "words": hex_of(safe), "by": f"end of {self.owner}",
        }  # fmt: skip
        text = f"→ {hex_of(safe)}, the safe value at the end"
        row_to_be = LedgerRow(
            wall_s=self._session.clock.now(),
            line=order.line,
            device=order.device,
            point=order.name,
            text=text,
            data=data,
        )
        writing_down = asyncio.ensure_future(self._orders.ledger.begin(row_to_be))
        await asyncio.wait({writing_down}, timeout=_WRITTEN_DOWN_S)  # it is sent all the same
        try:
            async with asyncio.timeout(_SAFE_S):
                outcome = await self._send(safe, lambda: "")
        except TimeoutError:
            message = f"the safe value, {hex_of(safe)}, could not be sent in {_SAFE_S:g} s"
            return await self._end_row(writing_down, data, message), False
        except (OrderRefused, CannotWrite, ValueError, OverflowError) as error:
            message = f"the safe value, {hex_of(safe)}, was not sent: {error}"
            return await self._end_row(writing_down, data, message), False
        self._note(outcome)
        if not outcome.request:
            message = f"the safe value, {hex_of(safe)}, was not sent: {outcome.reason}"
            return await self._end_row(writing_down, data, message), False
        how = "was written" if outcome.is_good else f"was sent, and {outcome.reason}"
        data["outcome"] = (State.DONE if outcome.is_good else State.UNKNOWN).value
        message = f"the safe value, {hex_of(safe)}, {how}"
        last = replace(
            order, data=safe, new_text=hex_of(safe), old_text=hex_of(self._data), owner=f"end of {self.owner}"
        )
        state = State.DONE if outcome.is_good else State.UNKNOWN
        self._orders.note_last(
            Result(
                order=last, state=state, text=message, outcome=outcome, wall_s=self._session.clock.at(outcome.asked_at)
            )
        )
        return await self._end_row(writing_down, data, message), outcome.is_good

    def send_safe_alone(self, site: Site) -> str:
        """The same without the engine, which has failed: on a connection of its own, without a word in the journal.
        What may still stand there, in words; nothing where the device has confirmed it."""
        order, safe = self.wish.order, self.wish.safe
        line = next((line for line in site.lines if line.name == order.line), None)
        stands = f"{self.name} may still be held at {hex_of(self._data)}"
        if safe is None or line is None:
            return f"{stands}: no safe value was named"
        confirmed: list[bool] = []

        async def work() -> None:
            exchanger = exchanger_for(line.link, line.connect_timeout_s, line.gap_s, preferred=line.prefer_port)
            device = next((device for device in line.devices if device.name == order.device), None)
            limits = device.limits if device is not None else DeviceLimits()
            await exchanger.open()
            for request in requests_of(replace(order, data=safe), limits):
                confirmed.append((await exchanger.ask(order.unit_id, request, line.timeout_s)).is_good)
            exchanger.close()

        why = "the device did not confirm it"
        try:
            asyncio.run(asyncio.wait_for(work(), _SAFE_S))
        except (Unreachable, CannotWrite, OSError) as error:
            why = str(error)
        except TimeoutError:
            why = f"nothing came of it in {_SAFE_S:g} s"
        if confirmed and all(confirmed):
            return ""
        return f"{stands}: its safe value {hex_of(safe)} could not be sent on a second connection ({why})"

    async def _end_row(self, writing_down: "asyncio.Future[int]", data: dict[str, object], text: str) -> str:
        data["told"] = text
        with suppress(CannotWriteDown):
            row = await writing_down
            if "outcome" in data:
                await self._orders.ledger.complete(row, self._session.clock.now(), data)
            else:
                await self._orders.ledger.take_back(row)
        return text
