"""What moved: points ranked by how much they changed since a moment, against their own noise before it; and how much
each moved in the last minute. Loaded when somebody asks: numpy costs a start too much.

Points are ranked by the mean of five answers in a row, of whichever five differ most, so that a touch that is over
again still tells. Its noise is what such a mean would differ by if nothing had happened: from the spread of the answers
before, or, where those wander, from how far the same means were apart then. What is shown are values that were read:
the last one before, and of those five the one that lies farthest from it.
"""

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from kanaleto.analysis.barewords import BareState
from kanaleto.board.board import Readings
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, Block, Identity
from kanaleto.site.model import Point
from kanaleto.values.scale import Scale
from kanaleto.values.text import words_of

Numbers = NDArray[np.float64]
WINDOW, LEAST_BEFORE, MOST_BEFORE, MOST_AFTER = 5, 3, 60, 240
NOTICED = 3.0
"""Below so many times its noise nothing has happened that is worth a word."""
_STATE_SCORE = 30.0
_STEP_SCORE = 6.0  # of what had been still, and made a step: a counter that goes up by one


class Mover(NamedTuple):
    """A column and how many times its noise it changed; the last value before, and of those after the one that differed
    most; whether it had been still; the noise that it is compared with."""

    column: int
    score: float
    before: float
    after: float
    was_still: bool
    noise: float = 0.0


def matrix_of(rows: Sequence[Sequence[Any]], width: int) -> Numbers:
    """Values as numbers, NaN for what is none."""
    if not rows:
        return np.empty((0, width))
    try:
        return np.array(rows, np.float64).reshape(len(rows), width)
    except (ValueError, TypeError, OverflowError):
        plain = [[_number(value) for value in row] for row in rows]
        return np.array(plain, np.float64).reshape(len(rows), width)


def _number(value: object) -> float:
    try:
        return float(value) if isinstance(value, int | float) else np.nan
    except OverflowError:
        return np.nan


def scores(before: Numbers, after: Numbers, least: Numbers, is_state: NDArray[np.bool_]) -> list[Mover]:
    """A mover a column, those that can be judged; `least` is the smallest step that a column can make."""
    with np.errstate(all="ignore"):
        return _scores(before[-MOST_BEFORE:], after, least, is_state)


def _scores(before: Numbers, after: Numbers, least: Numbers, is_state: NDArray[np.bool_]) -> list[Mover]:
    if not len(before) or not len(after):
        return []
    n, k = min(WINDOW, len(after)), len(before)
    mean_before = _mean(before)
    filled_before = np.where(np.isfinite(before), before, mean_before)
    mean_after = _mean(after)
    filled_after = np.where(np.isfinite(after), after, mean_after)
    sums = np.cumsum(np.vstack((np.zeros(after.shape[1]), filled_after)), axis=0)
    means = (sums[n:] - sums[:-n]) / n
    moved = np.abs(means - mean_before)
    at = np.argmax(moved, axis=0)
    columns = np.arange(after.shape[1])
    most = moved[at, columns]
    first = _last(before)
    window = after[np.arange(n)[:, None] + at[None, :], columns[None, :]]
    away = np.where(np.isfinite(window), np.abs(window - first), -1.0)
    where = window[np.argmax(away, axis=0), columns]
    spread = np.std(filled_before, axis=0, ddof=1) if k > 1 else np.zeros(after.shape[1])
    share = np.sqrt(1 / n + 1 / k)
    noise = spread * share
    wandered = _wandering(filled_before, n)
    if wandered is not None:
        noise = np.where(wandered > 1.5 * noise, wandered, noise)
    was_still = spread <= least * 1e-6
    noise = np.maximum(noise, least * share)
    found = most / noise
    has_stepped = was_still & (filled_after != filled_before[-1]).any(axis=0)
    found = np.where(has_stepped, np.maximum(found, _STEP_SCORE), found)
    changes_before = (np.diff(filled_before, axis=0) != 0).sum(axis=0)
    changed = (filled_after != filled_before[-1]).any(axis=0)
    found = np.where(is_state, np.where(changed, _STATE_SCORE / (1 + changes_before), 0.0), found)
    where = np.where(is_state, _last(after), where)
    is_known = (
        np.isfinite(found)
        & np.isfinite(first)
        & np.isfinite(where)
        & np.isfinite(mean_before)
        & np.isfinite(mean_after)
    )
    return [
        Mover(
            int(column),
            float(found[column]),
            float(first[column]),
            float(where[column]),
            bool(was_still[column]),
            float(noise[column]),
        )
        for column in np.flatnonzero(is_known)
    ]


