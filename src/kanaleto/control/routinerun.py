"""Runs a routine, step by step, each with one outcome that is reported. Points in conditions are only believed once
they were read after the step began.

A run is an event with its steps. It ends done, failed (then `on_failure` is run, once) or stopped; whatever it keeps
alive ends with it. What a write needs a word for is asked of the person who runs it; where nobody can be asked, the
step fails.
"""

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from enum import Enum

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.control.alive import KeptAlive, Wish
from kanaleto.control.alives import Alives
from kanaleto.control.condition import LOOK_S, Believed, ConditionFailed
from kanaleto.control.order import Order, Result, method_of, requests_of
from kanaleto.control.orders import OrderRefused, Orders
from kanaleto.control.routine import ProveWanted, Routine, RoutineStep, StepKind, ValueSpec
from kanaleto.control.routinefile import wanted_of
from kanaleto.control.wanted import CannotWrite, Wanted, wanted
from kanaleto.events.log import EventKind
from kanaleto.planning.plan import Identity, Place
from kanaleto.polling.session import Session
from kanaleto.supervision.owned import Owned, fault_sentence


class StepOutcome(Enum):
    """The value is the word used in files."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    SKIPPED = "skipped"
    WOULD = "would"


class StepNews(Struct, frozen=True):
    """A step, and what came of it."""

    step: RoutineStep
    outcome: StepOutcome
    said: str = ""
    wall_s: float = 0.0
    took_s: float = 0.0


class RunState(Struct, frozen=True, kw_only=True):
    """A run at one moment. `question` waits for an answer; `outcome` is empty while it goes on."""

    number: int
    name: str
    device: str
    steps: tuple[StepNews, ...]
    at: int
    begun_wall_s: float
    outcome: str = ""
    said: str = ""
    question: str = ""
    waits_to_go: bool = False


Ask = Callable[[str], Awaitable[bool]]
Prove = Callable[[ProveWanted], Awaitable[tuple[bool, str]]]
"""Reads a point as evidence: whether it is as expected, and what was seen, in words. Raises ConditionFailed."""
OnStep = Callable[[StepNews], None]


class RoutineRun:
    """One run. For the engine's loop; `state` is replaced whole."""

    def __init__(
        self, number: int, routine: Routine, session: Session, orders: Orders, alives: Alives,
        variables: Mapping[str, float], is_dry: bool = False, by_steps: bool = False, can_ask: bool = True,
    ) -> None:  # fmt: skip
        self.routine, self.owner = routine, f"routine {number}"
        self.on_step: OnStep = lambda step: None
        self.prove: Prove | None = None
        self._not_proved: list[str] = []
        self._session, self._orders, self._alives = session, orders, alives
        self._variables = {**dict(routine.variables), **variables}
        self._is_dry, self._by_steps, self._can_ask = is_dry, by_steps, can_ask
        self._believed = Believed(session, routine.device, self._variables, self.owner)
        self._kept: dict[Identity, KeptAlive] = {}
        self._answer: asyncio.Future[bool] | None = None
        self._go = asyncio.Event()
        self._lost = ""
        self._task: asyncio.Task[object] | None = None
        steps = tuple(StepNews(step, StepOutcome.WAITING) for step in routine.steps)
        self.state = RunState(
            number=number, name=routine.name, device=routine.device, steps=steps, at=0,
            begun_wall_s=session.clock.now(),
        )  # fmt: skip

    # From outside, in the loop's thread

    def answer(self, is_yes: bool) -> None:
        """To the question that waits."""
        if self._answer is not None and not self._answer.done():
            self._answer.set_result(is_yes)

    def go(self, to_the_end: bool = False) -> None:
        """The next step, where it is run step by step."""
        self._by_steps = self._by_steps and not to_the_end
        self._go.set()

    async def run(self) -> str:
        """Done, failed or stopped. Cancelling it stops it."""
        routine, session = self.routine, self._session
        line = next((line.name for line, device in session.site.devices() if device.name == routine.device), "")
        if not self._is_dry:
            self._event = session.events.note(
                EventKind.ROUTINE, line, routine.device, f"routine “{routine.name}” runs", going_on=self.owner
            )
        outcome, said = "done", ""
        self._task = asyncio.current_task()
        self._owned = Owned("routine")
        try:
            for at in range(len(routine.steps)):
                self.state = replace(self.state, at=at)
                await self._wait_to_go()
                self._owned.check()
                await self._step(at, routine.steps[at])
            if self._not_proved:
                raise ConditionFailed("; ".join(self._not_proved))
        except ConditionFailed as error:
            outcome, said = "failed", str(error)
        except Exception as error:  # an internal error: it fails as any other
            self._owned.fail(error)
            outcome, said = "failed", fault_sentence(error)
        except asyncio.CancelledError:
            outcome, said = ("failed", self._lost) if self._lost else ("stopped", "it was stopped")
            if self._lost and self._task is not None:
                self._task.uncancel()
        finally:
            self._owned.finish()
            self._skip_the_rest()
            for kept in list(self._kept.values()):
                said = "; ".join(
                    filter(None, (said, await self._alives.stop(kept, f"routine “{routine.name}” is over")))
                )
            self._kept.clear()
            self.state = replace(self.state, outcome=outcome, said=said, question="", waits_to_go=False)
            if not self._is_dry:
                self._event.data = {
                    "routine": routine.name, "outcome": outcome, "variables": self._variables,
                    "steps": [[step.step.text, step.outcome.value, step.said] for step in self.state.steps],
                }  # fmt: skip
                self._event.text = (
                    f"routine “{routine.name}” {outcome}{': ' + said if said and outcome != 'done' else ''}"
                )
                session.events.end(line, routine.device, self.owner)
        return outcome

    async def _wait_to_go(self) -> None:
        if self._by_steps and not self._is_dry:
            self._go.clear()
            self.state = replace(self.state, waits_to_go=True)
            await self._go.wait()
            self.state = replace(self.state, waits_to_go=False)

    def _skip_the_rest(self) -> None:
        for at, step in enumerate(self.state.steps):
            if step.outcome in (StepOutcome.WAITING, StepOutcome.RUNNING):
                was_running = step.outcome is StepOutcome.RUNNING
                self._note(at, StepOutcome.FAILED if was_running else StepOutcome.SKIPPED, step.said, step.took_s)

    def _note(self, at: int, outcome: StepOutcome, said: str = "", took_s: float = 0.0) -> None:
        steps = list(self.state.steps)
        step = steps[at] = StepNews(steps[at].step, outcome, said, self._session.clock.now(), took_s)
        self.state = replace(self.state, steps=tuple(steps))
        if outcome is not StepOutcome.RUNNING:
            self.on_step(step)

    async def _step(self, at: int, step: RoutineStep) -> None:
        loop = asyncio.get_running_loop()
        began_s = loop.time()
        self._note(at, StepOutcome.RUNNING)
        try:
            said = self._would(step) if self._is_dry else await self._do(step, began_s)
        except (ConditionFailed, OrderRefused, CannotWrite) as error:
            self._note(at, StepOutcome.FAILED, str(error), loop.time() - began_s)
            raise ConditionFailed(f"step {step.number}, {step.text}: {error}") from None
        outcome = StepOutcome.WOULD if self._is_dry else StepOutcome.DONE
        if step.kind is StepKind.PROVE and said in self._not_proved:
            outcome = StepOutcome.FAILED  # it is on the sheet, and the rest is proved all the same
        self._note(at, outcome, said, loop.time() - began_s)

    # What steps do

    async def _do(self, step: RoutineStep, began_s: float) -> str:
        match step.kind:
            case StepKind.WRITE:
                return "; ".join([await self._write(identity, spec) for identity, spec in step.targets])
            case StepKind.WAIT:
                return await self._wait(step.condition, step.within_s, began_s)
            case StepKind.HOLD:
                await asyncio.sleep(step.within_s)
            case StepKind.CHECK:
                if not await self._believed.holds(step.condition, began_s, step.within_s):
                    raise ConditionFailed(f"it is not so{self._believed.values_text(step.condition)}")
            case StepKind.ASK:
                if not await self._ask(step.text):
                    raise ConditionFailed("the answer was no")
            case StepKind.KEEP:
                return await self._keep(step)
            case StepKind.RELEASE:
                return "; ".join([await self._release(identity) for identity, _ in step.targets])
            case StepKind.RAMP:
                return await self._ramp(step, began_s)
            case StepKind.PROVE:
                return await self._prove_all(step)
        return ""

    async def _prove_all(self, step: RoutineStep) -> str:
        """Evidence of each point. What is not as expected fails the run, once all of it is done."""
        if self.prove is None:
            raise ConditionFailed("there is no checkout sheet here to prove it on")
        faults: list[str] = []
        is_well = True
        for (device, point), spec in step.targets:
            expected = f"{self._number(spec.expression):.12g}" if spec.expression else spec.text
            is_so, said = await self.prove(ProveWanted(device, point, expected, step.tolerance, step.level))
            is_well = is_well and is_so
            faults.append(said)
        text = "; ".join(faults)
        if not is_well:
            self._not_proved.append(text)
        return text

    def _would(self, step: RoutineStep) -> str:
        """What it would send."""
        texts = []
        for identity, spec in step.targets:
            if step.kind in (StepKind.WRITE, StepKind.KEEP):
                order = self._order(identity, spec)
                device = self._orders.device_of(order)
                requests = requests_of(order, device.limits) if device is not None else []
                sent = ", ".join(request.encode().hex(" ").upper() for request in requests)
                texts.append(f"{identity[0]}, unit {order.unit_id}: {sent} ({method_of(requests)})")
            elif step.ramp is not None:
                values = self._ramp_values(step)
                first = ", ".join(f"{value:g}" for value in values[:8])
                texts.append(f"{len(values)} writes: {first}{' …' if len(values) > 8 else ''}")
        return "; ".join(texts)

    def _place(self, identity: Identity) -> Place:
        place = self._session.plan.place_of(identity)
        if not isinstance(place, Place):
            raise ConditionFailed(f"{identity[0]}/{identity[1]} is not in the site any more")
        return place

    def _wanted(self, place: Place, spec: ValueSpec) -> Wanted:
        power = self._session.board.exponent_of(place.device.name, place.point)
        if power is None:
            raise ConditionFailed(f"{place.point.exponent}, the exponent of {place.point.name}, is not known")
        if spec.expression:
            return wanted(place.point, repr(self._number(spec.expression)), power)
        return wanted_of(place.point, spec, power)

    def _number(self, text: str) -> float:
        try:
            return self._believed.number(text)
        except (ArithmeticError, ValueError, KeyError) as error:
            raise ConditionFailed(f"{text} gives no number: {error}") from None

    def _order(self, identity: Identity, spec: ValueSpec, made: Wanted | None = None) -> Order:
        place = self._place(identity)
        point = place.point
        made = self._wanted(place, spec) if made is None else made
        return Order(
            line=place.line.name, unit_id=place.device.unit_id, device=place.device.name, table=point.table,
            address=point.address, data=made.data, mask=made.mask, points=(point.name,), new_text=made.text,
            owner=self.owner, may_repeat=point.writing.may_repeat,
        )  # fmt: skip

    async def _wait(self, condition: str, within_s: float, since_s: float) -> str:
        loop = asyncio.get_running_loop()
        while True:
            if await self._believed.holds(condition, since_s, max(since_s + within_s - loop.time(), 0.0)):
                return f"after {loop.time() - since_s:.1f} s"
            if loop.time() - since_s >= within_s:
                raise ConditionFailed(f"not within {within_s:g} s{self._believed.values_text(condition)}")
            await asyncio.sleep(LOOK_S)

    async def _write(self, identity: Identity, spec: ValueSpec, made: Wanted | None = None) -> str:
        order = self._order(identity, spec, made)
        kept = self._kept.get(identity) or next(
            (kept for key, kept in self._kept.items() if key[0] == identity[0] and _same_registers(kept, order)), None
        )
        if kept is not None:
            why, doubt = await kept.change(order)
            if why or doubt:
                raise ConditionFailed(why or f"it may have been written or not: {doubt}")
            return f"kept alive at {order.new_text}"
        result = await self._send(order)
        if not result.is_well and not (result.is_equal and result.outcome is not None):
            raise ConditionFailed(result.text)
        return result.text

    async def _send(self, order: Order) -> Result:
        result = await self._orders.send(order)
        while result.needs is not None and self._can_ask:
            if not await self._ask(result.text):
                return result
            order = order.with_consent(result.needs)
            result = await self._orders.send(order)
        return result

    async def _ask(self, question: str) -> bool:
        if not self._can_ask:
            raise ConditionFailed(f"nobody can be asked here: {question}")
        self._answer = asyncio.get_running_loop().create_future()
        self.state = replace(self.state, question=question)
        try:
            return await self._answer
        finally:
            self.state = replace(self.state, question="")
            self._answer = None

    async def _keep(self, step: RoutineStep) -> str:
        ((identity, spec),) = step.targets
        order = replace(self._order(identity, spec), is_urgent=False)
        safe = self._wanted(self._place(identity), step.safe).data if step.safe is not None else None
        wish = Wish(order=order, period_s=step.every_s, safe=safe, leaves_out_silent=True)
        kept, result = await self._alives.begin(wish, self._lose)
        while kept is None and result.needs is not None and self._can_ask and await self._ask(result.text):
            wish = replace(wish, order=wish.order.with_consent(result.needs))
            kept, result = await self._alives.begin(wish, self._lose)
        if kept is None:
            raise ConditionFailed(result.text)
        self._kept[identity] = kept
        return f"kept alive every {step.every_s:g} s"

    def _lose(self, why: str) -> None:
        """What a step keeps alive has ended by itself: the step that runs fails."""
        if self.state.outcome or self._lost or self._task is None:
            return
        self._lost = why
        self._note(self.state.at, StepOutcome.RUNNING, why)
        self._task.cancel()

    async def _release(self, identity: Identity) -> str:
        kept = self._kept.pop(identity, None)
        if kept is None:
            return f"{identity[1]} was not kept alive"
        return await self._alives.stop(kept, "released")

    def _ramp_values(self, step: RoutineStep) -> list[float]:
        assert step.ramp is not None
        start, to, by = (
            self._number(spec.expression) if spec.expression else float(spec.text)
            for spec in (step.ramp.start, step.ramp.to, step.ramp.by)
        )
        if by == 0 or abs(to - start) / abs(by) > 100_000:
            raise ConditionFailed(f"a ramp from {start:g} to {to:g} by {by:g} has no end")
        by = abs(by) if to >= start else -abs(by)
        count = int(abs(to - start) / abs(by) + 1e-9)
        values = [round(start + by * number, 9) for number in range(count + 1)]
        return values if abs(values[-1] - to) < 1e-9 else [*values, to]

    async def _ramp(self, step: RoutineStep, began_s: float) -> str:
        assert step.ramp is not None
        loop = asyncio.get_running_loop()
        ((identity, _),) = step.targets
        values = self._ramp_values(step)
        for number, value in enumerate(values):
            looked_s = loop.time()
            if step.condition and not await self._believed.holds(step.condition, looked_s, max(step.ramp.every_s, 2.0)):
                raise ConditionFailed(
                    f"at {value:g}: {step.condition} is not so any more{self._believed.values_text(step.condition)}"
                )
            await self._write(identity, ValueSpec(text=repr(value)))
            if number < len(values) - 1:
                await asyncio.sleep(max(step.ramp.every_s - (loop.time() - looked_s), 0.0))
        return f"{len(values)} writes"


def _same_registers(kept: KeptAlive, order: Order) -> bool:
    earlier = kept.wish.order
    return (earlier.line, earlier.unit_id, earlier.table, earlier.address, earlier.end) == (
        order.line, order.unit_id, order.table, order.address, order.end,
    )  # fmt: skip
