"""Writing, as the application deals with it: the lock, what it says in the top row, and the core's control from its
beginning to its end."""

import asyncio
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TypeVar, cast

from textual.widget import Widget

from kanaleto.board.snapshot import Snapshot
from kanaleto.control.lock import Lock
from kanaleto.editing.door import Door
from kanaleto.editing.news import Done
from kanaleto.editing.workingcopy import CannotEdit
from kanaleto.events.log import EventKind
from kanaleto.files.beside import folder_beside
from kanaleto.polling.engine import Engine, EngineEnded
from kanaleto.site.model import Writing as How
from kanaleto.site.origin import Origin
from kanaleto.tui.frame.keeping import AppKeeping
from kanaleto.tui.frame.keyrow import KeyRow
from kanaleto.tui.frame.twice import EDITING
from kanaleto.tui.shared.presses import Presses
from kanaleto.tui.shared.prompt import Prompt
from kanaleto.tui.shared.proofing import AppProof
from kanaleto.tui.shared.question import Choice, WriteQuestion

if TYPE_CHECKING:
    from kanaleto.control.alives import Offer
    from kanaleto.control.control import Control
    from kanaleto.control.ledger import LedgerRow, Left
    from kanaleto.control.preview import Spot
    from kanaleto.control.routinerun import RunState
    from kanaleto.polling.session import Session
    from kanaleto.tui.write.line import WriteLine

_TWICE_S = 3.0
_SITE = "the site"
_STOP_S, _END_S = 8.0, 3.6


W = TypeVar("W", bound=Widget)


class _WritingHost(Protocol):
    engine: Engine
    door: Door
    presses: Presses
    proof: AppProof
    notice: str

    @property
    def snapshot(self) -> Snapshot: ...

    def tell(self, notice: str) -> None: ...

    def do(self, what: "Callable[[Session], object]") -> None: ...

    def later(self, what: Callable[[], object]) -> None: ...

    def is_sure(self, key: str, what: str, lines: set[str] | None = None) -> bool: ...

    def query_one(self, which: type[W]) -> W: ...


