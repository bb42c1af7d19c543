"""What the application does on a key from everywhere, where another part of it knows how."""

from typing import TYPE_CHECKING, cast

from kanaleto.tui.frame.lanes import Lanes
from kanaleto.tui.live.view import LiveView

if TYPE_CHECKING:
    from kanaleto.tui.app import KanaletoApp


class Doings:
    """Mix-in for the application."""

    @property
    def _own(self) -> "KanaletoApp":
        return cast("KanaletoApp", self)

    def action_record(self) -> None:
        self._own.keeping.record()

    def action_same_points(self) -> None:
        self._own.tell(self._own.keeping.take_as_same())

    def action_note(self) -> None:
        self._own.keeping.ask_note()

    def action_count(self) -> None:
        self._own.counts_as_wire = not self._own.counts_as_wire
        self._own.tell(
            "addresses as the wire counts them, from 0"
            if self._own.counts_as_wire
            else "addresses as each device's manual counts them"
        )
        self._own.tick()

    def action_lanes(self) -> None:
        lanes = self._own.query_one(Lanes)
        lanes.display = not lanes.display

    def action_lanes_by(self, step: int) -> None:
        lanes = self._own.query_one(Lanes)
        lanes.display = True
        lanes.step(step)

    def action_go_live(self) -> None:
        self._own.go_live()
        self._own.tell("all views follow what is read now")

    async def action_past(self) -> None:
        self._own.action_view(LiveView.digit)
        await self._own.query_one(LiveView).action_past()

    def action_new_site(self) -> None:
        self._own.opened.new_site()

    def action_save_as(self) -> None:
        self._own.opened.save_as()

    def action_undo(self) -> None:
        self._own.opened.undo()

    def action_redo(self) -> None:
        self._own.opened.redo()

    def action_save_lessons(self) -> None:
        self._own.opened.save_lessons()

    def action_cycle(self) -> None:
        self._own.do(lambda session: session.cycle())

    def action_reset_counts(self) -> None:
        self._own.do(lambda session: session.reset_counts())
