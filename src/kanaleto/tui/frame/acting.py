"""What acts on devices now, or still has to: writes that are kept alive, pulses, ways back that are owed, what an
outage or a kill left, routines that run. One list, from every view, also when writing is locked; one key ends all."""

from collections.abc import Callable, Hashable

from msgspec import Struct
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.strip import Strip

from kanaleto.board.snapshot import Snapshot
from kanaleto.control.alive import AliveState
from kanaleto.control.alives import Offer
from kanaleto.control.control import Control
from kanaleto.control.order import Result, State
from kanaleto.control.owed import OwedStage, OwedState
from kanaleto.control.routinerun import RunState
from kanaleto.events.log import length_text
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.wishes import ShowView
from kanaleto.tui.shared.words import clock_text

_NOTHING = "nothing is held, pulsing, owed or running"
_MOST_LAST = 30
_TONES = {
    OwedStage.PULSING: "ochre",
    OwedStage.OWED: "terracotta",
    OwedStage.ASKS: "terracotta",
    OwedStage.LEFT: "terracotta",
}


class ActingRow(Struct, frozen=True):
    """One of them: its kind in a word, where, what, and what it waits for."""

    of: AliveState | OwedState | Offer | RunState
    kind: str
    where: str
    text: str
    tone: str


def acting_rows(control: Control, wall_s: float) -> list[ActingRow]:
    """The gravest first."""
    owed = [_owed(state, wall_s) for state in control.owings.states]
    offers = [ActingRow(one, "lost", one.wish.order.device, one.text, "ochre") for one in control.alives.offers]
    return [
        *(row for row in owed if row.tone == "terracotta"),
        *(row for row in owed if row.tone != "terracotta"),
        *offers,
        *(_alive(state) for state in control.alive),
        *(_run(run, wall_s) for run in control.running),
    ]


def _owed(owed_state: OwedState, wall_s: float) -> ActingRow:
    order = owed_state.order
    back = order.new_text or order.data.hex(" ", 2).upper()
    if owed_state.stage is OwedStage.PULSING:
        left_s = max(owed_state.due_wall_s - wall_s, 0.0)
        text = f"{order.name} is {order.old_text or 'as we wrote it'}: {back} in {left_s:.1f} s"
    elif owed_state.stage is OwedStage.LEFT:
        text = f"{order.name}: {owed_state.what}; enter sends {back}, c leaves it so"
    else:
        since = f"owed since {clock_text(owed_state.due_wall_s)[:8]}"
        asks = " (enter sends it, c leaves it so)" if owed_state.stage is OwedStage.ASKS else ""
        text = f"{order.name}: {back} {since}: {owed_state.why or owed_state.what}{asks}"
    return ActingRow(
        owed_state, owed_state.stage.value, order.device or f"unit {order.unit_id}", text, _TONES[owed_state.stage]
    )


def _alive(state: AliveState) -> ActingRow:
    order, safe = state.wish.order, state.wish.safe
    end = f"{safe.hex(' ', 2).upper()} at the end" if safe is not None else "no safe value"
    said = f"; {state.said}" if state.said else ""
    text = f"{order.name} at {order.data.hex(' ', 2).upper()} every {state.wish.period_s:g} s, {end}{said}"
    return ActingRow(state, "held", order.device or f"unit {order.unit_id}", text, "ochre")


def _run(run: RunState, wall_s: float) -> ActingRow:
    step = run.steps[min(run.at, len(run.steps) - 1)].step if run.steps else None
    at = f"step {step.number} of {len(run.steps)}, {step.text}" if step is not None else ""
    asks = f"; asks: {run.question}" if run.question else ""
    text = f"“{run.name}”: {at} for {length_text(max(wall_s - run.begun_wall_s, 0))}{asks}"
    return ActingRow(run, "routine", run.device, text, "ochre" if asks else "verdigris")


class LastWrite(Struct, frozen=True):
    """What was written lately, below; None is the heading."""

    result: Result | None


class ActingRows(Rows[ActingRow | LastWrite]):
    def identity(self, row: ActingRow | LastWrite) -> Hashable:
        return (type(row.of).__name__, row.of.number) if isinstance(row, ActingRow) else None

    def may_rest(self, row: ActingRow | LastWrite) -> bool:
        return isinstance(row, ActingRow)

    def draw(self, row: ActingRow | LastWrite, width: int, ground: str) -> Cells:
        if isinstance(row, LastWrite):
            return self._written(row.result, width, ground)
        cells = Cells(self.palette, ground).put(" ▲ ", row.tone).put(row.kind, row.tone, 14, bold=True)
        cells.put(row.where, "ink", 20 if width >= 100 else 12, bold=True).put(" ")
        return cells.put(row.text, "ink", max(width - cells.width - 1, 10))

    def _written(self, result: Result | None, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground)
        if result is None:
            return cells.put(" LAST WRITES", "muted", bold=True)
        order = result.order
        tone = "verdigris" if result.is_well else "ochre" if result.state is State.NOT_SENT else "terracotta"
        before = order.old_text or (result.before.hex(" ", 2).upper() if result.before is not None else "")
        now = order.new_text or order.data.hex(" ", 2).upper()
        cells.put(f" {clock_text(result.wall_s)[:8]} ", "muted").put(order.device or f"unit {order.unit_id}", "ink", 20)
        cells.put(" ").put(order.name, "ink", 20 if width >= 110 else 14, bold=True).put(" ")
        cells.put(f"{before} → {now}" if before else f"→ {now}", "ink", 26 if width >= 110 else 16).put(" ")
        return cells.put(result.text, tone, max(width - cells.width - 1, 8))


