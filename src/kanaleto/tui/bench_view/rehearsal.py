"""A rehearsal as it happens: its steps along a line of time, and what was expected of the master."""

from rich.cells import cell_len, set_cell_size

from kanaleto.bench.states import RehearsalState
from kanaleto.tui.shared.cells import cut
from kanaleto.tui.shared.pane import Panel, Row

_TONES = {"passed": "verdigris", "failed": "terracotta", "void": "ochre", "": "muted"}
_OUTCOME = 20  # cells that "to be judged", the mark and what stands between need
_MARKS = {"passed": "●", "failed": "✕", "void": "◌", "": "…"}


class RehearsalPane(Panel):
    DEFAULT_CSS = "RehearsalPane { height: 0; background: $background; }"
    state: RehearsalState | None = None

    @property
    def wanted_height(self) -> int:
        """Rows that it wants; none where there is no rehearsal."""
        state = self.state
        return 4 + min(sum(max(len(step.expects), 1) for step in state.steps), 8) if state is not None else 0

    def text_rows(self) -> list[Row]:
        state = self.state
        if state is None:
            return []
        counts = state.counts
        text = ", ".join(f"{count} {word}" for word, count in counts.items() if count) or "nothing judged yet"
        if state.waits_for:
            doing = (f"begins when {', '.join(state.waits_for)} has been asked", "ochre")
        elif state.is_over:
            is_passed = counts["passed"] and not counts["failed"] and not counts["void"]
            doing = ("over: passed" if is_passed else "over: not passed", "verdigris" if is_passed else "terracotta")
        else:
            doing = (f"{state.now_s:.0f} of {state.lasts_s:.0f} s", "verdigris")
        head: Row = [("REHEARSAL  ", "muted!"), (f"{state.name}  ", "ink!"), doing, (f"  ·  {text}", "muted")]
        return [head, self._bar(state), *self._judged(state)]

    def _bar(self, state: RehearsalState) -> Row:
        """Time from left to right, with the faults on it."""
        width = max(self.size.width - 4, 10)
        row: Row = []
        for at in range(width):
            when_s = (at + 0.5) / width * state.lasts_s
            step = next((one for one in state.steps if one.at_s <= when_s < one.end_s), None)
            is_past = when_s <= state.now_s
            tone = ("terracotta" if step is not None else "verdigris") if is_past else "ochre" if step else "dim"
            mark = "━" if is_past or step is not None else "─"
            if row and row[-1][1] == tone:
                row[-1] = (row[-1][0] + mark, tone)
            else:
                row.append((mark, tone))
        return row

    def _judged(self, state: RehearsalState) -> list[Row]:
        rows: list[Row] = []
        steps = [f"{at} {step.at_s:g} s  {step.target}: {step.fault}" for at, step in enumerate(state.steps, 1)]
        most = max((self.size.width - _OUTCOME) // 2, 10)
        step_width = _column(steps, most)
        expect_width = _column([one.text for step in state.steps for one in step.expects], most)
        for where, step in zip(steps, state.steps, strict=True):
            runs = step.at_s <= state.now_s and not state.is_over
            if not step.expects:
                rows.append([(where, "ink" if runs else "muted")])
            for expect in step.expects:
                text = expect.reason or ("to be judged" if runs else "to come")
                tone = _TONES.get(expect.outcome, "muted")
                rows.append([(f"{_MARKS.get(expect.outcome, '…')} ", tone), (_fit(where, step_width), "ink"),
                             (_fit(expect.text, expect_width), "muted"), (text, tone)])  # fmt: skip
                where = ""
        room = max(self.size.height - 3, 1)
        at = next((n for n, row in enumerate(rows) if row[0][0].startswith("…")), len(rows))
        first = max(min(at - room // 2, len(rows) - room), 0)
        return rows[first : first + room]


def _column(texts: list[str], most: int) -> int:
    """Cells of a column that holds all of these, where there is so much room."""
    return min(max(map(cell_len, texts), default=0), most)


def _fit(text: str, width: int) -> str:
    """Cut or filled to the width of its column, and the space behind it."""
    return set_cell_size(cut(text, width), width + 2)