class AppWriting:
    """`control` is the core's; nothing on the screen writes by another way."""

    def __init__(self, screen: _WritingHost, keeping: AppKeeping, is_read_only: bool) -> None:
        self._screen = screen
        self.lock = Lock(is_read_only)
        self._keeping = keeping
        self._control: Control | None = None
        self._unlocked_at: tuple[str, float] = ("", -1e9)
        self.line: WriteLine | None = None
        """That a value is typed into; mounted once the first frame stands."""
        self._asked: tuple[int, str] = (0, "")
        self.left: list[str] = []
        """What could not be ended as it should, in words, once the application has ended."""

    @property
    def control(self) -> "Control":
        """Made when it is first wanted: once the first frame stands."""
        if self._control is None:
            from kanaleto.control.control import Control

            made = Control(self._screen.engine.session, self.lock, _LateLedger(self._keeping), self._folder)
            made.prove = self._screen.proof.prove
            self._control = made
            made.tellers.append(lambda text: self._screen.later(lambda: self._screen.tell(text)))
            self._screen.engine.do(lambda session: session.listen(made))
            self._screen.engine.run(made.look_back())
        return self._control

    def _folder(self) -> Path | None:
        path = self._screen.door.opened.path
        return folder_beside(path) if path is not None and path.exists() else None

    def _why_only_listened(self, device: str) -> str:
        """Where somebody else is master nothing is sent, and nothing can be unlocked."""
        found = self._screen.snapshot.status_of(device) if device else None
        if found is None:
            return ""
        line = found[0]
        is_so = line.lent_to == "listening" or line.line.origin == Origin.OVERHEARD.value
        return f"nothing can be unlocked: {line.line.name} is only listened to" if is_so else ""

    def turn_lock(self, device: str) -> str:
        """`u`: unlock the device in view; pressed again at once, the site; else lock. What is to be reported."""
        now_s = self._screen.engine.now_s()
        if self.lock.is_read_only:
            return self.lock.why_not("")
        unlocked, _ = self.lock.unlocked_now()
        before, at_s = self._unlocked_at
        if unlocked and before and now_s - at_s < _TWICE_S:
            why = self._screen.presses.why_not
            if why:
                return why
            self._unlocked_at = ("", -1e9)
            return self._unlock_site()
        if unlocked:
            self._unlocked_at = ("", -1e9)
            self._screen.engine.do(lambda session: self.control.lock_now("writing is locked: u unlocks it"))
            self.lock.lock()
            alive = len(self.control.alive)
            still = f"; {alive} kept alive go on until they are stopped" if alive else ""
            return self._note(f"writing is locked{still}", "")
        why = self._screen.presses.why_not or self._why_only_listened(device)
        if why:
            return why
        if not device and not (before == _SITE and now_s - at_s < _TWICE_S):
            self._unlocked_at = (_SITE, now_s)
            return "no device is in view: u again unlocks the whole site"
        if not device:
            self._unlocked_at = ("", -1e9)
            return self._unlock_site()
        how = self._how(device)
        if how is How.NEVER:
            return f'{device} is never written: the site file says writing = "never"'
        self._unlocked_at = (device, now_s)
        self._unlock(device)
        return self._note(f"writing is unlocked for {device}, for 10 minutes; u again at once: the whole site", device)

    def _unlock_site(self) -> str:
        self._unlock()
        if self._is_never_written:
            return self._note(
                "each device of this site is never written: only units that it does not name can be; u locks", ""
            )
        return self._note("writing is unlocked for the whole site, for 10 minutes; u locks it", "")

    def _unlock(self, device: str = "") -> None:
        self.lock.unlock(device)
        self._screen.presses.counted()

    def take_back(self, why: str) -> None:
        """It was unlocked by what was no decision."""
        self._unlocked_at = ("", -1e9)
        self._screen.engine.do(lambda session: self.control.lock_now(why))
        self.lock.lock(why)
        self._note(why, "")

    def reaches(self, unlocked: str) -> str:
        """What is unlocked, for people, where `unlocked` is the lock's own word for it."""
        return "no device of it" if unlocked == "the site" and self._is_never_written else unlocked

    @property
    def _is_never_written(self) -> bool:
        ways = [device.writing for _, device in self._screen.engine.snapshot.site.devices()]
        return bool(ways) and all(how is How.NEVER for how in ways)

    def _how(self, name: str) -> How:
        site = self._screen.engine.snapshot.site
        return next((device.writing for _, device in site.devices() if device.name == name), How.UNLOCK)

    def _note(self, text: str, device: str) -> str:
        def note(session: "Session") -> None:
            session.events.note(EventKind.LOCK, "", device, text.partition(";")[0])

        self._screen.engine.do(note)
        return text

    def users_of(self, lines: set[str] | None) -> list[str]:
        """What is kept alive, or runs, on these lines (on all where none are named): whoever would close them asks."""
        names = [
            f"{state.wish.order.device or f'unit {state.wish.order.unit_id}'}: {state.wish.order.name} is kept alive"
            for state in self.control.alive
            if lines is None or state.wish.order.line in lines
        ]
        site = self._screen.engine.snapshot.site
        of_line = {device.name: line.name for line, device in site.devices()}
        names += [
            f"routine “{run.name}” runs"
            for run in self.control.running
            if lines is None or of_line.get(run.device, "") in lines
        ]
        return names

    def owed_to(self, lines: set[str] | None) -> list[str]:
        """What has to be given back on these lines yet."""
        if self._control is None:
            return []
        return [
            f"{state.order.device or f'unit {state.order.unit_id}'}: {state.order.name} is owed {state.order.new_text}"
            for state in self._control.owings.states
            if lines is None or state.order.line in lines
        ]

    def acting(self) -> tuple[str, int, str]:
        """What is held, pulsing, owed or was left standing, in words; how much of it there is; and its tone."""
        if self._control is None:
            return "", 0, "muted"
        from kanaleto.control.owed import OwedStage  # which is loaded by now

        owed = self._control.owings.states
        counts = {
            "held": len(self._control.alive),
            "pulsing": sum(owed_state.stage is OwedStage.PULSING for owed_state in owed),
            "owed": sum(owed_state.stage in (OwedStage.OWED, OwedStage.ASKS) for owed_state in owed),
            "left standing": sum(owed_state.stage is OwedStage.LEFT for owed_state in owed),
            "lost": len(self._control.alives.offers),
        }
        text = " · ".join(f"{count} {name}" for name, count in counts.items() if count)
        is_grave = counts["owed"] or counts["left standing"]
        return text, sum(counts.values()), "terracotta" if is_grave else "ochre"

    # The line that writes

    async def mount(self) -> None:
        """The line that a value is typed into; it costs the first frame nothing."""
        await asyncio.to_thread(import_module, "kanaleto.tui.write.line")
        from kanaleto.tui.frame.acting import ActingFoot
        from kanaleto.tui.write.line import WriteLine

        _ = self.control
        line, key_row = WriteLine(), self._screen.query_one(KeyRow)
        foot = cast(Widget, key_row.parent)
        await foot.mount(ActingFoot(), line, before=key_row)
        self.line = line

    def show(self) -> None:
        line = self.line
        if line is None:
            return
        line.show(self._screen.snapshot)
        from kanaleto.tui.frame.acting import ActingFoot, acting_rows  # which is loaded by now

        wall_s = self._screen.engine.session.clock.at(self._screen.snapshot.now_s)
        self._screen.query_one(ActingFoot).take(acting_rows(self.control, wall_s))
        prompt = self._screen.query_one(Prompt)
        for run in self.control.running:
            if run.question and not line.is_open and not prompt.is_open and self._asked != (run.number, run.question):
                self._asked = (run.number, run.question)
                yes, no = (partial(self.answer_routine, run.number, is_yes) for is_yes in (True, False))
                choices = (Choice("y", "yes", yes), Choice("n", "no", no, ends=True))
                line.ask(WriteQuestion(f"“{run.name}” asks", run.question, choices))

            elif (
                run.waits_to_go and not line.is_open and not prompt.is_open and self._asked != (run.number, str(run.at))
            ):
                self._asked = (run.number, str(run.at))
                line.ask(self._next_step(run))

    def _next_step(self, run: "RunState") -> WriteQuestion:
        """One key goes on, step by step."""
        number, control = run.number, self.control
        step = run.steps[min(run.at, len(run.steps) - 1)].step
        return WriteQuestion(
            f"“{run.name}”: step {step.number} of {len(run.steps)} is next",
            step.text,
            (
                Choice("y", "do it", lambda: self._screen.do(lambda session: control.go(number))),
                Choice("z", "to the end", lambda: self._screen.do(lambda session: control.go(number, True))),
                Choice("x", "stop it", lambda: self._screen.do(lambda session: control.stop_run(number)), ends=True),
            ),
        )

    def answer_routine(self, number: int, is_yes: bool) -> None:
        """Answer a routine that asks."""
        self._screen.do(lambda session: self.control.answer(number, is_yes))

    def write(self, spots: "Sequence[Spot]", bit: int | None = None, text: str | None = None) -> None:
        """Open that line, where writing is unlocked; else say how."""
        from kanaleto.control.wanted import why_not_writable

        first = spots[0]
        hint = " (A makes it writable)" if first.point.table.is_writable and not first.point.access.is_written else ""
        why = why_not_writable(first.point)
        why = f"{why}{hint}" if why else self.lock.why_not(first.device.name if first.device else "")
        if why or self.line is None:
            self._screen.presses.refused(why or "in a moment: the line to write into is not there yet")
        else:
            self._screen.notice = ""  # the keys of the line matter more
            self.line.begin(spots, bit, text)

    def take_up(self, offer: "Offer") -> None:
        """Open the line that writes with what was kept alive until its device was away."""
        from kanaleto.control.preview import spot_of, text_of_wish
        from kanaleto.planning.plan import Place

        wish = offer.wish
        place = self._screen.snapshot.place_of((wish.order.device, wish.order.points[0])) if wish.order.points else None
        if not isinstance(place, Place):
            self._screen.tell(f"{wish.order.name} is no point of the site any more: it cannot be taken up again")
            return
        self.write([spot_of(place)], None, text_of_wish(place.point, wish))

    def ask_to_write(self, question: WriteQuestion) -> None:
        if self.line is not None:
            self.line.ask(question)

    def why_not_edited(self) -> "Future[Done] | None":
        """Where something is written again and again meanwhile, an edit is wanted twice."""
        if not self.users_of(None) or self._screen.is_sure(EDITING, "editing"):
            return None
        refused: Future[Done] = Future()
        refused.set_exception(CannotEdit("something is kept alive, or runs: do the edit again if you mean it"))
        return refused

    # The end

    def leave(self) -> None:
        """Another site is about to be opened: what is kept alive ends while its lines are still there. It may take its
        time."""
        self.lock.lock("writing was locked when another site was opened: u unlocks it")
        if self._control is not None:
            try:
                self._screen.engine.run(self._control.leave("another site is opened")).result(_STOP_S)
            except (EngineEnded, TimeoutError):
                return

    def stop(self) -> None:
        """The application ends, or has failed: what is kept alive ends in its defined way."""
        if self._control is None:
            return
        control = self._control
        try:
            self.left = self._screen.engine.run(control.stop()).result(_END_S)
        except EngineEnded:
            self.left = control.end_without_engine(still_writes=False)
        except TimeoutError:
            self.left = control.end_without_engine(still_writes=True)


class _LateLedger:
    """The journal's, which is opened once the first frame stands."""

    def __init__(self, keeping: AppKeeping) -> None:
        self._keeping = keeping

    async def begin(self, row: "LedgerRow") -> int:
        ledger = await self._keeping.ledger()
        if ledger is None:
            from kanaleto.control.ledger import CannotWriteDown  # which is loaded by now

            raise CannotWriteDown("the journal is not open yet, so nothing is sent")
        return await ledger.begin(row)

    async def complete(
        self, number: int, wall_s: float, data: dict[str, object], count: int = 1, goes_on: bool = False
    ) -> None:
        ledger = await self._keeping.ledger()
        if ledger is not None:
            await ledger.complete(number, wall_s, data, count, goes_on)

    async def take_back(self, number: int) -> None:
        ledger = await self._keeping.ledger()
        if ledger is not None:
            await ledger.take_back(number)

    async def settle(self, number: int, wall_s: float, text: str) -> None:
        ledger = await self._keeping.ledger()
        if ledger is not None:
            await ledger.settle(number, wall_s, text)

    async def left(self) -> "list[Left]":
        ledger = await self._keeping.ledger()
        return await ledger.left() if ledger is not None else []
