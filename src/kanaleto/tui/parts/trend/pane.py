"""The trend in full: the chart, what it says beside it, what is past a limit and what is recorded below."""

from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.strip import Strip

from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import Identity
from kanaleto.tui.parts.part import Doors, Part
from kanaleto.tui.parts.trend import KIND
from kanaleto.tui.parts.trend.chart import TrendChart
from kanaleto.tui.parts.trend.side import TrendSide
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.past import put_crossing
from kanaleto.tui.shared.wishes import ShowMoment

_MOST_PAST = 3
_SIDE_FROM = 110
_BELOW_FROM = 26


class TrendBelow(Drawn):
    """What is past a limit, and what is recorded."""

    DEFAULT_CSS = "TrendBelow { height: 7; }"

    def draw_line(self, y: int) -> Strip:
        rows = self._rows
        return self.strip_of(y, rows[y] if y < len(rows) else Cells(self.palette), self.size.width)

    def begin_drawing(self) -> None:
        past = self.snapshot.past
        head = Cells(self.palette).put(" PAST A LIMIT", "muted", bold=True)
        rows = [Cells(self.palette), head]
        for crossing in past[:_MOST_PAST]:
            rows.append(put_crossing(Cells(self.palette).put(" "), crossing, self.size.width))
        if not past:
            rows.append(Cells(self.palette).put("   nothing", "muted"))
        elif len(past) > _MOST_PAST:
            head.put(f"   and {len(past) - _MOST_PAST} more", "muted")
        recording = self.context.recording
        rows.append(Cells(self.palette).put(" RECORD  ", "muted", bold=True))
        if recording:
            rows[-1].put("◉ ", "terracotta").put(recording, "ink")
        else:
            rows[-1].put("not recorded: R begins; a trend of now is remembered for three days", "muted")
        self._rows = rows


class TrendPane(Part):
    kind = KIND
    actions = KIND.actions

    def __init__(self, doors: Doors) -> None:
        super().__init__(doors)
        self._data = doors.data
        chart = self._chart = TrendChart(self._data.state, self._data.curves)
        chart.moved = self._moved
        self._side, self._below = TrendSide(chart), TrendBelow()

    def compose(self) -> ComposeResult:
        with Horizontal():
            with Vertical():
                yield self._chart
                yield self._below
            yield self._side

    def on_resize(self) -> None:
        self._side.display = self.size.width >= _SIDE_FROM
        self._below.display = self.size.height >= _BELOW_FROM

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        now, state = self._data.now, self._data.state
        if state.fits:
            since = self._data.curves.since(state.pins)
            state.fit(now - since if since is not None else 0.0)
        if self._chart.show(snapshot, now) and self._side.display:
            self._side.redraw()
        if self._below.display:
            self._below.redraw()

    def focus_rows(self) -> None:
        self.screen.set_focus(self._chart)

    def keys_here(self) -> list[Key]:
        state = self._data.state
        several = [("up down", "choose curve")] if len(state.pins) > 1 else []
        live = [] if state.is_live else self.keys_of("live")
        mark = "take mark off" if state.mark is not None and state.mark == state.cursor else "mark"
        return [
            ("← →", "cursor"),
            ("+ -", "zoom"),
            ("[ ]", "earlier, later"),
            *self.keys_of("mark", mark=mark),
            *live,
            *self.keys_of("scale", scale=state.scale.next.value),
            *several,
            ("m", "what moved"),
            ("x", "export"),
            *self.keys_of("exchanges"),
            ("escape", "back"),
        ]

    def back(self) -> None:
        state = self._data.state
        if state.mark is not None:
            state.mark = None
            self.context.redraw()
        elif not state.is_live:
            self.action_live()
        else:
            self.leave()

    def _moved(self) -> None:
        self._data.ask(self.snapshot)
        self.context.redraw()

    @property
    def _moment(self) -> float:
        state = self._data.state
        return state.cursor if state.cursor is not None else min(state.range(self._data.now)[1], self._data.now)

    def action_mark(self) -> None:
        state = self._data.state
        state.mark = None if state.mark == self._moment else self._moment
        self.context.redraw()

    def action_scale(self) -> None:
        state = self._data.state
        state.own_scale = state.scale.next
        self.context.redraw()

    def action_live(self) -> None:
        self.context.go_live()

    def action_today(self) -> None:
        state = self._data.state
        state.reads_today = not state.reads_today
        self._data.curves.forget_stored()
        self.context.tell(
            "old words are read with today's definition"
            if state.reads_today
            else "old words are read as they were meant"
        )
        self._moved()

    def action_unpin(self) -> None:
        identity = self.chosen
        if identity is not None:
            self.doors.unpin(identity)
            self.context.redraw()

    async def action_exchanges(self) -> None:
        await self.context.show_moment(ShowMoment(self._moment, self.chosen, "4"))

    @property
    def chosen(self) -> Identity | None:
        curve = self._chart.chosen
        return curve.identity if curve is not None else None

    def open_filter(self) -> None:
        """There is nothing to filter."""
