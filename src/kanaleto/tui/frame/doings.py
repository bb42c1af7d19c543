"""What the application does on a key from everywhere, where another part of it knows how."""

import asyncio
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from functools import partial
from importlib import import_module
from typing import TYPE_CHECKING

from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.draft import CannotEdit
from kanaleto.editing.news import Done
from kanaleto.polling.engine import Engine
from kanaleto.polling.session import Session
from kanaleto.tui.frame.keyrow import KeyRow
from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.frame.twice import EDITING
from kanaleto.tui.keeping import AppKeeping
from kanaleto.tui.opened import OpenedSite
from kanaleto.tui.shared.presses import Presses
from kanaleto.tui.shared.prompt import Prompt
from kanaleto.tui.shared.view import View
from kanaleto.tui.toolkit import Terminal
from kanaleto.tui.views import LIVE
from kanaleto.tui.write.question import Choice, WriteQuestion
from kanaleto.tui.writing import AppWriting

if TYPE_CHECKING:
    from kanaleto.control.alives import Offer
    from kanaleto.control.control import Control
    from kanaleto.control.preview import Spot
    from kanaleto.control.running import RunState
    from kanaleto.tui.write.line import WriteLine


class Doings(Terminal):
    """The application is one of these."""

    keeping: AppKeeping
    opened: OpenedSite
    engine: Engine
    writing: AppWriting
    counts_as_wire: bool
    notice: str
    presses: Presses
    line_to_write: "WriteLine | None" = None
    _asked: tuple[int, str] = (0, "")

    @property
    def snapshot(self) -> Snapshot:
        raise NotImplementedError

    def _view(self) -> View | None:
        raise NotImplementedError

    def is_sure(self, key: str, what: str, lines: set[str] | None = None) -> bool:
        raise NotImplementedError

    @property
    def control(self) -> "Control":
        return self.writing.control

    async def mount_writing(self) -> None:
        """The line that a value is typed into; it costs the first frame nothing."""
        await asyncio.to_thread(import_module, "kanaleto.tui.write.line")
        from kanaleto.tui.frame.acting import ActingFoot
        from kanaleto.tui.write.line import WriteLine

        _ = self.control
        line, key_row = WriteLine(), self.query_one(KeyRow)
        await self.query_one("#foot").mount(ActingFoot(), line, before=key_row)
        self.line_to_write = line

    def show_writing(self) -> None:
        line = self.line_to_write
        if line is None:
            return
        line.show(self.snapshot)
        from kanaleto.tui.frame.acting import ActingFoot, acting_rows  # which is loaded by now

        wall_s = self.engine.session.clock.at(self.snapshot.now_s)
        self.query_one(ActingFoot).take(acting_rows(self.control, wall_s))
        prompt = self.query_one(Prompt)
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
                Choice("y", "do it", lambda: self.do(lambda session: control.go(number))),
                Choice("z", "to the end", lambda: self.do(lambda session: control.go(number, True))),
                Choice("x", "stop it", lambda: self.do(lambda session: control.stop_run(number)), ends=True),
            ),
        )

    def answer_routine(self, number: int, is_yes: bool) -> None:
        """Answer a routine that asks."""
        self.do(lambda session: self.control.answer(number, is_yes))

    def write(self, spots: "Sequence[Spot]", bit: int | None = None, text: str | None = None) -> None:
        """Open that line, where writing is unlocked; else say how."""
        from kanaleto.control.wanted import why_not_writable

        first = spots[0]
        hint = " (A makes it writable)" if first.point.table.is_writable and not first.point.access.is_written else ""
        why = why_not_writable(first.point)
        why = f"{why}{hint}" if why else self.writing.lock.why_not(first.device.name if first.device else "")
        if why or self.line_to_write is None:
            self.tell(why or "in a moment")
            self.presses.refused(why or "the line to write into is not there yet")
        else:
            self.notice = ""  # the keys of the line matter more
            self.line_to_write.begin(spots, bit, text)

    def take_up(self, offer: "Offer") -> None:
        """Open the line that writes with what was kept alive until its device was away."""
        from kanaleto.control.preview import spot_of, text_of_wish
        from kanaleto.planning.plan import Place

        wish = offer.wish
        place = self.snapshot.place_of((wish.order.device, wish.order.points[0])) if wish.order.points else None
        if not isinstance(place, Place):
            self.tell(f"{wish.order.name} is no point of the site any more: it cannot be taken up again")
            return
        self.write([spot_of(place)], None, text_of_wish(place.point, wish))

    def action_take_up(self) -> None:
        """The newest that an outage ended; where there is none, the list of what acts."""
        offers = list(self.control.alives.offers)
        if offers:
            self.take_up(offers[-1])
        else:
            self.action_acting()

    def action_acting(self) -> None:
        """What acts now, or back to where one was."""
        from kanaleto.tui.frame.pages import ACTING

        self.show_page(ACTING)

    def show_page(self, name: str) -> None:
        raise NotImplementedError

    def ask_to_write(self, question: WriteQuestion) -> None:
        if self.line_to_write is not None:
            self.line_to_write.ask(question)

    def why_not_edited(self) -> "Future[Done] | None":
        """Where something is written again and again meanwhile, an edit is wanted twice."""
        if not self.writing.users_of(None) or self.is_sure(EDITING, "editing"):
            return None
        refused: Future[Done] = Future()
        refused.set_exception(CannotEdit("something is kept alive, or runs: do the edit again if you mean it"))
        return refused

    def switch(self, what: str, lines: set[str] | None, do: Callable[[Session], object]) -> None:
        """Switch something off; what is kept alive there is asked about."""
        users = [*self.writing.users_of(lines), *self.writing.owed_to(lines)]
        if not users or self.is_sure(what, what, lines):
            self.do(do)

    def action_lock(self) -> None:
        view = self._view()
        self.tell(self.writing.turn_lock(view.device_here if view is not None else ""))
        self.tick()

    def action_hold(self) -> None:
        held = not self.snapshot.is_held
        if held and not self.is_sure("space", "holding polling"):
            return
        self.do(lambda session: session.hold(held))
        self.tell("polling is held: values grow old until you resume it with space" if held else "polling goes on")

    def action_theme(self) -> None:
        self.theme = "fresco" if self.theme == "lagoon" else "lagoon"
        self.tick()

    def tell(self, notice: str) -> None:
        raise NotImplementedError

    def tick(self) -> None:
        raise NotImplementedError

    def go_live(self) -> None:
        raise NotImplementedError

    def do(self, what: Callable[[Session], object]) -> None:
        raise NotImplementedError

    def action_view(self, digit: str) -> None:
        raise NotImplementedError

    def action_record(self) -> None:
        self.keeping.record()

    def action_same_points(self) -> None:
        self.tell(self.keeping.take_as_same())

    def action_note(self) -> None:
        self.keeping.ask_note()

    def action_count(self) -> None:
        self.counts_as_wire = not self.counts_as_wire
        self.tell(
            "addresses as the wire counts them, from 0"
            if self.counts_as_wire
            else "addresses as each device's manual counts them"
        )
        self.tick()

    def action_lanes(self) -> None:
        lanes = self.query_one(Lanes)
        lanes.display = not lanes.display

    def action_lanes_by(self, step: int) -> None:
        lanes = self.query_one(Lanes)
        lanes.display = True
        lanes.step(step)

    def action_go_live(self) -> None:
        self.go_live()
        self.tell("all views follow what is read now")

    async def action_past(self) -> None:
        from kanaleto.tui.live.view import LiveView  # which is loaded by now

        self.action_view(LIVE)
        await self.query_one(LiveView).action_part("past")

    async def action_moved(self) -> None:
        from kanaleto.tui.live.view import LiveView  # which is loaded by now

        self.action_view(LIVE)
        await self.query_one(LiveView).action_part("moved")

    def action_new_site(self) -> None:
        self.opened.new_site()

    def action_save_as(self) -> None:
        self.opened.save_as()

    def action_undo(self) -> None:
        self.opened.undo()

    def action_redo(self) -> None:
        self.opened.redo()

    def action_save_lessons(self) -> None:
        self.opened.save_lessons()

    def action_cycle(self) -> None:
        self.do(lambda session: session.cycle())

    def action_reset_counts(self) -> None:
        self.do(lambda session: session.reset_counts())
