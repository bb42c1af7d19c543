"""What is past a limit now, since when, and who has seen it."""

from collections.abc import Hashable

from textual.app import ComposeResult
from textual.strip import Strip

from kanaleto.board.crossing import Crossing, Level
from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.presence import user_name
from kanaleto.tui.parts.below import Below, passed_before
from kanaleto.tui.parts.part import Doors, Part
from kanaleto.tui.parts.past import KIND
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.past import put_crossing
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.wishes import ShowMoment


class PastHead(Drawn):
    DEFAULT_CSS = "PastHead { height: 2; }"

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        if y == 0:
            past = self.snapshot.past
            alarms = sum(1 for crossing in past if crossing.rule.level is Level.ALARM)
            unseen = sum(1 for crossing in past if crossing.seen is None)
            over = len(self.snapshot.over)
            cells.put(" PAST A LIMIT  ", "muted", bold=True)
            text = f"{len(past)} now, {alarms} of them alarms, {unseen} not seen yet" if past else "nothing now"
            text += f" · {over} over that nobody has seen" if over else ""
            cells.put(text, "ink")
        return self.strip_of(y, cells, self.size.width)


class PastRows(Rows[Crossing]):
    def identity(self, row: Crossing) -> Hashable:
        return row.identity, row.rule.name

    def draw(self, row: Crossing, width: int, ground: str) -> Cells:
        now = self.context.engine.session.clock.at(self.snapshot.now_s)
        return put_crossing(Cells(self.palette, ground).put(" "), row, width, now)


class PastPart(Part):
    kind = KIND
    actions = KIND.actions

    def __init__(self, doors: Doors) -> None:
        super().__init__(doors)
        self._head, self._list, self._below = PastHead(), PastRows(), Below()
        self._list.empty_text = "nothing is past a limit: limits are columns of the map (warn_high, alarm_on, …)"

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list
        yield self._below

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        rows = (*snapshot.past, *snapshot.over)
        if tuple(self._list.rows) != rows:
            self._list.set_rows(rows)
        room = self._below.room(self._list, self._head.size.height)
        self._below.take(passed_before(list(self.context.engine.session.events.ring), rows, room), self._list, room)
        self._head.redraw()
        self._list.redraw()

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        of_row = self.keys_of("then", "seen", "all_seen", "go") if self._list.rows else []
        return [*of_row, ("escape", "back")]

    async def action_then(self) -> None:
        crossing = self._list.current
        if crossing is not None:
            await self.context.show_moment(ShowMoment(crossing.wall_s, crossing.identity, "3"))

    def action_go(self) -> None:
        crossing = self._list.current
        if crossing is not None:
            self.doors.go_to(crossing.identity)

    def action_seen(self) -> None:
        crossing = self._list.current
        if crossing is not None:
            self._ask([crossing], f"{crossing.identity[1]} {crossing.text}: seen. A note, or enter for none")

    def action_all_seen(self) -> None:
        unseen = [crossing for crossing in self._list.rows if crossing.seen is None]
        if not unseen:
            self.context.tell("all of them were seen")
            return
        self._ask(unseen, f"all {len(unseen)} seen. A note, or enter for none")

    def _ask(self, crossings: list[Crossing], question: str) -> None:
        identities = [crossing.identity for crossing in crossings]

        def answer(text: str) -> None:
            who = user_name()
            self.context.do(
                lambda session: [
                    session.limits.acknowledge(identity, who, text, session.clock.now) for identity in identities
                ]
            )
            self.context.tell("seen: it stands in the journal")

        self.context.ask(question, "", answer)
