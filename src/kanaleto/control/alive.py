"""Writes that are kept alive: repeated at their period, so that a device's watchdog stays quiet, until they are stopped
in a defined way.

A kept-alive write holds its registers: nobody else writes them, and what is switched in them changes the word that is
repeated. It goes out before anything that is due, so that it waits for one exchange at most; how long that may be is
reckoned before it begins (`waits`). It is written down once when it begins and at each change, and counted.

It ends by being stopped, when a person takes its registers over, when its device or line is no more, or with the
program; then the safe value goes out, where there is one. That one is sent whatever the lock or the journal say.
"""

import asyncio
from array import array
from collections.abc import Callable
from contextlib import suppress

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.control.ledger import CannotWriteDown, Row
from kanaleto.control.order import Order, State, requests_of
from kanaleto.control.orders import Orders, Refused
from kanaleto.control.telling import hex_of
from kanaleto.control.waits import Wait
from kanaleto.control.wanted import CannotWrite
from kanaleto.lines.channel import Unreachable
from kanaleto.lines.opening import exchanger_for
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.session import Session
from kanaleto.site.model import DeviceLimits, Site

LEAST_PERIOD_S, MOST_PERIOD_S = 0.02, 3600.0
_COUNT_EVERY_S = 1.0
_KEPT = 512
_SAFE_S, _WRITTEN_DOWN_S = 3.0, 0.3


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
        self._row: int | None = None
        self._counting: asyncio.Task[None] | None = None
        self._change: tuple[bytes, asyncio.Future[tuple[str, str]]] | None = None
        self._wake = asyncio.Event()
        self._openings = orders.poller_of(wish.order).connection.openings
        self._device = orders.device_of(wish.order)
        self._task: asyncio.Task[None] | None = None

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
        why = ""
        try:
            while not self.is_over:
                await self._until(due_s)
                if self.is_over:
                    break
                change, self._change = self._change, None
                if change is not None:
                    await self._take(*change)
                    due_s = loop.time() + self.wish.period_s
                    continue
                self._require_place()
                await self._require_same_device()
                outcome = await self._send(self._data, lambda: "it has been stopped" if self.is_over else "")
                if outcome.request:
                    self._note_lateness(outcome, due_s)
                self._note(outcome)
                due_s = max(due_s + self.wish.period_s, loop.time())
                if loop.time() - counted_s >= _COUNT_EVERY_S:
                    counted_s = loop.time()
                    self._count_beside()
        except (Refused, CannotWrite, CannotWriteDown, ValueError, OverflowError) as error:
            why = str(error)
        if not self.is_over:
            self.is_over = True
            on_end(self, why)

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

    def _require_place(self) -> None:
        """Raises Refused where its line or its device is no more, or its point stands elsewhere."""
        order = self.wish.order
        self._orders.require_place(order, self._orders.device_of(order))

    async def _require_same_device(self) -> None:
        """Once its line was connected anew. Raises Refused where another one stands there now: it is not written to,
        not even for a safe end."""
        openings = self._orders.poller_of(self.wish.order).connection.openings
        if openings != self._openings and not self._orders.poller_of(self.wish.order).line.connects_per_request:
            differs = await self._orders.differs(self.wish.order)
            if differs:
                self.wish = replace(self.wish, safe=None)
                raise Refused(differs)
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
        told = doubt = ""
        try:
            await self._end_count()
            await self._write_down(data)
            outcome = await self._send(data, lambda: self._orders.why_locked(order))
            self._note(outcome)
            if outcome.code is not None or not outcome.request:
                told = outcome.reason
                await self._end_count()
                await self._write_down(before)
            else:
                doubt = "" if outcome.is_good else outcome.reason
                self._data = data  # where no answer came it may have been taken: the next one tells
        except (Refused, CannotWrite, CannotWriteDown, ValueError, OverflowError) as error:
            told = str(error)
            raise
        finally:
            if not done.done():
                done.set_result((told, doubt))

    # In the journal

    async def _write_down(self, data: bytes) -> None:
        """Raises CannotWriteDown."""
        order = self.wish.order
        told: dict[str, object] = {
            "old": "", "new": hex_of(data), "unit_id": order.unit_id, "table": order.table.value,
            "address": order.address, "words": hex_of(data), "by": self.owner, "every_s": self.wish.period_s,
        }  # fmt: skip
        text = f"kept alive at {hex_of(data)} every {self.wish.period_s:g} s"
        wall_s = self._session.clock.now()
        self._row_data, self._counted = told, self._sent
        self._row = await self._orders.ledger.begin(
            Row(wall_s=wall_s, line=order.line, device=order.device, point=order.name, text=text, data=told)
        )

    def _count_beside(self) -> None:
        """The device waits for no disk."""
        if self._counting is None or self._counting.done():
            self._counting = asyncio.get_running_loop().create_task(self._count(goes_on=True))

    async def _end_count(self, count: int | None = None) -> None:
        """What is being counted, and then how often it went in all."""
        if self._counting is not None:
            await asyncio.gather(self._counting, return_exceptions=True)
        await self._count(goes_on=False, count=count)

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
                await self._orders.ledger.complete(
                    self._row, self._session.clock.now(), data, max(count, 1), goes_on=goes_on
                )
        if not goes_on:
            self._row = None

    # Its end

    async def end(self) -> str:
        """Stop repeating, and send the safe value; what came of that, in words."""
        self.is_over = True
        self._wake.set()
        if self._change is not None and not self._change[1].done():
            self._change[1].set_result(("it is not kept alive any more", ""))
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)
        safe, count = self.wish.safe, self._sent - self._counted
        told = f"the last value, {hex_of(self._data)}, stands there"
        if safe is not None:
            told = await self._send_safe(safe)
        await self._end_count(count)
        return told

    async def _send_safe(self, safe: bytes) -> str:
        order = self.wish.order
        data: dict[str, object] = {
            "old": hex_of(self._data), "new": hex_of(safe), "unit_id": order.unit_id, "table": order.table.value,
            "address": order.address, "words": hex_of(safe), "by": f"end of {self.owner}",
        }  # fmt: skip
        text = f"→ {hex_of(safe)}, the safe value at the end"
        row_to_be = Row(
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
            return await self._end_row(
                writing_down, data, f"the safe value, {hex_of(safe)}, could not be sent in {_SAFE_S:g} s"
            )
        except (Refused, CannotWrite, ValueError, OverflowError) as error:
            return await self._end_row(writing_down, data, f"the safe value, {hex_of(safe)}, was not sent: {error}")
        self._note(outcome)
        if not outcome.request:
            told = f"the safe value, {hex_of(safe)}, was not sent: {outcome.reason}"
            return await self._end_row(writing_down, data, told)
        how = "was written" if outcome.is_good else f"was sent, and {outcome.reason}"
        data["outcome"] = (State.DONE if outcome.is_good else State.UNKNOWN).value
        return await self._end_row(writing_down, data, f"the safe value, {hex_of(safe)}, {how}")

    def send_safe_alone(self, site: Site) -> None:
        """The same without the engine, which has failed: on a connection of its own, without a word in the journal."""
        order, safe = self.wish.order, self.wish.safe
        line = next((line for line in site.lines if line.name == order.line), None)
        if safe is None or line is None:
            return

        async def work() -> None:
            exchanger = exchanger_for(line.link, line.connect_timeout_s, line.gap_s)
            device = next((own for own in line.devices if own.name == order.device), None)
            limits = device.limits if device is not None else DeviceLimits()
            await exchanger.open()
            for request in requests_of(replace(order, data=safe), limits):
                await exchanger.ask(order.unit_id, request, line.timeout_s)
            exchanger.close()

        with suppress(Unreachable, CannotWrite, OSError, TimeoutError):
            asyncio.run(asyncio.wait_for(work(), _SAFE_S))

    async def _end_row(self, writing_down: "asyncio.Future[int]", data: dict[str, object], told: str) -> str:
        data["told"] = told
        with suppress(CannotWriteDown):
            row = await writing_down
            if "outcome" in data:
                await self._orders.ledger.complete(row, self._session.clock.now(), data)
            else:
                await self._orders.ledger.take_back(row)
        return told
