"""Curves for drawing and reckoning: samples of one point in order of time, whichever way they came, and the least and
the most of each column of a drawing. A value stands until the next sample, so that what was kept on change and what
was remembered each second are the same curve. Loaded when the first curve is looked at: numpy costs a start too much.
"""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from kanaleto.board.memory import PIECE, Columns, Remembered
from kanaleto.history.figures import Figures

Floats = NDArray[np.float64]
Bytes = NDArray[np.int8]
Counts = NDArray[np.int32]
GOOD, STALE, BAD, NEVER = range(4)


class TrendCurve(Struct, frozen=True, eq=False):
    """Times in seconds since 1970 (wall), rising; numbers, NaN where there is none; quality; which meaning the words
    had (another number is another meaning). The last stands until `until`."""

    at: Floats
    value: Floats
    quality: Bytes
    meaning: Counts
    until: float

    def __len__(self) -> int:
        return len(self.at)


EMPTY = TrendCurve(np.empty(0), np.empty(0), np.empty(0, np.int8), np.empty(0, np.int32), 0.0)


def curve_of(
    at: Sequence[float], value: Sequence[float], quality: Sequence[int], meaning: Sequence[int], until: float
) -> TrendCurve:
    return TrendCurve(
        np.array(at, np.float64), np.array(value, np.float64), np.array(quality, np.int8),
        np.array(meaning, np.int32), until,
    )  # fmt: skip


class FromMemory:
    """What is remembered of a point as a curve. Full pieces are copied once, to where the next have room behind them;
    what was given stays as it was, for nothing of it is ever written again but the same."""

    def __init__(self, remembered: Remembered) -> None:
        self.remembered = remembered
        self._full: tuple[object, ...] = ()
        self._room = _Room(4 * PIECE)
        self._filled = 0

    def curve(self) -> TrendCurve:
        until = self.remembered.until
        pieces = self.remembered.pieces
        if not pieces:
            return EMPTY
        full, last = pieces[:-1], pieces[-1]
        known = len(self._full)
        if full[:known] != self._full:  # the oldest were dropped, or the clock was set back
            self._room, self._filled, known = _Room(4 * PIECE), 0, 0
        for piece in full[known:]:
            self._filled = self._put(piece, self._filled)
        self._full = full
        end = self._put(last, self._filled)
        room = self._room
        at = room.at[:end]
        return TrendCurve(at, room.value[:end], room.quality[:end], room.meaning[:end], max(until, float(at[-1])))

    def _put(self, piece: Columns, begin: int) -> int:
        at, value, quality, meaning = _arrays(piece)
        end = begin + len(at)
        if end > len(self._room.at):
            self._room = self._room.larger(begin, 2 * end)
        room = self._room
        room.at[begin:end], room.value[begin:end] = at, value
        room.quality[begin:end], room.meaning[begin:end] = quality, meaning
        return end


class _Room:
    """Columns of some length."""

    def __init__(self, length: int) -> None:
        self.at, self.value = np.empty(length), np.empty(length)
        self.quality, self.meaning = np.empty(length, np.int8), np.empty(length, np.int32)

    def larger(self, filled: int, length: int) -> "_Room":
        """Another with the same in it."""
        new = _Room(length)
        new.at[:filled], new.value[:filled] = self.at[:filled], self.value[:filled]
        new.quality[:filled], new.meaning[:filled] = self.quality[:filled], self.meaning[:filled]
        return new


def _arrays(piece: Columns) -> tuple[Floats, Floats, Bytes, Counts]:
    return (
        np.frombuffer(piece.at, np.float64), np.frombuffer(piece.value, np.float64),
        np.frombuffer(piece.quality, np.int8), np.frombuffer(piece.meaning, np.int32),
    )  # fmt: skip


def joined(older: TrendCurve, newer: TrendCurve) -> TrendCurve:
    """Both as one: of the older what lies before the newer begins. Meanings of the older are counted below those of the
    newer, and are the same where the older's last is the newer's first."""
    if not len(newer):
        return older
    if not len(older):
        return newer
    begin = float(newer.at[0])
    count = int(np.searchsorted(older.at, begin, "left"))
    if not count:
        return newer
    shift = int(newer.meaning[0]) - int(older.meaning[-1])
    at, value, quality = older.at[:count], older.value[:count], older.quality[:count]
    meaning = older.meaning[:count] + np.int32(shift)
    if older.until < begin - 1e-6 and older.until >= at[-1]:  # nobody looked in between
        at = np.append(at, older.until)
        value, quality = np.append(value, np.nan), np.append(quality, np.int8(NEVER))
        meaning = np.append(meaning, meaning[-1])
    return TrendCurve(
        np.concatenate((at, newer.at)), np.concatenate((value, newer.value)),
        np.concatenate((quality, newer.quality)), np.concatenate((meaning, newer.meaning)), newer.until,
    )  # fmt: skip


def filled(main: TrendCurve, other: TrendCurve) -> TrendCurve:
    """The main one, with what the other knows of the time before and after it."""
    if not len(main) or not len(other):
        return main if len(main) else other
    early, late = other.at < main.at[0], other.at > main.until
    before = _some(other, early, min(other.until, float(main.at[0])))
    return joined(joined(before, main), _some(other, late, other.until))


def _some(curve: TrendCurve, which: NDArray[np.bool_], until: float) -> TrendCurve:
    if not which.any():
        return EMPTY
    return TrendCurve(curve.at[which], curve.value[which], curve.quality[which], curve.meaning[which], until)


