"""What the application does on a key from everywhere, where another part of it knows how."""

from collections.abc import Callable

from kanaleto.polling.session import Session
from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.frame.pacing import PacedApp
from kanaleto.tui.keeping import Keeping
from kanaleto.tui.opened import OpenedSite
from kanaleto.tui.views import LIVE


class Doings(PacedApp):
    """The application is one of these."""

    keeping: Keeping
    opened: OpenedSite
    counts_as_wire: bool

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
        await self.query_one(LiveView).action_past()

    async def action_moved(self) -> None:
        from kanaleto.tui.live.view import LiveView  # which is loaded by now

        self.action_view(LIVE)
        await self.query_one(LiveView).action_moved()

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
