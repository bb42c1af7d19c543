"""The chart of the trend. Loaded when the first point is pinned: a chart costs a start too much."""

from collections.abc import Sequence

from textual_plotext import PlotextPlot

from kanaleto.planning.plan import AnyPlace
from kanaleto.polling.snapshot import Snapshot
from kanaleto.tui.live.trend import SPAN_S, TONES, longest_step_s, pieces, series


class Trend(PlotextPlot):
    """Draws `pinned` anew at each tick."""

    def __init__(self) -> None:
        super().__init__()
        self.pinned: Sequence[AnyPlace] = ()
        self.auto_theme = False

    def draw(self, snapshot: Snapshot, colours: dict[str, tuple[int, int, int]]) -> None:
        plot = self.plt
        plot.clear_figure()
        plot.canvas_color(colours["ground"])
        plot.axes_color(colours["ground"])
        plot.ticks_color(colours["muted"])
        plot.frame(False)
        plot.xlim(-SPAN_S, 0)
        plot.ylim(-0.05, 1.05)
        plot.yticks([])
        plot.xticks([-60, -45, -30, -15, 0], ["-60 s", "-45", "-30", "-15", "now"])
        for tone, place in zip(TONES, self.pinned, strict=False):
            times, values = series(snapshot, place)
            if not values:
                continue
            low, high = min(values), max(values)
            span = high - low
            scaled = [(value - low) / span if span else 0.5 for value in values]
            for begin, end in pieces(times, longest_step_s(snapshot, place)):
                plot.plot(times[begin:end], scaled[begin:end], marker="braille", color=colours[tone])
        self.refresh()
