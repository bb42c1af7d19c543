"""All that tells devices what to do, as one thing: the lock, the door, what is kept alive, routines and their runs. A
sink of the session; its methods are for the engine's loop, its plain attributes may be read by anybody."""

import asyncio
from collections import deque
from collections.abc import Callable, Collection, Coroutine, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, TypeVar

from msgspec.structs import replace

from kanaleto.board.listener import Sink
from kanaleto.board.world import World
from kanaleto.control.after import watch
from kanaleto.control.alive import AliveState, Wish
from kanaleto.control.alives import Alives
from kanaleto.control.condition import Believed, ConditionFailed
from kanaleto.control.ledger import CannotWriteDown, Ledger
from kanaleto.control.lock import Lock
from kanaleto.control.order import Consent, Order, Owed, Result, State
from kanaleto.control.orders import Orders
from kanaleto.control.owed import Owings, WayBack
from kanaleto.control.routine import Routine
from kanaleto.control.routinefile import read_routines, routine_paths
from kanaleto.control.routinerun import Prove, RoutineRun, RunState
from kanaleto.control.sameness import Sameness
from kanaleto.control.waits import Wait
from kanaleto.events.log import Event, EventKind, stands_for
from kanaleto.polling.session import Session
from kanaleto.site.filefaults import Fault
from kanaleto.site.model import KEEPING_EVENTS, Site
from kanaleto.supervision.owned import owned_task

_LOOK_EVERY_S = 2.0
_MOST_RUNS = 50
_END_S = 2.5

T = TypeVar("T")
_Stamps = tuple[tuple[Path, int, int], ...]


