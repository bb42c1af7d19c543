"""Numbers of a curve in the words and digits of its point."""

from math import isfinite

from kanaleto.board.crossing import is_word_of_bits
from kanaleto.events.log import length_text
from kanaleto.history.figures import Figures
from kanaleto.planning.plan import AnyPlace, DerivedPlace
from kanaleto.site.model import Point
from kanaleto.tui.shared.pane import Row
from kanaleto.tui.shared.words import clock_text
from kanaleto.values.text import shown
from kanaleto.values.types import Kind


def is_bit(point: Point) -> bool:
    codec = point.codec
    return codec.type.kind is Kind.BOOL or (codec.bits is not None and codec.bits[0] == codec.bits[1])


def text_of(place: AnyPlace, number: float | None) -> str:
    """A value of a curve as the point shows it, without its unit."""
    if number is None or not isfinite(number):
        return "—"
    point = place.point
    if is_word_of_bits(point) and not point.labels:
        return f"{int(number):04X}"
    is_whole = number == int(number) and not point.codec.type.is_float and not isinstance(place, DerivedPlace)
    return shown(int(number) if is_whole else number, point.codec, point.decimals, point.labels)


def figure_rows(place: AnyPlace, found: Figures | None) -> list[Row]:
    """Least, most, mean, slope, noise, gaps."""
    if found is None:
        return [[("nothing was read", "muted")]]
    unit = place.point.unit
    rows: list[Row] = []
    gaps = f"{found.gaps}, {length_text(found.gap_s)} in all" if found.gaps else "none"
    if found.gaps == 1:
        gaps = f"one, {length_text(found.gap_s)} long"
    if place.point.is_state:
        rows.append([("changes", "muted"), (f" {found.changes}", "ink")])
        return [*rows, [("gaps   ", "muted"), (f" {gaps}", "ink")]]
    for word, value, at in (("least", found.least, found.least_at), ("most", found.most, found.most_at)):
        rows.append([(f"{word:<7}", "muted"), (f"{text_of(place, value)} {unit}".strip(), "ink"),
                     (f"  {clock_text(at)[:8]}", "dim")])  # fmt: skip
    rows.append([("mean   ", "muted"), (f"{_mean_text(place, found.mean)} {unit}".strip(), "ink")])
    rows.append([("slope  ", "muted"), (slope_text(found.slope_s, unit), "ink")])
    rows.append([("noise  ", "muted"), (f"{found.noise:.3g} {unit}".strip(), "ink")])
    rows.append([("samples", "muted"), (f" {found.samples}", "ink")])
    rows.append([("gaps   ", "muted"), (gaps, "ink")])
    return rows


def slope_text(slope_s: float, unit: str) -> str:
    """A second, a minute or an hour, whichever gives a number that can be read."""
    if abs(slope_s) < 1e-12:  # what stands still, and is left of reckoning
        slope_s = 0.0
    for seconds, word in ((1.0, "s"), (60.0, "min"), (3600.0, "h")):
        if abs(slope_s * seconds) >= 0.1 or word == "h":
            return f"{slope_s * seconds:+.3g} {unit}/{word}".replace(" /", " per ")
    return "0"


def _mean_text(place: AnyPlace, mean: float) -> str:
    point = place.point
    is_exact = point.decimals is not None or point.codec.scale is not None
    return text_of(place, mean) if is_exact else f"{mean:.6g}" if isfinite(mean) else "—"
