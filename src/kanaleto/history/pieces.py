"""Summaries kept beside the samples: a piece is so many rows of one series in a row, of one span and one definition,
with what has to be known of them when a month is asked for. Pieces of a series stand one behind the other without a
gap; only before the first and behind the last are rows that no piece has yet.
"""

from collections.abc import Iterable, Sequence
from itertools import pairwise
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Connection, delete, func, insert, select

from kanaleto.history import schema
from kanaleto.history.standing import END, GOOD

ROWS = 1000
_NEVER = 1 << 62
_piece, _sample = schema.piece.c, schema.sample.c
_COLUMNS = (_sample.at, _sample.span, _sample.kind, _sample.quality, _sample.value, _sample.definition)

Row = tuple[int, int, int, int, float | None, int]
"""At, span, kind, quality, value, definition."""


class Piece(NamedTuple):
    """Times in microseconds: `first` and `last` are of its first and last row. How long what it has stood, up to the
    last row: in all, with a good value, with a number; `area` is number by time. `is_even` where all of it is good and
    nothing ends in it. `end_…` is the last row."""

    series: int
    first: int
    last: int
    span: int
    rows: int
    least: float | None
    most: float | None
    area: float
    recorded_us: int
    good_us: int
    number_us: int
    is_even: bool
    definition: int
    end_kind: int
    end_quality: int
    end_value: float | None


def piece_of(series: int, rows: Sequence[Row]) -> Piece:
    """Of rows of one span and one definition, in their order."""
    numbers = [value for _, _, _, quality, value, _ in rows if quality == GOOD and value is not None]
    area, recorded, good, number = 0.0, 0, 0, 0
    for before, after in pairwise(rows):
        at, _, kind, quality, value, _ = before
        if kind == END:
            continue
        stood = after[0] - at
        recorded += stood
        if quality == GOOD:
            good += stood
            if value is not None:
                number += stood
                area += value * stood
    end = rows[-1]
    is_even = len(numbers) == len(rows) and all(row[2] != END for row in rows)
    return Piece(
        series, rows[0][0], end[0], end[1], len(rows), min(numbers, default=None), max(numbers, default=None), area,
        recorded, good, number, is_even, end[5], end[2], end[3], end[4],
    )  # fmt: skip


class Summing:
    """Makes pieces of what was put, for the one writer of these series. Whoever calls it commits. Nothing is summed
    that rows may still come before: those of an earlier span that lie after now, where the clock was set back."""

    def __init__(self) -> None:
        self._through: dict[int, int] = {}
        self._waiting: dict[int, int] = {}
        self._newest: dict[int, int] = {}
        self._span_begun_us = -_NEVER
        self._is_known = False

    def begin_span(self, connection: Connection, at_us: int) -> None:
        """Rows come from that time on."""
        self._newest.clear()
        self._span_begun_us = at_us
        newest = connection.execute(select(func.max(_piece.last))).scalar()
        if newest is not None and newest >= at_us:  # the clock was set back: rows will come among those
            self.forget(connection, _piece.last >= at_us)

    def note(self, series_and_times: Iterable[tuple[int, int]]) -> None:
        """Rows were put, those of a series in the order of their times."""
        waiting, newest = self._waiting, self._newest
        for series, at_us in series_and_times:
            waiting[series] = waiting.get(series, 0) + 1
            newest[series] = at_us

    def doubt(self) -> None:
        """What was put may not be there: it is looked up again."""
        self._is_known = False

    def forget(self, connection: Connection, which: ColumnElement[bool]) -> None:
        """These pieces are no more true."""
        connection.execute(delete(schema.piece).where(which))
        self.doubt()

    def _look_up(self, connection: Connection) -> None:
        """How many rows of each series have no piece yet, also of what was recorded before. Where others write into the
        same database, only of series that were put here."""
        counts: Any = select(_sample.series, func.count()).group_by(_sample.series)
        had: Any = select(_piece.series, func.sum(_piece.rows), func.max(_piece.last)).group_by(_piece.series)
        if connection.dialect.name != "sqlite":
            newest = list(self._newest)
            counts, had = counts.where(_sample.series.in_(newest)), had.where(_piece.series.in_(newest))
        known = {int(series): (int(rows), int(last)) for series, rows, last in connection.execute(had).fetchall()}
        self._waiting.clear()
        for series, count in connection.execute(counts).fetchall():
            rows, last = known.get(int(series), (0, -_NEVER))
            self._through[int(series)] = last
            self._waiting[int(series)] = int(count) - rows
        self._is_known = True

    def sum_up(self, connection: Connection, most: int) -> int:
        """Make up to so many pieces where enough has come; how many were made."""
        if not self._is_known:
            self._look_up(connection)
        made = 0
        for series in [series for series, count in self._waiting.items() if count >= 2 * ROWS]:
            while made < most and self._waiting[series] >= 2 * ROWS:
                made += self._sum_one(connection, series)
            if made >= most:
                break
        return made

    def _sum_one(self, connection: Connection, series: int) -> int:
        through = self._through.get(series, -_NEVER)
        upto = self._newest.get(series, self._span_begun_us - 1)
        wanted = (
            select(*_COLUMNS).where(_sample.series == series, _sample.at > through, _sample.at <= upto)
            .order_by(_sample.at, _sample.span).limit(ROWS + 1)
        )  # fmt: skip
        rows: list[Row] = [tuple(row) for row in connection.execute(wanted).fetchall()]
        if len(rows) <= ROWS:  # what is left waits until there is more, or time has come to it
            self._waiting[series] = 0
            return 1
        pieces = [piece_of(series, part) for part in _parts(_without_torn_end(rows))]
        if not pieces:
            self._waiting[series] = 0
            return 1
        connection.execute(insert(schema.piece), [piece._asdict() for piece in pieces])
        self._through[series] = pieces[-1].last
        self._waiting[series] -= sum(piece.rows for piece in pieces)
        return len(pieces)


def _without_torn_end(rows: list[Row]) -> list[Row]:
    """Rows of one moment stay together: a piece tells them from others by the time alone. The last row is of the next
    piece, and with it all of its moment."""
    return [row for row in rows if row[0] != rows[-1][0]]


def _parts(rows: list[Row]) -> list[list[Row]]:
    """Of one span and definition each; rows of one moment stay together."""
    parts: list[list[Row]] = []
    for row in rows:
        last = parts[-1][-1] if parts else None
        if last is not None and (last[1], last[5]) == (row[1], row[5]):
            parts[-1].append(row)
        else:
            parts.append([row])
    return parts


def pieces_of(connection: Connection, series: int, from_us: int | None, to_us: int | None) -> list[Piece]:
    """Those of a series that lie whole in a time, in order."""
    wanted = select(*schema.piece.c).where(_piece.series == series).order_by(_piece.first, _piece.span)
    if from_us is not None:
        wanted = wanted.where(_piece.first >= from_us)
    if to_us is not None:
        wanted = wanted.where(_piece.last <= to_us)
    return [Piece(*row) for row in connection.execute(wanted).fetchall()]