class Control(Sink):
    """`folder` is where what is known of devices is kept, or None."""

    def __init__(self, session: Session, lock: Lock, ledger: Ledger, folder: Callable[[], Path | None]) -> None:
        self.lock = lock
        self.orders = Orders(session, lock, ledger, Sameness(folder))
        self.tellers: list[Callable[[str], None]] = []
        self.prove: Prove | None = None
        """Keeps what routines prove."""
        """Each hears what a person is to read, on the engine's loop."""
        self.owings = Owings(session, self.orders, self._tell)
        self.alives = Alives(session, self.orders, self.owings, self._tell)
        self.left: list[str] = []
        """What was not confirmed when the program ended, in words."""
        self.routines: dict[str, Routine] = {}
        self.faults: tuple[Fault, ...] = ()
        self.runs: deque[RunState] = deque(maxlen=_MOST_RUNS)
        """Those that are over, the newest last."""
        self.later: dict[int, str] = {}
        self._session = session
        self._running: dict[int, tuple[RoutineRun, asyncio.Task[str]]] = {}
        self._run_count = 0
        self._tasks: set[asyncio.Task[Any]] = set()
        self._watched = 0
        self._stamps: _Stamps | None = None
        self._looked_s = -1e9
        self._path: Path | None = session.site.path
        self._upon: dict[str, tuple[Believed, bool]] = {}
        self._begun_s: dict[str, float] = {}
        self._begun_at: dict[str, int] = {}
        self._is_over = False
        session.events.listeners.append(self._on_event)

    # One write, several, and what becomes of them

    async def send(self, order: Order, on_later: Callable[[str], None] = lambda text: None) -> Result:
        """Through the door; the point is watched for some seconds then, and what becomes of it is reported to
        `on_later`."""
        held = None
        if not order.owner and Consent.HOLDER not in order.consents:
            held = self.alives.holding(order)
        # a person's own is changed; what a routine keeps alive is the routine's
        if held is not None and not held.wish.order.owner and self._is_within(order, held.wish.order):
            changed = await self.alives.change(held, order)
            if changed.needs is None:
                self.orders.last.append(changed)
            return changed
        result = await self.orders.send(order)
        if result.is_well and order.reads_back and result.after is not None:
            self._watched += 1
            self._begin(self._watch(self._watched, result, on_later))
        return result

    @staticmethod
    def _is_within(order: Order, kept: Order) -> bool:
        """Whether a bit, or the whole, of what is kept alive is to be another; a broadcast goes to others too."""
        return (order.unit_id, order.address, order.end) == (kept.unit_id, kept.address, kept.end)

    async def _watch(self, number: int, result: Result, on_later: Callable[[str], None]) -> None:
        said, has_stayed = await watch(self.orders, result, lambda: self._is_over or self._watched != number)
        order = result.order
        if said and not has_stayed:
            self._session.events.note(EventKind.WRITE, order.line, order.device, said, point=order.name)
        if said:
            on_later(said)

    async def send_all(self, orders: Sequence[Order], on_each: Callable[[Result], None]) -> list[Result]:
        return await self.orders.send_all(orders, on_each)

    async def pulse(self, order: Order, back: Order, for_s: float, on_half: Callable[[Result], None]) -> Result:
        """A value for some seconds, then the other. The way back is owed from the first byte on, whatever comes of it:
        where the lock has closed meanwhile, after an outage, and where the program ends. What came of the first try of
        it; what becomes of it later is reported."""
        order = replace(order, owed=Owed(back.data, back.new_text))
        back = replace(back, seen=None, consents=order.consents, old_text=order.new_text)
        owed: list[WayBack] = []

        def on_sending(now_s: float) -> None:
            if not owed:
                what = f"a pulse of {for_s:g} s"
                owed.append(self.owings.begin(back, order.data, what, now_s + for_s, now_s, cause=order))

        first = await self.orders.send(order, on_sending=on_sending)
        for way_back in owed:
            if first.state in (State.NOT_SENT, State.REFUSED):
                self.owings.drop(way_back)
            elif first.outcome is not None:
                way_back.row = first.row
                way_back.begun_at(first.outcome.sent_at, for_s)
        on_half(first)
        if first.state in (State.NOT_SENT, State.REFUSED) or not owed:
            return first
        return await asyncio.shield(owed[0].first)

    def _tell(self, text: str) -> None:
        for teller in list(self.tellers):
            teller(text)

    async def look_back(self) -> None:
        """What a program that was killed, or could not end as it should, left standing here: a person is notified at
        once, and may give it back."""
        with suppress(CannotWriteDown):
            for left in reversed(await self.orders.ledger.left()):
                text = self.owings.take_left(left)
                if text:
                    self._tell(text)

    async def leave(self, why: str) -> None:
        """Another site is about to be opened: all that acts on this one ends while its lines are there."""
        await asyncio.gather(self.stop_all(why), self.owings.stop(_END_S))
        left, self.owings.left = self.owings.left, []
        for text in left:
            self._tell(text)

    async def leave_lines(self, lines: Collection[str], why: str) -> list[str]:
        """Other devices are about to answer on these lines: all that acts there ends while its own are there. What is
        still owed then, in words."""
        of_line = {device.name: line.name for line, device in self._session.site.devices()}
        tasks = [task for run, task in self._running.values() if of_line.get(run.routine.device) in lines]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        held = [kept for line in lines for kept in self.alives.of_line(line)]
        await asyncio.gather(*(self.alives.stop(kept, why) for kept in held), return_exceptions=True)
        for offer in [offer for offer in self.alives.offers if offer.wish.order.line in lines]:
            self.alives.drop_offer(offer.number)
        return await self.owings.settle_on(lines, _END_S)

    def end_all(self, why: str) -> None:
        """One key ends all: routines, what is kept alive (with its safe values), pulses, what is owed."""
        self._begin(self.stop_all(why))
        self.owings.hurry()

    def _begin(self, work: Coroutine[object, object, T]) -> "asyncio.Task[T]":
        task: asyncio.Task[T] = owned_task("what follows a write", work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        return task

    # The lock

    def lock_now(self, why: str) -> None:
        """Nothing is written any more, but for safe values at an end; routines that run are stopped by it."""
        self.orders.granted = set()
        self.lock.lock(why)

    # Kept alive

    def judge(self, wish: Wish) -> tuple[Wait, str]:
        return self.alives.judge(wish)

    @property
    def alive(self) -> tuple[AliveState, ...]:
        return self.alives.states

    async def stop_alive(self, number: int, why: str) -> str:
        kept = self.alives.living.get(number)
        return await self.alives.stop(kept, why) if kept is not None else "it is not kept alive any more"

    # Routines

    def run(
        self, name: str, variables: Mapping[str, float] | None = None, is_dry: bool = False, by_steps: bool = False,
        can_ask: bool = True,
    ) -> RoutineRun:  # fmt: skip
        """Begin to run a routine. Raises KeyError, and ValueError where it runs already or a variable is not its
        own."""
        routine = self.routines[name]
        for variable in variables or {}:
            if variable not in dict(routine.variables):
                known = ", ".join(dict(routine.variables)) or "none"
                raise ValueError(f"routine {name!r} has no variable {variable!r}; it has {known}")
        if not is_dry and any(run.routine.device == routine.device for run, _ in self._running.values()):
            raise ValueError(f"a routine of {routine.device} runs already")
        why = self.lock.why_not(routine.device)
        if why and not is_dry:
            raise ValueError(why)
        self._run_count += 1
        run = RoutineRun(
            self._run_count, routine, self._session, self.orders, self.alives, variables or {}, is_dry, by_steps,
            can_ask,
        )  # fmt: skip
        run.prove = self.prove
        task = asyncio.get_running_loop().create_task(self._run(run, is_dry), name=run.owner)
        self._running[self._run_count] = (run, task)
        return run

    async def _run(self, run: RoutineRun, is_dry: bool, after: str = "") -> str:
        if not is_dry:
            self.orders.granted.add(run.owner)
        try:
            outcome = await run.run()
        finally:
            self.orders.granted.discard(run.owner)
            self._running.pop(run.state.number, None)
            self.runs.append(run.state)
        follows = run.routine.on_failure
        if outcome == "failed" and follows and not after and not is_dry and not self._is_over:
            await self._make_good(follows, run)
        return outcome

    async def _make_good(self, name: str, failed: RoutineRun) -> None:
        """What a routine names for its failure, once."""
        routine = self.routines.get(name)
        if routine is None or self.lock.is_read_only or self.lock.why_not(routine.device):
            self._session.events.note(
                EventKind.ROUTINE, "", failed.routine.device, f"“{name}” was not run: writing is locked by now"
            )
            return
        self._run_count += 1
        run = RoutineRun(self._run_count, routine, self._session, self.orders, self.alives, {}, can_ask=False)
        run.prove = self.prove
        run.on_step = failed.on_step
        task = asyncio.current_task()
        if task is not None:
            self._running[self._run_count] = (run, task)
        await self._run(run, is_dry=False, after=failed.routine.name)

    @property
    def running(self) -> tuple[RunState, ...]:
        return tuple(run.state for run, _ in list(self._running.values()))

    async def finished(self, run: RoutineRun) -> str:
        """Wait for its end, and for that of what is run upon its failure."""
        found = self._running.get(run.state.number)
        return await found[1] if found is not None else run.state.outcome

    def stop_run(self, number: int) -> None:
        found = self._running.get(number)
        if found is not None:
            found[1].cancel()

    def answer(self, number: int, is_yes: bool) -> None:
        found = self._running.get(number)
        if found is not None:
            found[0].answer(is_yes)

    def go(self, number: int, to_the_end: bool = False) -> None:
        found = self._running.get(number)
        if found is not None:
            found[0].go(to_the_end)

    # Files of routines, and routines that begin by themselves

    async def load_routines(self) -> None:
        """Read those of the site again."""
        site = self._session.site
        stamps, (routines, faults) = await asyncio.to_thread(_read, site)
        self._stamps = stamps
        self.take_routines(routines, faults)

    def take_routines(self, routines: dict[str, Routine], faults: Sequence[Fault]) -> None:
        """These are the site's now. One that begins by itself does so at the next change, not at once."""
        self.routines, self.faults = routines, tuple(faults)
        upon = {r.name: r.upon for r in routines.values() if r.upon and r.upon not in KEEPING_EVENTS}
        self._upon = {
            name: self._upon.get(name) or (Believed(self._session, routines[name].device, {}, f"upon {name}"), True)
            for name in upon
        }

    async def _look(self) -> None:
        site = self._session.site
        if site.path is None:
            return
        if await asyncio.to_thread(_stamps, site) != self._stamps:
            await self.load_routines()

    def on_plan(self, world: World) -> None:
        if world.site.path != self._path:
            self._path = world.site.path
            self.lock_now("writing was locked when another site was opened: u unlocks it")
            self._stamps = None
            self._begin(self.stop_all("another site was opened"))
            self._begin(self.look_back())
        self._looked_s = -1e9

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        if now_s - self._looked_s >= _LOOK_EVERY_S and not self._is_over:
            self._looked_s = now_s
            self._begin(self._look())
        for name in list(self._upon):
            self._look_upon(name, now_s)

    def _on_event(self, event: Event) -> None:
        """What has just begun may be what a routine begins upon."""
        for routine in list(self.routines.values()):
            if not stands_for(event, routine.upon) or event.count > 1:
                continue
            if self._begun_at.get(routine.name) == event.number:
                continue  # the loss of its device became the outage of its line
            line = next(
                (line.name for line, device in self._session.site.devices() if device.name == routine.device), ""
            )
            is_lost = event.kind.value != routine.upon
            lost = (event.data or {}).get("devices", ())
            is_here = not event.device and event.line == line and (not is_lost or routine.device in list(lost))  # type: ignore[call-overload]
            if event.device == routine.device or is_here:
                self._begun_at[routine.name] = event.number
                self._begin_upon(routine, asyncio.get_running_loop().time())

    def _look_upon(self, name: str, now_s: float) -> None:
        routine = self.routines[name]
        believed, before = self._upon[name]
        try:
            holds = believed.holds_now(routine.upon)
        except (ConditionFailed, ValueError):
            holds = False
        self._upon[name] = (believed, holds)
        if holds and not before:
            self._begin_upon(routine, now_s)

    def _begin_upon(self, routine: Routine, now_s: float) -> None:
        """Begin it by itself, at most so often."""
        name = routine.name
        if now_s - self._begun_s.get(name, -1e9) < routine.at_most_every_s:
            why = f"it ran less than {routine.at_most_every_s:g} s ago"
        else:
            self._begun_s[name] = now_s
            try:
                self.run(name, can_ask=False)
                return
            except (KeyError, ValueError) as error:
                why = str(error)
        self._session.events.note(
            EventKind.ROUTINE, "", routine.device, f"routine “{name}” was not run upon {routine.upon}: {why}"
        )

    # The end

    async def stop_all(self, why: str) -> None:
        """Runs are stopped, what is kept alive ends in its defined way."""
        tasks = [task for _, task in self._running.values()]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        await self.alives.stop_all(why)

    def end_without_engine(self, still_writes: bool) -> list[str]:
        """The engine itself has failed: safe values go out on connections of their own. What may still stand, or
        (`still_writes`) may still be written since polling did not end, in words. For any thread."""
        messages = []
        for kept in list(self.alives.living.values()):
            left = kept.send_safe_alone(self._session.site)
            if still_writes:
                left = left or f"{kept.name}: its safe value was sent"
                left += "; polling did not end in time, so it may still be written until this process is gone"
            if left:
                messages.append(left)
        for order in [state.order for state in self.owings.states]:
            messages.append(f"{order.device}: {order.name} is owed {order.new_text}, which was not sent")
        return messages

    async def stop(self) -> list[str]:
        """The program ends. What the devices did not confirm, in words."""
        self._is_over = True
        tasks = [task for _, task in self._running.values()]
        for task in tasks:
            task.cancel()
        # all lines at once, and all in the same time
        await asyncio.gather(
            self.alives.end("the program ends"), self.owings.stop(_END_S), *tasks, return_exceptions=True
        )
        await self.owings.stop(0.0)  # safe values that were not confirmed
        self.left = self.owings.left
        others = [task for task in self._tasks if task is not asyncio.current_task()]
        for task in others:
            task.cancel()
        await asyncio.gather(*others, return_exceptions=True)
        return self.left


def _stamps(site: Site) -> _Stamps:
    found = []
    for path in routine_paths(site):
        try:
            status = path.stat()
        except OSError:
            continue
        found.append((path, status.st_mtime_ns, status.st_size))
    return tuple(found)


def _read(site: Site) -> tuple[_Stamps, tuple[dict[str, Routine], list[Fault]]]:
    return _stamps(site), read_routines(site)