def _last(rows: Numbers) -> Numbers:
    """Of each column, the last that is a number."""
    is_known = np.isfinite(rows)
    at = len(rows) - 1 - np.argmax(is_known[::-1], axis=0)
    result: Numbers = rows[at, np.arange(rows.shape[1])]
    return result


def _mean(rows: Numbers) -> Numbers:
    """Of each column, of what is a number in it."""
    is_known = np.isfinite(rows)
    result: Numbers = np.where(is_known, rows, 0.0).sum(axis=0) / is_known.sum(axis=0)
    return result


def _wandering(before: Numbers, n: int) -> Numbers | None:
    """How far a mean of `n` was from the mean of what came before it, while nothing had happened; None where too little
    is known."""
    half = len(before) // 2
    count = len(before) - half - n + 1
    if count < 2 * n:
        return None
    sums = np.cumsum(np.vstack((np.zeros(before.shape[1]), before)), axis=0)
    starts = np.arange(count)
    earlier = (sums[starts + half] - sums[starts]) / half
    later = (sums[starts + half + n] - sums[starts + half]) / n
    result: Numbers = np.sqrt(np.mean((later - earlier) ** 2, axis=0))
    return result


def least_step(point: Point, value: float = 0.0) -> float:
    """The smallest step that a point can make: one of its raw number; of a float what is no more than its last
    digits."""
    codec = point.codec
    if codec.type.is_float:
        return max(abs(value), 1e-3) * 1e-6
    return abs(codec.scale.factor) if isinstance(codec.scale, Scale) else 1.0


class Moved(Struct, frozen=True):
    """A point that changed; see `Mover`. Of a text before and after are texts."""

    identity: Identity
    score: float
    before: float | str
    after: float | str
    was_still: bool
    noise: float = 0.0


class _Followed:
    """A block, or the derived points: what it was before, and what came since."""

    def __init__(self, places: Sequence[AnyPlace], before: Sequence[Sequence[Any]], at_s: float) -> None:
        self.places, self.at_s = places, at_s
        self.rows: list[Numbers] = []
        self._texts: dict[int, dict[str, float]] = {}
        self._codes = 0
        self.before = matrix_of([self._coded(values) for values in before], len(places))
        points = [place.point for place in places]
        lasts = self.before[-1] if len(self.before) else np.zeros(len(points))
        self.least = np.array([least_step(point, last) for point, last in zip(points, lasts, strict=True)])
        self._states = np.array([point.is_state for point in points], np.bool_)

    def add(self, at_s: float, values: Sequence[Any]) -> None:
        self.at_s = at_s
        self.rows.append(matrix_of([self._coded(values)], len(self.places))[0])
        del self.rows[:-MOST_AFTER]

    def _coded(self, values: Sequence[Any]) -> Sequence[Any]:
        """Texts as numbers: which of those that its column had it is."""
        if not any(isinstance(value, str) for value in values):
            return values
        return [self._code(at, value) if isinstance(value, str) else value for at, value in enumerate(values)]

    def _code(self, column: int, text: str) -> float:
        known = self._texts.setdefault(column, {})
        if text not in known:
            if len(known) > 2 * (MOST_BEFORE + MOST_AFTER):  # those that no row has any more are forgotten
                used = {*self.before[:, column].tolist(), *(float(row[column]) for row in self.rows)}
                known = self._texts[column] = {text: code for text, code in known.items() if code in used}
            self._codes += 1
            known[text] = float(self._codes)
        return known[text]

    @property
    def states(self) -> NDArray[np.bool_]:
        """Which columns are states, or texts."""
        found = self._states.copy()
        found[list(self._texts)] = True
        return found

    def value(self, column: int, number: float) -> float | str:
        """As it was read."""
        texts = self._texts.get(column, {})
        return next((text for text, code in texts.items() if code == number), number)


