"""How the rows of the pad are drawn."""

from kanaleto.board.board import Quality
from kanaleto.board.snapshot import Snapshot
from kanaleto.control.order import State
from kanaleto.control.routine import StepKind
from kanaleto.control.routinerun import RunState, StepOutcome
from kanaleto.planning.plan import Place
from kanaleto.tui.parts.pad.kinds import AliveRow, Bit, Head, Note, PadPair, PadRow, RoutineRow, Setting
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.readings import brief_text, put_scale, short_number, spark_of, value_tone, words_text
from kanaleto.tui.shared.words import clock_text

_WIDE, _MIDDLING = 120, 90


def draw_row(row: PadRow, width: int, cells: Cells, snapshot: Snapshot) -> Cells:
    half = max(width // 2, 30)
    match row:
        case Head(left, right, left_word, right_word):
            cells.put("  ").put(left, bold=True).put(f"  {left_word}", "sky" if right or left.isupper() else "muted")
            return cells.at(half).put(right, bold=True).put(f"  {right_word}", "sky") if right else cells
        case Note(text, tone):
            return cells.put("  ").put(text, tone)
        case PadPair(switch, lamp, sent):
            if switch is not None:
                _switch(cells, switch)
                cells.at(max(half - 20, 26)).put(sent, "muted")
            return _lamp(cells.at(half), lamp) if lamp is not None else cells
        case Setting(place, feedback):
            _setting(cells, place, snapshot, half)
            return _setting(cells.at(half), feedback, snapshot, width - half) if feedback is not None else cells
        case AliveRow():
            return _alive(cells, row, width)
        case RoutineRow():
            return _routine(cells, row, snapshot)
    result = row.result
    cells.put("   ").put(clock_text(result.wall_s)[:12], "muted", 14).put(result.order.name, "ink", 24)
    before = result.order.old_text or (result.before.hex(" ", 2).upper() if result.before is not None else "")
    cells.put(" ").put(
        f"{before} → {result.order.new_text}" if before else f"→ {result.order.new_text}", bold=True, width=34
    )
    tone = "verdigris" if result.is_well else "ochre" if result.state is State.NOT_SENT else "terracotta"
    not_sent = "not sent: " if result.state is State.NOT_SENT else ""
    took = f", {1000 * result.took_s:.0f} ms" if result.is_done else ""
    return cells.put(" ").put(f"{not_sent}{result.text}{took}", tone)


def _switch(cells: Cells, bit: Bit) -> None:
    label = bit.place.point.labels[bit.number]
    shape, tone = ("━━●", "verdigris") if bit.is_on else ("○──", "muted") if bit.is_on is not None else ("─◌─", "dim")
    cells.put(f"  {bit.number:3} ", "muted").put(shape, tone).put(" ").put(label, bold=bool(bit.is_on))
    if bit.is_on is None:
        cells.put("   not known now", "dim")


def _lamp(cells: Cells, bit: Bit) -> Cells:
    label = bit.place.point.labels[bit.number]
    shape, tone = ("●", "verdigris") if bit.is_on else ("○", "dim") if bit.is_on is not None else ("◌", "dim")
    ink = "ink" if bit.is_on else "muted"
    return cells.put(f"{bit.number:5} ", "muted").put(shape, tone).put(" ").put(label, ink, bold=bool(bit.is_on))


def _setting(cells: Cells, place: Place, snapshot: Snapshot, room: int) -> Cells:
    point, reading = place.point, snapshot.reading(place)
    value = brief_text(point, reading)
    end = cells.width + room
    name, words = (20, 10) if room >= 54 else (16, 5)
    cells.put("  ").put(point.name, "ink", name).put(" ").put(words_text(place, reading), "sky", words)
    cells.put(value, value_tone(point, reading), 12, right=True, bold=reading.quality is Quality.GOOD)
    low, high = point.limits.range_low, point.limits.range_high
    left = end - cells.width - 18
    if low is not None and high is not None and high > low and isinstance(reading.value, int | float) and left > 8:
        cells.put(short_number(low), "dim", 6, right=True).put(" ")
        put_scale(cells, point, float(reading.value), reading.quality is Quality.GOOD, min(left, 26))
        cells.put(f" {short_number(high)}", "dim")
    elif left > 8:
        cells.put("  ").put(spark_of(snapshot, place, min(left, 16)), "verdigris")
    return cells


def _alive(cells: Cells, row: AliveRow, width: int) -> Cells:
    state = row.state
    order, wish = state.wish.order, state.wish
    cells.put("  ").put(order.name, "ink", 24, bold=True).put(" ").put(order.data.hex(" ", 2).upper(), "sky")
    cells.put(f" every {wish.period_s:g} s", "ink").put(f"   {state.sent} sent", "muted")
    if state.failed:
        cells.put(f", {state.failed} not answered", "terracotta")
    cells.put(f", latest {1000 * state.late_s:.0f} ms late, worst {1000 * state.worst_s:.0f} ms", "muted")
    end = f"{wish.safe.hex(' ', 2).upper()} first, then stop" if wish.safe is not None else "the last value stays"
    cells.put(f"   at the end: {end}", "ink")
    return cells.put(f"   {state.said}", "terracotta") if state.said else cells


def _routine(cells: Cells, row: RoutineRow, snapshot: Snapshot) -> Cells:
    routine, run = row.routine, row.run
    is_on = run is not None and not run.outcome
    cells.put(" ▸ " if is_on else "   ", "ochre").put(routine.name, bold=True, width=28)
    cells.put(f" {len(routine.steps)} steps", "muted", 12)
    if run is None:
        return cells.put("  not run yet", "dim")
    if is_on:
        now = run.steps[min(run.at, len(run.steps) - 1)]
        step, waited = now.step, ""
        if row.passed_s is not None and step.kind in (StepKind.WAIT, StepKind.HOLD, StepKind.CHECK):
            waited = f", {row.passed_s:.0f} s of {step.within_s:g} s"
        asks = "; waits to go on: y" if run.waits_to_go else ""
        asks = f"; asks: {run.question} — enter answers" if run.question else asks
        cells.put(f"  step {step.number} of {len(run.steps)}: ", "ochre" if asks else "verdigris")
        return cells.put(f"{step.text}{waited}{asks}", "ochre" if asks else "verdigris")
    return _over(cells, run)


def _over(cells: Cells, run: RunState) -> Cells:
    if any(step.outcome is StepOutcome.WOULD for step in run.steps):
        return cells.put(f"  dry at {clock_text(run.begun_wall_s)[:8]}: nothing was sent; what it would do:", "sky")
    tone = {"done": "verdigris", "failed": "terracotta"}.get(run.outcome, "ochre")
    last = next((step for step in reversed(run.steps) if step.wall_s), None)
    at = f" {clock_text(last.wall_s)[:8]}" if last is not None else ""
    return cells.put(f"  {run.outcome}{at}", tone).put(f"  {run.said}" if run.said else "", "ink")
