"""Curves on pages of a document: three charts a page, each with its own axis, limits and figures."""

from datetime import datetime

from kanaleto.paper.look import ALARM, INK, MUTED, RULES, WARN
from kanaleto.paper.scene import A4, MARGIN, Label, Scene, Stroke, fit
from kanaleto.paper.sheets import PaperCurve

_TOP, _EACH, _HEIGHT, _LEFT = 96.0, 150.0, 96.0, 60.0
_A_PAGE = 3
_COLUMNS = 500
_CURVE = "#1b7361"


def chart_bodies(curves: list[PaperCurve], begin: float, end: float) -> list[Scene]:
    """Without heads."""
    pages: list[Scene] = []
    for number, curve in enumerate(curves):
        if number % _A_PAGE == 0:
            pages.append(Scene())
            pages[-1].shapes.append(Label(MARGIN, _TOP - 12, "Trends", 9.5, INK, True))
        _chart(pages[-1], curve, begin, end, _TOP + 8 + (number % _A_PAGE) * _EACH)
    return pages


def _chart(scene: Scene, curve: PaperCurve, begin: float, end: float, top: float) -> None:
    shapes = scene.shapes
    left, right, bottom = MARGIN + _LEFT, A4[0] - MARGIN, top + _HEIGHT
    unit = f" ({curve.unit})" if curve.unit else ""
    shapes.append(Label(left, top - 4, fit(f"{curve.name}{unit}", 300, 8, True), 8, INK, True))
    shapes.append(Label(right, top - 4, fit(curve.figures, right - left - 310, 7), 7, MUTED, at="end"))
    shapes.append(Stroke(left, bottom, right, bottom, MUTED))
    shapes.append(Stroke(left, top, left, bottom, MUTED))
    for at in range(5):
        x = left + at * (right - left) / 4
        when = datetime.fromtimestamp(begin + at * (end - begin) / 4).astimezone()
        side = "start" if at == 0 else "end" if at == 4 else "middle"
        shapes.append(Label(x, bottom + 10, f"{when:%d %b %H:%M}", 6.5, MUTED, at=side))
    values = [value for value in (*curve.low, *curve.high) if value is not None]
    if not values:
        shapes.append(Label(left + 8, top + _HEIGHT / 2, "nothing was read in that time", 7.5, MUTED))
        return
    low = curve.bottom if curve.bottom is not None else min(values)
    high = curve.top if curve.top is not None else max(values)
    low, high = min(low, *values), max(high, *values)
    high = high if high > low else low + 1.0

    def y_of(value: float) -> float:
        return bottom - (value - low) / (high - low) * _HEIGHT

    for value, y in ((low, bottom), (high, top + 5)):
        shapes.append(Label(left - 5, y, f"{value:.6g}", 6.5, MUTED, at="end"))
    for _, bound, is_alarm in curve.limits:
        if low <= bound <= high:
            shapes.append(Stroke(left, y_of(bound), right, y_of(bound), ALARM if is_alarm else WARN, 0.5, (3, 2)))
    step = max(len(curve.at) // _COLUMNS, 1)
    before: tuple[float, float] | None = None
    for first in range(0, len(curve.at), step):
        part = range(first, min(first + step, len(curve.at)))
        lows = [curve.low[at] for at in part if curve.low[at] is not None]
        highs = [curve.high[at] for at in part if curve.high[at] is not None]
        if not lows or not highs:
            before = None
            continue
        x = left + (curve.at[part[-1]] - begin) / (end - begin) * (right - left)
        least, most = min(value for value in lows if value is not None), max(v for v in highs if v is not None)
        last = next((curve.last[at] for at in reversed(part) if curve.last[at] is not None), most)
        assert last is not None
        if before is not None:
            shapes.append(Stroke(before[0], before[1], x, y_of(last), _CURVE, 0.7))
        if most > least:
            shapes.append(Stroke(x, y_of(least), x, y_of(most), _CURVE, 0.7))
        before = (x, y_of(last))
    shapes.append(Stroke(left, top, right, top, RULES, 0.3))
