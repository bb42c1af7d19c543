"""Beside the chart: what each curve was at the cursor, and what the chosen one was over what is shown."""

from kanaleto.board.board import Quality
from kanaleto.events.log import length_text
from kanaleto.history.axis import clock
from kanaleto.history.curves import BAD, NEVER, STALE, figures
from kanaleto.tui.parts.trend.chart import TrendChart
from kanaleto.tui.parts.trend.picture import DrawnCurve
from kanaleto.tui.shared.figures import figure_rows, text_of
from kanaleto.tui.shared.pane import Panel, Row
from kanaleto.tui.shared.words import age_text

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
        ]
        if state.mark is not None:
            away = moment - state.mark
            apart = f"{length_text(abs(away))} {'before' if away < 0 else 'after'} it" if abs(away) >= 0.05 else "at it"
            rows += [[(f"mark at {clock(state.mark, 1)}", "ochre")], [(apart, "muted")]]
        rows.append([])
        for curve in chart.picture.curves:
            rows += self._at(curve, moment) if state.cursor is not None or not state.is_live else self._now(curve)
        chosen = chart.chosen
        if chosen is not None and not chosen.place.point.is_state:
            rows += [[], [("OVER WHAT IS SHOWN", "muted!"), (f"  {chosen.letter}", f"{chosen.tone}!")], []]
            found = figures(chart.curves.curve(chosen.identity), chart.picture.begin, chart.picture.end)
            rows += figure_rows(chosen.place, found)
        return rows

    def _now(self, curve: DrawnCurve) -> list[Row]:
        """The last value with its age, as Live has it."""
        reading = self._chart.snapshot.reading(curve.place)
        value, age = reading.value, age_text(reading.age_s)
        if isinstance(value, int | float):
            text, tone = f"{text_of(curve.place, value)} {curve.place.point.unit}".strip(), "ink!"
        elif value is not None:  # a text, or a run of values
            text, tone = str(value), "ink!"
        else:
            text, tone = reading.reason or "not read yet", "muted"
        row: Row = [("  ", "ink"), (f"{text:<16}", tone if reading.quality is Quality.GOOD else "muted")]
        if reading.age_s is not None:
            row.append((f" {age} old" if reading.quality is not Quality.GOOD else f" {age}", "muted"))
        return [
            self._named(curve),
            self._with_difference(row, curve, value if isinstance(value, int | float) else None),
        ]

    @staticmethod
    def _named(curve: DrawnCurve) -> Row:
        return [(f"{curve.letter} ", f"{curve.tone}!"), (curve.place.point.name[: _WIDTH - 6], "ink")]

    def _with_difference(self, row: Row, curve: DrawnCurve, value: float | None) -> Row:
        """To the mark."""
        mark = self._chart.state.mark
        if mark is not None:
            marked, _ = self._chart.curves.value_at(curve.identity, mark)
            if value is not None and marked is not None and not curve.place.point.is_state:
                row.append((f" {difference_text(curve, value - marked)}", "muted"))
        return row

    def _at(self, curve: DrawnCurve, moment: float) -> list[Row]:
        chart = self._chart
        value, quality = chart.curves.value_at(curve.identity, moment)
        unit = curve.place.point.unit
        text = f"{text_of(curve.place, value)} {unit}".strip() if value is not None else QUALITY_WORDS.get(quality, "—")
        row: Row = [("  ", "ink"), (f"{text:<16}", "ink!" if quality == 0 else "muted")]
        if value is not None and quality == STALE:
            row.append((" old", "ochre"))
        return [self._named(curve), self._with_difference(row, curve, value)]


def difference_text(curve: DrawnCurve, difference: float) -> str:
    text = text_of(curve.place, difference)
    return text if text.startswith("-") else f"+{text}"
