"""A scale fitted to what the display shows, or a current loop: from what was typed to cells of the point's row."""

import re

from kanaleto.board.board import Reading
from kanaleto.files.mapscale import LOOP_RANGES, SCALE_COLUMNS
from kanaleto.site.model import Point
from kanaleto.values.codec import NoValue
from kanaleto.values.fitting import fit, full_scale

_LOOP = re.compile(
    r"\s*4-20\s*mA\s+(-?[\d.]+)\s*[-–…]\s*(-?[\d.]+)\s+(-?[\d.]+)\s*[-–…]\s*(-?[\d.]+)\s*", re.IGNORECASE
)
_PAIR = re.compile(r"(-?[\d.,]+)\s*=\s*(-?[\d.,]+)")


def raw_of(point: Point, reading: Reading) -> float | None:
    """The point's number without its scale."""
    codec = point.codec
    raw = type(codec)(codec.type, codec.order).decode(reading.data) if reading.data else None
    return raw if isinstance(raw, int | float) and not isinstance(raw, NoValue) else None


def scale_cells(text: str, point: Point, reading: Reading) -> tuple[dict[str, str], str]:
    """Cells, and what there is to say of them. Raises ValueError with what would be right."""
    loop = _LOOP.fullmatch(text)
    if loop is not None:
        ends = dict(zip(("raw_low", "raw_high", "eng_low", "eng_high"), loop.groups(), strict=True))
        return {**dict.fromkeys(("factor", "offset", "curve", "scale"), ""), **ends, "signal": "4-20mA"}, ""
    if re.match(r"\s*4-20\s*mA", text, re.IGNORECASE):
        ranges = _usual_ranges(raw_of(point, reading))
        raise ValueError(f"write both ranges, as in 4-20mA 6400-32000 0-250; raw ranges that fit now: {ranges}")
    pairs = _PAIR.findall(text)
    if not pairs:
        raise ValueError("write raw=display, as in 1250=12.5 4000=40")
    numbers = [(_number(raw), _number(value)) for raw, value in pairs]
    fitted = fit(numbers)
    cells = {"factor": f"{fitted.factor:.12g}", "offset": f"{fitted.offset:.12g}" if fitted.offset else ""}
    cells = dict.fromkeys((*SCALE_COLUMNS, "scale"), "") | cells
    return cells, fitted.text + _likely_full_scale(point, numbers[0])


def _number(text: str) -> float:
    try:
        return float(text.replace(",", "."))
    except ValueError:
        raise ValueError(f"{text!r} is no number; write raw=display, as in 1250=12.5 4000=40") from None


def _usual_ranges(raw: float | None) -> str:
    """Raw ranges of current loops that are usual, and that the number now fits."""
    fits = [f"{low}-{high}" for low, high in LOOP_RANGES if raw is None or low <= raw <= high]
    return ", ".join(fits[:8]) or "none of the usual"


def _likely_full_scale(point: Point, pair: tuple[float, float]) -> str:
    """With a range known, the raw full scale that the first pair speaks for."""
    low, high = point.limits.range_low, point.limits.range_high
    if low is None or high is None or low == high:
        return ""
    found = full_scale(pair[0], pair[1], low, high)
    return f"; for {low:g}…{high:g} the raw full scale is likely {found[0][0]}" if found else ""
