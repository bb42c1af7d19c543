"""Curves as dots, and dots as characters: a cell has two columns of four. Each column of a curve is drawn from its
least to its most."""

import numpy as np
from numpy.typing import NDArray

from kanaleto.history.curves import Floats

Dots = NDArray[np.bool_]
"""Rows from the top by columns."""
_WEIGHTS = np.array([[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]], np.uint16)
NOBODY = -1


def curve_dots(low: Floats, high: Floats, bottom: float, top: float, rows: int) -> Dots:
    """A curve between `bottom` and `top` in so many cells of height; what is beyond ends at the edge."""
    most = 4 * rows - 1
    span = top - bottom or 1.0
    with np.errstate(all="ignore"):
        upper = np.clip(np.rint((top - high) / span * most), 0, most)
        lower = np.clip(np.rint((top - low) / span * most), 0, most)
        at = np.arange(most + 1)[:, None]
        dots: Dots = (at >= upper[None, :]) & (at <= lower[None, :])
    return dots


def line_dots(value: float, bottom: float, top: float, rows: int, columns: int, every: int = 3) -> Dots:
    """A dotted line at one value; nothing where it lies outside."""
    dots = np.zeros((4 * rows, columns), np.bool_)
    if bottom <= value <= top:
        most = 4 * rows - 1
        dots[round((top - value) / (top - bottom or 1.0) * most), ::every] = True
    return dots


def drawn(layers: list[Dots]) -> tuple[list[str], NDArray[np.int8]]:
    """The text of each row of cells, blank where no dot is, and of whom each cell is: the number of the last layer
    that has a dot there, NOBODY where none has."""
    rows, columns = layers[0].shape[0] // 4, layers[0].shape[1] // 2
    codes = np.zeros((rows, columns), np.uint16)
    owners = np.full((rows, columns), NOBODY, np.int8)
    for number, dots in enumerate(layers):
        cells = dots[: 4 * rows, : 2 * columns].reshape(rows, 4, columns, 2)
        layer_codes = (cells * _WEIGHTS[None, :, None, :]).sum(axis=(1, 3), dtype=np.uint16)
        has = layer_codes > 0
        codes |= layer_codes
        owners[has] = number
    characters = np.where(codes > 0, codes + 0x2800, 0x20).astype("<u4")
    return [row.tobytes().decode("utf-32-le") for row in characters], owners


def row_of(value: float, bottom: float, top: float, rows: int) -> int:
    """The row of cells, from the top, in which a value is drawn."""
    share = (top - value) / (top - bottom or 1.0)
    return max(0, min(rows - 1, round(share * (4 * rows - 1)) // 4))
