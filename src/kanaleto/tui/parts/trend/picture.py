"""One picture of the trend, reckoned before it is drawn: each curve in columns, and the heights that its values get."""

from msgspec import Struct

from kanaleto.board.snapshot import Snapshot
from kanaleto.history.axis import nice_bounds
from kanaleto.history.curves import Thinned, thinned
from kanaleto.planning.plan import AnyPlace, Identity
from kanaleto.tui.parts.trend.state import LETTERS, TONES, AxisScale, Curves, TrendState


class DrawnCurve(Struct):
    """`bottom` and `top` are the values at the edges of the plot, where it is no lane."""

    identity: Identity
    place: AnyPlace
    letter: str
    tone: str
    thin: Thinned
    is_lane: bool
    bottom: float = 0.0
    top: float = 1.0
    step: float = 1.0


class Picture(Struct):
    begin: float
    end: float
    columns: int
    curves: list[DrawnCurve]
    scale: AxisScale

    @property
    def plotted(self) -> list[DrawnCurve]:
        return [curve for curve in self.curves if not curve.is_lane]

    @property
    def lanes(self) -> list[DrawnCurve]:
        return [curve for curve in self.curves if curve.is_lane]


def picture_of(state: TrendState, curves: Curves, snapshot: Snapshot, now: float, columns: int, rows: int) -> Picture:
    """`columns` of dots, two a cell; `rows` of cells for the plot."""
    begin, end = state.range(now)
    drawn = []
    for number, identity in enumerate(state.pins):
        place = snapshot.place_of(identity)
        if place is not None:
            thin = thinned(curves.curve(identity), begin, end, columns)
            drawn_curve = DrawnCurve(identity, place, LETTERS[number], TONES[number], thin, place.point.is_state)
            drawn.append(drawn_curve)
    picture = Picture(begin, end, columns, drawn, state.scale)
    _set_heights(picture, rows)
    return picture


def _set_heights(picture: Picture, rows: int) -> None:
    count = max(min(rows // 4, 6), 2)
    plotted = picture.plotted
    if picture.scale is AxisScale.ONE:
        found = [bounds for curve in plotted if (bounds := curve.thin.bounds) is not None]
        if found:
            shared = nice_bounds(min(low for low, _ in found), max(high for _, high in found), count)
            for curve in plotted:
                curve.bottom, curve.top, curve.step = shared
        return
    for curve in plotted:
        limits = curve.place.point.limits
        low, high = limits.range_low, limits.range_high
        if picture.scale is AxisScale.PER_CENT and low is not None and high is not None and high > low:
            curve.bottom, curve.top, curve.step = low, high, (high - low) / 4
            continue
        bounds = curve.thin.bounds
        if bounds is not None:
            curve.bottom, curve.top, curve.step = nice_bounds(*bounds, count)