class WhatMoved:
    """From `begin` on; `look` at snapshots as they come, then `ranked`. A plan that changes keeps what stays."""

    def __init__(self, snapshot: Snapshot) -> None:
        self.since_s = snapshot.now_s
        self._followed: dict[object, _Followed] = {}
        self._board = snapshot.board
        for key, places, block in _blocks_of(snapshot):
            before = _values_before(snapshot.board, block, places, snapshot.now_s)
            self._followed[key] = _Followed(places, before, snapshot.now_s)

    def look(self, snapshot: Snapshot) -> None:
        """Take what was read since the last look."""
        for key, places, block in _blocks_of(snapshot):
            followed = self._followed.get(key)
            if followed is None or len(followed.places) != len(places):
                followed = self._followed[key] = _Followed(places, [], snapshot.now_s)
            if block is None:
                if snapshot.now_s - followed.at_s >= 0.45:
                    followed.add(
                        snapshot.now_s, [snapshot.board.reading(place, snapshot.now_s).value for place in places]
                    )
                continue
            record = snapshot.board.records[block.index]
            if record is not None and record.at_s > followed.at_s:
                followed.add(record.at_s, [record.values[place.number] for place in places])  # type: ignore[union-attr]

    def ranked(self, most: int = 100) -> list[Moved]:
        """The most moved first."""
        found: list[Moved] = []
        for followed in self._followed.values():
            if len(followed.before) < LEAST_BEFORE:
                continue
            after = np.array(followed.rows) if followed.rows else np.empty((0, len(followed.places)))
            found += [
                Moved(
                    followed.places[mover.column].identity,
                    mover.score,
                    followed.value(mover.column, mover.before),
                    followed.value(mover.column, mover.after),
                    mover.was_still,
                    mover.noise,
                )
                for mover in scores(followed.before, after, followed.least, followed.states)
            ]
        found.sort(key=lambda moved: -moved.score)
        return found[:most]

    @property
    def waiting(self) -> int:
        """Points of which too little was known before to judge them."""
        return sum(len(followed.places) for followed in self._followed.values() if len(followed.before) < LEAST_BEFORE)


def _blocks_of(snapshot: Snapshot) -> list[tuple[object, Sequence[AnyPlace], Block | None]]:
    by_block: dict[int, list[AnyPlace]] = {}
    blocks: dict[int, Block] = {}
    for place in snapshot.plan.places:
        if place.block is not None:
            by_block.setdefault(place.block.index, []).append(place)
            blocks[place.block.index] = place.block
    found: list[tuple[object, Sequence[AnyPlace], Block | None]] = [
        (blocks[index].key, places, blocks[index]) for index, places in by_block.items()
    ]
    if snapshot.plan.derived:
        found.append(("", snapshot.plan.derived, None))
    return found


def _values_before(board: Readings, block: Block | None, places: Sequence[AnyPlace], now_s: float) -> list[list[Any]]:
    if block is None:
        traces = [board.trace(place) for place in places]
        count = min((len(trace) for trace in traces), default=0)
        return [[trace[len(trace) - count + at][1] for trace in traces] for at in range(count)]
    rows: list[list[Any]] = []
    for at_s, data in board.traces[block.index].read()[-MOST_BEFORE:]:
        if at_s > now_s:
            break  # it came while somebody looked
        values = block.decoder.decode(data)
        rows.append([values[place.number] for place in places])  # type: ignore[union-attr]
    return rows


def spreads(snapshot: Snapshot) -> dict[Identity, float]:
    """How much each point moved in the last minute: from its least to its most, as a share of its range, or of how
    large it is where it has none."""
    found: dict[Identity, float] = {}
    for _, places, block in _blocks_of(snapshot):
        before = matrix_of(_values_before(snapshot.board, block, places, snapshot.now_s), len(places))
        if not len(before):
            continue
        low, high = np.fmin.reduce(before, axis=0), np.fmax.reduce(before, axis=0)
        for place, least, most in zip(places, low.tolist(), high.tolist(), strict=True):
            limits = place.point.limits
            if least != least or most != most:
                continue
            size = max(abs(least), abs(most)) or 1.0
            if limits.range_low is not None and limits.range_high is not None and limits.range_high > limits.range_low:
                size = limits.range_high - limits.range_low
            found[place.identity] = (most - least) / size
    return found


class MovedWord(Struct, frozen=True):
    """A register, or a bit of a table of bits, that changed; by its address on the wire."""

    address: int
    score: float
    before: float
    after: float
    was_still: bool


def ranked_words(state: BareState, since_s: float, most: int = 100) -> list[MovedWord]:
    """Bare words as unsigned numbers, those first that changed most since loop time `since_s`."""
    found: list[MovedWord] = []
    for stretch in state.words:
        before = [_words_in(state, data, stretch.count) for at_s, data in stretch.read if at_s <= since_s]
        after = [_words_in(state, data, stretch.count) for at_s, data in stretch.read if at_s > since_s]
        if len(before) < LEAST_BEFORE or not after:
            continue
        rows = matrix_of(before, stretch.count), matrix_of(after, stretch.count)
        is_bits = np.full(stretch.count, state.table.is_bits, np.bool_)
        for mover in scores(*rows, np.ones(stretch.count), is_bits):
            address = stretch.first + mover.column
            found.append(MovedWord(address, mover.score, mover.before, mover.after, mover.was_still))
    found.sort(key=lambda moved: (-moved.score, moved.address))
    return found[:most]


def _words_in(state: BareState, data: bytes, count: int) -> Sequence[int]:
    if state.table.is_bits:
        return [data[at // 8] >> at % 8 & 1 for at in range(count)]
    return words_of(data)
