"""Beside the chart: what each curve was at the cursor, and what the chosen one was over what is shown."""

from kanaleto.history.axis import clock
from kanaleto.history.curves import BAD, NEVER, STALE, figures
from kanaleto.tui.parts.trend.chart import TrendChart
from kanaleto.tui.parts.trend.picture import DrawnCurve
from kanaleto.tui.shared.figures import figure_rows, text_of
from kanaleto.tui.shared.pane import Panel, Row

QUALITY_WORDS = {STALE: "old", BAD: "no value", NEVER: "not read"}
_WIDTH = 34


class TrendSide(Panel):
    DEFAULT_CSS = f"TrendSide {{ width: {_WIDTH}; height: 100%; background: $panel; }}"

    def __init__(self, chart: TrendChart) -> None:
        super().__init__()
        self._chart = chart

    def text_rows(self) -> list[Row]:
        chart, state = self._chart, self._chart.state
        moment = state.cursor if state.cursor is not None else min(chart.now, chart.picture.end)
        head = f"AT {clock(moment, 0.1 if state.span_s < 60 else 1)}"
        rows: list[Row] = [
            [(head if state.cursor is not None else "NOW" if state.is_live else head, "muted!")]
            + ([("   to mark", "muted")] if state.mark is not None else []),
            [],
        ]
        for curve in chart.picture.curves:
            rows += self._at(curve, moment)
        chosen = chart.chosen
        if chosen is not None and not chosen.place.point.is_state:
            rows += [[], [("OVER WHAT IS SHOWN", "muted!"), (f"  {chosen.letter}", f"{chosen.tone}!")], []]
            found = figures(chart.curves.curve(chosen.identity), chart.picture.begin, chart.picture.end)
            rows += figure_rows(chosen.place, found)
        return rows

    def _at(self, curve: DrawnCurve, moment: float) -> list[Row]:
        chart = self._chart
        value, quality = chart.curves.value_at(curve.identity, moment)
        unit = curve.place.point.unit
        text = f"{text_of(curve.place, value)} {unit}".strip() if value is not None else QUALITY_WORDS.get(quality, "—")
        row: Row = [("  ", "ink"), (f"{text:<16}", "ink!" if quality == 0 else "muted")]
        if value is not None and quality == STALE:
            row.append((" old", "ochre"))
        if chart.state.mark is not None:
            marked, _ = chart.curves.value_at(curve.identity, chart.state.mark)
            if value is not None and marked is not None and not curve.place.point.is_state:
                row.append((f" {difference_text(curve, value - marked)}", "muted"))
        return [[(f"{curve.letter} ", f"{curve.tone}!"), (curve.place.point.name[: _WIDTH - 6], "ink")], row]


def difference_text(curve: DrawnCurve, difference: float) -> str:
    text = text_of(curve.place, difference)
    return text if text.startswith("-") else f"+{text}"