class Thinned(Struct, frozen=True):
    """A curve in columns of equal time: of each the least and the most (NaN where there is no number), the last value,
    the quality (of what is drawn: NEVER where there is nothing), the worst quality in it, and whether the words mean
    something else than in the column before."""

    low: Floats
    high: Floats
    last: Floats
    quality: Bytes
    worst: Bytes
    is_new: NDArray[np.bool_]

    @property
    def bounds(self) -> tuple[float, float] | None:
        """Least and most of all; None where there is no number."""
        if not np.isfinite(self.low).any():
            return None
        return float(np.nanmin(self.low)), float(np.nanmax(self.high))


def thinned(curve: TrendCurve, begin: float, end: float, count: int) -> Thinned:
    """`count` columns from `begin` to `end`. The value that stands when a column begins belongs to it."""
    edges = np.linspace(begin, end, count + 1)
    nothing = np.full(count, np.nan)
    if not len(curve):
        none = np.full(count, NEVER, np.int8)
        return Thinned(nothing, nothing.copy(), nothing.copy(), none, none.copy(), np.zeros(count, np.bool_))
    at = np.searchsorted(curve.at, edges, "left")
    first, behind = at[:-1], at[1:]
    starts = np.maximum(first - 1, 0)
    is_known = (behind > starts) & (edges[:-1] <= curve.until)
    length = len(curve)
    shown, quality = (
        np.full(length + 1, np.nan),
        np.full(length + 1, NEVER, np.int8),
    )  # a range may begin behind the last
    is_number = np.isfinite(curve.value)
    is_shown = is_number & (curve.quality <= STALE)
    if is_shown.all():  # as it most often is
        shown[:length], quality[:length] = curve.value, curve.quality
    else:
        shown[:length] = np.where(is_shown, curve.value, np.nan)
        quality[:length] = np.where((curve.quality <= STALE) & ~is_number, np.int8(BAD), curve.quality)
    pairs = np.empty(2 * count, np.intp)
    pairs[::2], pairs[1::2] = np.minimum(starts, length), np.minimum(np.maximum(behind, starts + 1), length)
    low = np.where(is_known, _over(np.fmin, shown, pairs), np.nan)
    high = np.where(is_known, _over(np.fmax, shown, pairs), np.nan)
    ends = np.clip(behind - 1, 0, length - 1)
    last = np.where(is_known, shown[ends], np.nan)
    worst = np.where(is_known, _over(np.maximum, quality, pairs), NEVER).astype(np.int8)
    best = np.where(is_known, _over(np.minimum, quality, pairs), NEVER).astype(np.int8)
    meaning = curve.meaning[ends]
    is_new = np.zeros(count, np.bool_)
    is_new[1:] = (meaning[1:] != meaning[:-1]) & is_known[1:] & is_known[:-1]
    return Thinned(low, high, last, best, worst, is_new)


def _over(reckon: "np.ufunc", values: NDArray[np.generic], pairs: NDArray[np.intp]) -> Floats:
    """Over each of the ranges, begin and end by turns, which may overlap; a range without anything gives anything."""
    result: Floats = reckon.reduceat(values, pairs)[::2]
    return result


class At(NamedTuple):
    """What stood at one moment."""

    value: float | None
    quality: int


def value_at(curve: TrendCurve, moment: float) -> At:
    index = int(np.searchsorted(curve.at, moment, "right")) - 1
    if index < 0 or moment > curve.until + 1e-6:
        return At(None, NEVER)
    value, quality = float(curve.value[index]), int(curve.quality[index])
    return At(value if np.isfinite(value) else None, quality)


def figures(curve: TrendCurve, begin: float, end: float) -> Figures | None:
    """None where there is no number."""
    with np.errstate(all="ignore"):  # numbers near the largest have a mean that is none
        return _figures(curve, begin, end)


def _figures(curve: TrendCurve, begin: float, end: float) -> Figures | None:
    end = min(end, curve.until)
    first = max(int(np.searchsorted(curve.at, begin, "right")) - 1, 0)
    behind = int(np.searchsorted(curve.at, end, "right"))
    if behind <= first or end < begin:
        return None
    at = np.maximum(curve.at[first:behind], begin)
    value, quality = curve.value[first:behind], curve.quality[first:behind]
    stood = np.diff(np.append(at, end))
    is_good = np.isfinite(value) & (quality == GOOD)
    if not is_good.any():
        return None
    numbers, times, weights = value[is_good], at[is_good], stood[is_good]
    total = float(weights.sum())
    mean = float((numbers * weights).sum() / total) if total > 0 else float(numbers.mean())
    slope = _slope(times, numbers)
    steps = np.diff(numbers)
    noise = float(np.median(np.abs(steps - np.median(steps))) * 1.4826 / np.sqrt(2)) if len(steps) > 1 else 0.0
    is_gap = ~is_good & (stood > 0) & (np.arange(len(at)) > int(np.argmax(is_good)))  # before the first is no gap
    begins = is_gap & ~np.append([False], is_gap[:-1])
    least, most = int(np.argmin(numbers)), int(np.argmax(numbers))
    return Figures(
        float(numbers[least]), float(times[least]), float(numbers[most]), float(times[most]), mean, slope, noise,
        int(begins.sum()), float(stood[is_gap].sum()), int(is_good.sum()), int((steps != 0).sum()),
    )  # fmt: skip


def _slope(times: Floats, numbers: Floats) -> float:
    """A second, of the straight line with the least squares."""
    if len(times) < 2:
        return 0.0
    since = times - times[0]
    centred = since - since.mean()
    spread = float((centred**2).sum())
    return float((centred * (numbers - numbers.mean())).sum() / spread) if spread > 0 else 0.0
