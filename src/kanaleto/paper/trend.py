"""A trend on paper."""

from datetime import UTC, datetime
from typing import TYPE_CHECKING

from kanaleto.history.axis import time_marks
from kanaleto.paper.look import (
    A4_WIDE,
    ALARM,
    CURVES,
    DASHES,
    INK,
    MUTED,
    RULES,
    WARN,
    clean,
    put_foot,
    put_head,
    zone_words,
)
from kanaleto.paper.sheets import PaperCurve, TrendSheet, short_name

if TYPE_CHECKING:
    import numpy as np
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from numpy.typing import NDArray

_LEFT, _RIGHT = 0.075, 0.955
_TOP, _BOTTOM = 0.90, 0.09
_LANE = 0.032
_LEGEND = 0.022
_DAY_S = 86400.0


def draw_trend(sheet: TrendSheet) -> "list[Figure]":
    """One page."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=A4_WIDE)
    put_head(figure, sheet.title, f"{sheet.about} · {_between(sheet)} · {zone_words(sheet.begin)}")
    put_foot(figure, sheet.notes)
    plotted = [curve for curve in sheet.curves if curve.states is None]
    lanes = [curve for curve in sheet.curves if curve.states is not None]
    legend = _LEGEND * (len(sheet.curves) + 1)
    low = _BOTTOM + legend
    lanes_height = _LANE * len(lanes) + (0.01 if lanes else 0)
    groups = [[curve] for curve in plotted] if sheet.scale == "several" else [plotted]
    axes = []
    top = _TOP
    each = (top - low - 0.03 - lanes_height) / max(len(groups), 1)
    for group in groups:
        axis = figure.add_axes((_LEFT, top - each + 0.012, _RIGHT - _LEFT, each - 0.012))
        _plot(axis, group, sheet)
        axes.append(axis)
        top -= each
    for curve in lanes:
        axis = figure.add_axes((_LEFT, top - _LANE + 0.006, _RIGHT - _LEFT, _LANE - 0.008))
        _lane(axis, curve, sheet)
        axes.append(axis)
        top -= _LANE
    _times(axes, sheet)
    _legend(figure, sheet, low - 0.035)
    return [figure]


def _number(sheet: TrendSheet, curve: PaperCurve) -> int:
    return next(at for at, paper_curve in enumerate(sheet.curves) if paper_curve is curve)


def _when(at: float) -> datetime:
    return datetime.fromtimestamp(at, UTC).astimezone()


def _between(sheet: TrendSheet) -> str:
    begin, end = _when(sheet.begin), _when(sheet.end)
    same_day = begin.date() == end.date()
    return (
        f"{begin:%Y-%m-%d %H:%M:%S} … {end:%H:%M:%S}" if same_day else f"{begin:%Y-%m-%d %H:%M} … {end:%Y-%m-%d %H:%M}"
    )


def _plot(axis: "Axes", curves: list[PaperCurve], sheet: TrendSheet) -> None:
    import numpy as np

    in_per_cent = sheet.scale == "percent"
    for curve in curves:
        colour, dash = CURVES[_number(sheet, curve) % len(CURVES)], DASHES[_number(sheet, curve) // 2 % len(DASHES)]
        at, low, high, last = (np.array(column, np.float64) for column in (curve.at, curve.low, curve.high, curve.last))
        if in_per_cent:
            low, high, last = (_per_cent(curve, column) for column in (low, high, last))
        old = np.array(curve.is_old, np.bool_)
        days = at / _DAY_S
        fresh = np.where(old, np.nan, last)
        axis.fill_between(days, np.where(old, np.nan, low), np.where(old, np.nan, high), color=colour, alpha=0.25, lw=0)
        axis.plot(days, fresh, color=colour, lw=1.1, ls=dash)
        axis.plot(days, np.where(old, last, np.nan), color=MUTED, lw=0.8, ls=":")
        known = np.flatnonzero(np.isfinite(last))
        if len(known):
            axis.annotate(
                curve.letter, (days[known[-1]], last[known[-1]]), xytext=(4, 0), textcoords="offset points",
                color=colour, fontsize=9, fontweight="bold", va="center", annotation_clip=False,
            )  # fmt: skip
        for moment in curve.begins_again:
            axis.axvline(_days(moment), color="#68489a", lw=0.7, ls=(0, (2, 2)))
        if len(curves) == 1 and not in_per_cent:
            _limits(axis, curve)
    units = {curve.unit for curve in curves}
    axis.set_ylabel("per cent of range" if in_per_cent else clean(units.pop())[:30] if len(units) == 1 else "")
    axis.grid(True, color=RULES, lw=0.4)
    axis.margins(x=0, y=0.08)
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)


def _per_cent(curve: PaperCurve, column: "NDArray[np.float64]") -> "NDArray[np.float64]":
    if curve.bottom is None or curve.top is None or curve.top <= curve.bottom:
        return column
    return (column - curve.bottom) / (curve.top - curve.bottom) * 100


def _limits(axis: "Axes", curve: PaperCurve) -> None:
    """Limits that lie where the curve does, or near."""
    bottom, top = axis.get_ylim()
    reach = top - bottom
    for words, value, is_alarm in curve.limits:
        if bottom - reach / 2 <= value <= top + reach / 2:
            colour = ALARM if is_alarm else WARN
            axis.axhline(value, color=colour, lw=0.8, ls=(0, (4, 2)))
            axis.annotate(clean(words), (0.995, value), xycoords=("axes fraction", "data"), xytext=(0, 2),
                          textcoords="offset points", fontsize=7, color=colour, ha="right")  # fmt: skip


def _lane(axis: "Axes", curve: PaperCurve, sheet: TrendSheet) -> None:
    colour = CURVES[_number(sheet, curve) % len(CURVES)]
    span = sheet.end - sheet.begin or 1.0
    for at, (begin, end, text) in enumerate(curve.states or ()):
        axis.axvspan(_days(begin), _days(end), color=colour, alpha=0.30 if at % 2 else 0.15, lw=0)
        room = int((end - begin) / span * 150)
        if room >= 3:
            shown = clean(text)
            axis.text(_days(begin), 0.5, f" {shown if len(shown) <= room else shown[: room - 1] + '…'}", fontsize=7,
                      va="center", color=INK, transform=axis.get_xaxis_transform(), clip_on=True)  # fmt: skip
    axis.set_yticks([])
    axis.set_ylabel(curve.letter, rotation=0, color=colour, fontweight="bold", labelpad=8, va="center")
    axis.set_ylim(0, 1)
    for spine in axis.spines.values():
        spine.set_color(RULES)


def _days(at: float) -> float:
    """As matplotlib counts time."""
    return at / _DAY_S


def _times(axes: "list[Axes]", sheet: TrendSheet) -> None:
    marks = time_marks(sheet.begin, sheet.end, 10)
    for number, axis in enumerate(axes):
        axis.set_xlim(_days(sheet.begin), _days(sheet.end))
        axis.set_xticks([_days(at) for at, _ in marks], [text for _, text in marks])
        if number < len(axes) - 1:
            axis.tick_params(labelbottom=False, length=0)
        for moment, style in ((sheet.mark, ":"), (sheet.cursor, "-")):
            if moment is not None and sheet.begin <= moment <= sheet.end:
                axis.axvline(_days(moment), color=INK, lw=0.7, ls=style)


def _legend(figure: "Figure", sheet: TrendSheet, top: float) -> None:
    for number, curve in enumerate(sheet.curves):
        y = top - _LEGEND * (number + 0.5)
        colour = CURVES[number % len(CURVES)]
        figure.text(0.05, y, curve.letter, fontsize=9, fontweight="bold", color=colour)
        unit = f" [{clean(curve.unit)}]" if curve.unit else ""
        figure.text(0.075, y, f"{short_name(clean(curve.name))}{unit}", fontsize=8, color=INK)
        figure.text(0.46, y, clean(curve.figures)[:120], fontsize=7.5, color=MUTED)
