"""A state over time as text, a bit as a logic trace."""

import numpy as np

from kanaleto.history.curves import BAD, STALE
from kanaleto.tui.parts.trend.picture import DrawnCurve
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.figures import is_bit, text_of


def put_lane(cells: Cells, curve: DrawnCurve, width: int) -> Cells:
    """In `width` cells, two columns of the curve each."""
    thin = curve.thin
    bit = is_bit(curve.place.point)
    runs: list[tuple[tuple[str, str], int]] = []
    for column in range(width):
        at = 2 * column + 1
        value, quality = float(thin.last[at]), int(thin.quality[at])
        low = min(float(thin.low[at - 1]), float(thin.low[at]))
        high = max(float(thin.high[at - 1]), float(thin.high[at]))
        if quality > STALE or not np.isfinite(value):
            key = ("", "bad" if quality == BAD else "gap")
        else:
            is_mixed = low != high and column > 0 and runs and runs[-1][0][0] == str(value)
            key = (str(value), "mixed" if is_mixed else "stale" if quality == STALE else "good")
        if runs and runs[-1][0] == key:
            runs[-1] = (key, runs[-1][1] + 1)
        else:
            runs.append((key, 1))
    for (value_text, how), length in runs:
        tone = {"good": curve.tone, "stale": "dim", "mixed": curve.tone}.get(how, "muted")
        if how in ("gap", "bad"):
            cells.put("no value"[:length] if how == "bad" and length > 9 else "", "muted", length)
        elif how == "mixed":
            cells.put("▒" * length, tone)
        elif bit:
            is_on = float(value_text) != 0
            cells.put(("▇" if is_on else "▁") * length, tone if is_on else "muted")
        else:
            text = text_of(curve.place, float(value_text))[: max(length - 1, 0)]
            cells.put(text, tone).put("─" * (length - len(text)), tone if how == "good" else "dim")
    return cells
