"""Below the list: the last minutes of what is pinned, each on its own scale."""

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.strip import Strip as Line

from kanaleto.board.snapshot import Snapshot
from kanaleto.tui.parts.trend.chart import TrendChart
from kanaleto.tui.parts.trend.data import TrendData
from kanaleto.tui.parts.trend.picture import DrawnCurve
from kanaleto.tui.parts.trend.state import AxisScale, TrendState
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.figures import text_of
from kanaleto.tui.shared.pane import Drawn

SPAN_S = 300.0


class StripState(TrendState):
    """The same points, always live, always the last minutes."""

    def __init__(self, of: TrendState) -> None:
        self._of = of
        super().__init__()
        self.span_s, self.own_scale = SPAN_S, AxisScale.SEVERAL

    @property
    def pins(self) -> list[tuple[str, str]]:
        return self._of.pins

    @pins.setter
    def pins(self, pins: list[tuple[str, str]]) -> None:
        """They are the other's."""


class StripHead(Drawn):
    """Names of the pinned points with the ends of their scales."""

    DEFAULT_CSS = "StripHead { height: 1; }"
    chart: TrendChart

    def draw_line(self, y: int) -> Line:
        curves = self.chart.picture.curves
        width = self.size.width
        cells = Cells(self.palette).put(" PINNED ", "muted", bold=True)
        each = max((width - 34) // max(len(curves), 1), 12)
        for curve in curves:
            name = " · ".join(part for part in curve.identity if part) if each > 36 else curve.identity[1]
            ends = _ends(curve)
            scale = f"  {ends}" if ends and len(name) + len(ends) + 6 <= each else ""
            cells.put(f" {curve.letter} ", curve.tone, bold=True).put(f"{name}{scale}", curve.tone, each - 3)
        return cells.at(width - 24).put("last 5 minutes · t opens", "muted").strip(width)


def _ends(curve: DrawnCurve) -> str:
    bounds = curve.thin.bounds
    if bounds is None or curve.is_lane:
        return ""
    low, high = (text_of(curve.place, value) for value in bounds)
    return f"{low} … {high} {curve.place.point.unit}".strip()


class Strip(Vertical):
    DEFAULT_CSS = "Strip { height: 13; border-top: solid $rules; }"

    def __init__(self, data: TrendData) -> None:
        super().__init__()
        self._data = data
        self._chart = TrendChart(StripState(self._data.state), self._data.curves, is_small=True)
        self._head = StripHead()
        self._head.chart = self._chart

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._chart

    def show(self, snapshot: Snapshot) -> None:
        if self._chart.show(snapshot, self._data.now):
            self._head.redraw()