class ActingHead(Drawn):
    DEFAULT_CSS = "ActingHead { height: 2; }"
    count = 0

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        if y == 0:
            cells.put(" WHAT ACTS NOW  ", "muted", bold=True)
            text = "X ends all of it, with safe values; also while writing is locked" if self.count else _NOTHING
            cells.put(text, "ink")
        return self.strip_of(y, cells, self.size.width)


class ActingView(View, Vertical):
    digit, title, about = "H", "What acts now", "what is held, pulsing, owed, running"
    actions = (
        Action("enter", "act", "send its way back, or stop it", "send the way back now, take it up again, stop it"),
        Action("c", "cancel", "leave it so", "nothing is owed any more: what stands there stays"),
        Action("X", "end_all", "end all", "end all of it now, with safe values and ways back"),
    )

    def __init__(self, id: str) -> None:
        super().__init__(id=id)
        self._head, self._list = ActingHead(), ActingRows()
        self._list.empty_text = "nothing was written yet"

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        rows = acting_rows(self.context.control, self.context.engine.session.clock.at(snapshot.now_s))
        self._head.count = len(rows)
        written = [LastWrite(result) for result in reversed(tuple(self.context.control.orders.last)[-_MOST_LAST:])]
        self._list.set_rows([*(rows or ()), *([LastWrite(None), *written] if written else ())])
        self._head.redraw()

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        row = self._current
        if row is None:
            return [("escape", "back")]
        verbs: dict[type, str] = {OwedState: "send it now", Offer: "take it up again"}
        keys = self.keys_of("act", act=verbs.get(type(row.of), "stop it"))
        if isinstance(row.of, OwedState | Offer):
            keys += self.keys_of(
                "cancel", cancel="take it off the list" if isinstance(row.of, Offer) else "leave it so"
            )
        return [*keys, *self.keys_of("end_all"), ("escape", "back")]

    @property
    def _current(self) -> ActingRow | None:
        row = self._list.current
        return row if isinstance(row, ActingRow) else None

    def back(self) -> None:
        self.context.send(ShowView(""))

    def _do(self, what: Callable[[Control], object]) -> None:
        """On the engine's loop; what it says is reported."""
        control, tell, later = self.context.control, self.context.tell, self.context.later
        done = self.context.engine.do(lambda session: what(control))

        def came() -> None:
            error = done.exception()
            result = str(error) if error is not None else done.result()
            if isinstance(result, str) and result:
                tell(result)

        done.add_done_callback(lambda _: later(came))

    def action_act(self) -> None:
        """Ways back, safe values and stopping count however the key was pressed; taking up again opens the line that
        writes, where it has to be confirmed."""
        row = self._current
        if row is None:
            return
        one = row.of
        if isinstance(one, OwedState):
            self._do(lambda control: control.owings.say_so(one.number))
        elif isinstance(one, AliveState):
            control = self.context.control
            done = self.context.engine.run(control.stop_alive(one.number, "as was asked"))
            tell, later = self.context.tell, self.context.later
            done.add_done_callback(lambda came: later(lambda: tell(came.result()) if not came.exception() else None))
        elif isinstance(one, RunState):
            self._do(lambda control: control.stop_run(one.number))
        else:
            self.context.take_up(one)

    def action_cancel(self) -> None:
        row = self._current
        if row is None:
            return
        one = row.of
        if isinstance(one, OwedState):
            self._do(lambda control: control.owings.cancel(one.number))
        elif isinstance(one, Offer):
            self._do(lambda control: control.alives.drop_offer(one.number))

    def action_end_all(self) -> None:
        self._do(lambda control: control.end_all("one key ended all"))
        self.context.tell("all of it ends now, with safe values and ways back")


class ActingFoot(Drawn):
    """One row at the foot of every view, while something pulses, is owed or was lost."""

    DEFAULT_CSS = "ActingFoot { height: 1; display: none; }"
    _row: ActingRow | None = None
    _more = 0

    def take(self, rows: list[ActingRow]) -> None:
        """The gravest of them; what is merely held, or runs, needs no row of its own."""
        shown = [row for row in rows if isinstance(row.of, OwedState | Offer)]
        self._row, self._more = (shown[0] if shown else None), max(len(shown) - 1, 0)
        self.display = bool(shown)
        self.redraw()

    def draw_line(self, y: int) -> Strip:
        cells, row, width = Cells(self.palette, "panel"), self._row, self.size.width
        if row is None:
            return self.strip_of(y, cells, width)
        more = f" · {self._more} more" if self._more else ""
        keys = "H lists it" if not isinstance(row.of, Offer) else "K, or H lists it"
        cells.put(f" ▲ {row.kind} ", row.tone, bold=True).put(f"{row.where} ", "ink", bold=True)
        room = width - cells.width - len(more) - len(keys) - 4
        cells.put(row.text, "ink", max(room, 10)).put(more, "muted").put("  ").put(keys, "ochre")
        return self.strip_of(y, cells, width)
