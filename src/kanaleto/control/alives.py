"""All writes of a session that are kept alive: begun, judged by how long they may have to wait, and ended."""

import asyncio
from collections import deque
from collections.abc import Callable, Coroutine
from contextlib import suppress
from datetime import datetime

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.control.alive import LEAST_PERIOD_S, MOST_PERIOD_S, AliveState, KeptAlive, Wish
from kanaleto.control.ledger import CannotWriteDown
from kanaleto.control.order import Consent, Order, Result, State
from kanaleto.control.orders import OrderRefused, Orders
from kanaleto.control.outcomewords import hex_of
from kanaleto.control.owed import OwedStage, Owings, meets
from kanaleto.control.waits import Wait, registers_within, wait_on
from kanaleto.events.log import EventKind, length_text
from kanaleto.lines.outcome import Outcome
from kanaleto.polling.line import LinePoller
from kanaleto.polling.session import Session

_MOST_OFFERS = 20
_LOOK_S = 0.1


class Offer(Struct, frozen=True, kw_only=True):
    """What was kept alive until its device was away for too long: a person may take it up again."""

    number: int
    wish: Wish
    text: str
    ended_wall_s: float


class Alives:
    """All that are kept alive. For the engine's loop; `states` is replaced whole. `tell` has what a person is to
    read."""

    def __init__(self, session: Session, orders: Orders, owings: Owings, tell: Callable[[str], None]) -> None:
        self.living: dict[int, KeptAlive] = {}
        self.offers: deque[Offer] = deque(maxlen=_MOST_OFFERS)
        """The newest last; for any thread."""
        self._owings, self._tell = owings, tell
        self._is_over = False
        self._session, self._orders = session, orders
        self._count = self._offers = 0
        self._ending: set[asyncio.Task[object]] = set()

    @property
    def states(self) -> tuple[AliveState, ...]:
        return tuple(kept.state for kept in list(self.living.values()))

    def of_line(self, line: str) -> list[KeptAlive]:
        return [kept for kept in self.living.values() if kept.wish.order.line == line]

    def holding(self, order: Order) -> KeptAlive | None:
        """Whoever keeps these registers alive."""
        hold = self._orders.holders.who(order.line, order.unit_id, order.table, order.address, order.end, "")
        return next((kept for kept in self.living.values() if hold is not None and kept.owner == hold.owner), None)

    def judge(self, wish: Wish) -> tuple[Wait, str]:
        """The longest wait on its line, and what is wrong with that; nothing when it may begin. Raises Refused."""
        poller = self._orders.poller_of(wish.order)
        device = self._orders.device_of(wish.order)
        wait = wait_on(poller)
        may_s = wish.period_s
        against = f"its period of {wish.period_s:g} s"
        if device is not None and device.watchdog_s is not None:
            if wish.period_s >= device.watchdog_s:
                raise OrderRefused(
                    f"a period of {wish.period_s:g} s does not keep a watchdog of {device.watchdog_s:g} s quiet"
                )
            may_s, against = device.watchdog_s - wish.period_s, f"what its watchdog of {device.watchdog_s:g} s leaves"
        left_s = max(wait.exchange_s, 0.0 if wish.leaves_out_silent else wait.silent_s)
        if wish.splits_reads and registers_within(poller, may_s) is not None:
            left_s = min(left_s, may_s) if not wait.silent_s or wish.leaves_out_silent else left_s
        if left_s <= may_s or wish.is_late_all_right:
            return wait, ""
        return wait, f"it may have to wait {left_s:.3g} s ({wait.why}), longer than {against}"

    async def change(self, kept: KeptAlive, order: Order) -> Result:
        """Other bits, or another word, of what is kept alive; by its holder, a person too."""
        before = kept.data
        try:
            self._orders.require_allowed(order)
        except OrderRefused as error:
            return replace(self._refused(kept.wish, str(error), error.needs), order=order)
        why, doubt = await kept.change(order)
        if why:
            return Result(order=order, state=State.NOT_SENT, text=why, wall_s=self._session.clock.now())
        message = f"kept alive at {hex_of(kept.data)} from now on"
        if doubt:  # what is repeated has changed; what the device holds nobody knows
            text = f"it may have been written or not: {doubt}; {message}"
            return Result(order=order, state=State.UNKNOWN, text=text, before=before, wall_s=self._session.clock.now())
        return Result(
            order=order, state=State.DONE, text=message, before=before, after=kept.data, is_equal=True,
            wall_s=self._session.clock.now(),
        )  # fmt: skip

    async def begin(
        self, wish: Wish, on_lost: Callable[[str], None] = lambda why: None
    ) -> tuple[KeptAlive | None, Result]:
        """The first one goes through the door as any write does; then it is repeated. `on_lost` is called where it ends
        by itself."""
        if not LEAST_PERIOD_S <= wish.period_s <= MOST_PERIOD_S:
            return None, self._refused(
                wish, f"a period is {LEAST_PERIOD_S:g} to {MOST_PERIOD_S:g} s, not {wish.period_s:g}"
            )
        try:
            wait, why = self.judge(wish)
        except OrderRefused as error:
            return None, self._refused(wish, str(error))
        if why:
            return None, self._refused(wish, why)
        self._count += 1
        kept = KeptAlive(self._count, wish, wait, self._orders, self._session)
        kept.on_lost = on_lost
        try:
            await kept.write_down()
        except CannotWriteDown as error:
            return None, self._refused(wish, str(error))

        def taken(outcome: Outcome) -> None:
            self._orders.hold(wish.order, kept.owner, f"“{kept.name}” kept alive", lambda: self._lost(kept))
            self._live(kept, outcome.sent_at + wish.period_s)

        result = await self._orders.send(wish.order, taken)
        if kept.number not in self.living and not kept.is_over:
            await kept.take_back()
            return None, result
        return kept, result

    def _live(self, kept: KeptAlive, due_s: float) -> None:
        """It has gone for the first time, and goes again then."""
        wish, order = kept.wish, kept.wish.order
        self.living[kept.number] = kept
        for offer in [offer for offer in self.offers if meets(offer.wish.order, order)]:
            self.offers.remove(offer)  # it was taken up again, or something else is there now
        poller = self._orders.poller_of(order)
        if wish.leaves_out_silent:
            poller.rest_silent(kept.owner, True)
        if wish.splits_reads:
            self._split(wish, poller)
        self._session.events.note(
            EventKind.KEPT_ALIVE, order.line, order.device,
            f"{order.name} is kept alive at {hex_of(order.data)} every {wish.period_s:g} s", going_on=kept.owner,
        )  # fmt: skip
        kept.start(due_s, self._ended_by_itself)

    def _split(self, wish: Wish, poller: LinePoller) -> None:
        device = self._orders.device_of(wish.order)
        watchdog_s = device.watchdog_s if device is not None else None
        most = registers_within(poller, watchdog_s - wish.period_s if watchdog_s is not None else wish.period_s)
        if most is not None:
            self._session.shorten_reads(wish.order.line, most)

    def _refused(self, wish: Wish, why: str, needs: Consent | None = None) -> Result:
        return Result(order=wish.order, state=State.NOT_SENT, text=why, needs=needs, wall_s=self._session.clock.now())

    def _ended_by_itself(self, kept: KeptAlive, why: str) -> None:
        why = why or "it could not go on"
        self._begin(self._stop_and_tell(kept, why))
        kept.on_lost(f"{kept.name} is not kept alive any more: {why}")

    def _begin(self, work: Coroutine[object, object, object]) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._ending.add(task)
        task.add_done_callback(self._ending.discard)

    async def _stop_and_tell(self, kept: KeptAlive, why: str) -> None:
        self._tell(await self.stop(kept, why))
        if kept.is_away and not self._is_over:
            await self._offer(kept)

    async def _offer(self, kept: KeptAlive) -> None:
        """It is not taken up by itself: a person may do so, once its device is back."""
        order, loop = kept.wish.order, asyncio.get_running_loop()
        ended_s, heard_s = loop.time(), kept.heard_s
        until = datetime.fromtimestamp(self._session.clock.at(ended_s)).strftime("%H:%M:%S")
        self._offers += 1
        wish = replace(kept.wish, order=replace(order, data=kept.data, consents=frozenset(), seen=None))
        held = f"{order.name} was held until {until}"
        offer = Offer(
            number=self._offers, wish=wish, text=f"{held}; {order.device or 'the device'} is away: K takes it up again",
            ended_wall_s=self._session.clock.at(ended_s),
        )  # fmt: skip
        self.offers.append(offer)
        while offer in self.offers and kept.heard_s <= heard_s and not self._is_over:
            await asyncio.sleep(_LOOK_S)
        if offer not in self.offers or self._is_over:
            return
        away = length_text(kept.heard_s - heard_s)
        text = f"{held}; {order.device or 'the device'} was away for {away}; K takes it up again"
        self.offers.remove(offer)
        self.offers.append(replace(offer, text=text))
        self._session.events.note(EventKind.KEPT_ALIVE, order.line, order.device, text, point=order.name)
        self._tell(text)

    def drop_offer(self, number: int) -> None:
        for offer in [offer for offer in self.offers if offer.number == number]:
            self.offers.remove(offer)

    def _lost(self, kept: KeptAlive) -> None:
        """A person took its registers over: no safe value is written into what is somebody else's now."""
        kept.wish = replace(kept.wish, safe=None)
        self._ended_by_itself(kept, "somebody took it over")

    async def stop(self, kept: KeptAlive, why: str) -> str:
        """End one of them; what came of it."""
        if kept.is_ending:
            return await kept.ended
        message = await kept.end()
        order = kept.wish.order
        self._orders.holders.release(kept.owner)
        for number in [number for number, other in self.living.items() if other is kept]:
            del self.living[number]
        with suppress(OrderRefused, KeyError):
            poller = self._orders.poller_of(order)
            poller.rest_silent(kept.owner, False)
            if not any(other.wish.splits_reads for other in self.of_line(order.line)):
                self._session.shorten_reads(order.line, None)
        self._session.events.end(order.line, order.device, kept.owner)
        text = f"{order.name} is not kept alive any more: {why}; {message}"
        self._session.events.note(EventKind.KEPT_ALIVE, order.line, order.device, text)
        if kept.is_owed and kept.wish.safe is not None:
            self._owe_safe(kept, kept.wish.safe)
        if not kept.ended.done():
            kept.ended.set_result(text)
        return text

    def _owe_safe(self, kept: KeptAlive, safe: bytes) -> None:
        """The device has not confirmed its safe value."""
        order, now_s = kept.wish.order, asyncio.get_running_loop().time()
        back = replace(
            order, data=safe, new_text=f"the safe value {hex_of(safe)}", old_text=hex_of(kept.data), seen=None,
            owner=f"safe value of {kept.owner}",
        )  # fmt: skip
        what = f"it was kept alive at {hex_of(kept.data)}, and its safe value {hex_of(safe)} is owed"
        way_back = self._owings.begin(back, kept.data, what, now_s, now_s, OwedStage.OWED)
        way_back.row = kept.row_left

    async def stop_all(self, why: str) -> None:
        await asyncio.gather(*(self.stop(kept, why) for kept in list(self.living.values())), return_exceptions=True)

    async def end(self, why: str) -> None:
        """The program ends."""
        self._is_over = True
        await self.stop_all(why)
        await asyncio.gather(*self._ending, return_exceptions=True)
