"""The trend of the pinned points over the last minute, each on its own scale."""

from collections.abc import Sequence

from textual.strip import Strip
from textual_plotext import PlotextPlot

from kanaleto.planning.plan import AnyPlace, Place
from kanaleto.polling.snapshot import Snapshot
from kanaleto.polling.trace import TRACE_EVERY_S
from kanaleto.tui.live.rows import numbers_of
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.values.text import shown

MOST_PINS = 5
_TONES = ["verdigris", "ochre", "sky", "violet", "terracotta"]
_SPAN_S = 60.0


class TrendHead(Drawn):
    """Names of the pinned points in their colours, with the ends of their scales."""

    DEFAULT_CSS = "TrendHead { height: 1; }"
    pinned: Sequence[AnyPlace] = ()

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette).put(" PINNED ", "muted", bold=True)
        each = max((self.size.width - 22) // max(len(self.pinned), 1), 12)
        for tone, place in zip(_TONES, self.pinned, strict=False):
            ends = trend_ends(self.snapshot, place)
            name = " · ".join(part for part in place.identity if part)
            scale = f"  {ends}" if ends and len(name) + len(ends) + 7 <= each else ""
            cells.put(" ── ", tone, bold=True).put(f"{name}{scale}", tone, each - 5)
        return cells.at(self.size.width - 13).put("last minute", "muted").strip(self.size.width)


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
        plot.xlim(-_SPAN_S, 0)
        plot.ylim(-0.05, 1.05)
        plot.yticks([])
        plot.xticks([-60, -45, -30, -15, 0], ["-60 s", "-45", "-30", "-15", "now"])
        for tone, place in zip(_TONES, self.pinned, strict=False):
            times, values = _series(snapshot, place)
            if not values:
                continue
            low, high = min(values), max(values)
            span = high - low
            scaled = [(value - low) / span if span else 0.5 for value in values]
            for begin, end in _pieces(times, _longest_step_s(snapshot, place)):
                plot.plot(times[begin:end], scaled[begin:end], marker="braille", color=colours[tone])
        self.refresh()


def _longest_step_s(snapshot: Snapshot, place: AnyPlace) -> float:
    """From one sample to the next; after a longer one nothing was read, and nothing is drawn."""
    after_s = snapshot.board.stale_after_s(place) if isinstance(place, Place) else _SPAN_S
    return max(after_s, 3 * TRACE_EVERY_S)


def _pieces(times: Sequence[float], longest_s: float) -> list[tuple[int, int]]:
    """Begin and end of each run of samples without a gap."""
    cuts = [at for at in range(1, len(times)) if times[at] - times[at - 1] > longest_s]
    return list(zip([0, *cuts], [*cuts, len(times)], strict=True))


def _series(snapshot: Snapshot, place: AnyPlace) -> tuple[list[float], list[float]]:
    numbers = [(at_s - snapshot.now_s, value) for at_s, value in numbers_of(snapshot, place)]
    recent = [(age_s, value) for age_s, value in numbers if age_s >= -_SPAN_S]
    return [age_s for age_s, _ in recent], [value for _, value in recent]


def trend_ends(snapshot: Snapshot, place: AnyPlace) -> str:
    """The lowest and highest of what the trend shows, in the point's own decimals."""
    _, values = _series(snapshot, place)
    if not values:
        return ""
    low, high = (shown(value, place.point.codec, place.point.decimals) for value in (min(values), max(values)))
    return f"{low} … {high} {place.point.unit}".strip()
