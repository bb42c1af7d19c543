"""A curve out of a record. So many rows as can be read in a breath come as they are; of more the database itself gives
the least, the most and the last of each slice of time, so that none of them is missed."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from sqlalchemy import Connection, case, func, literal_column, select

from kanaleto.history import schema
from kanaleto.history.curves import BAD, EMPTY, NEVER, STALE, TrendCurve, curve_of
from kanaleto.history.definition import Definition, definition_text, derived_text, read_definition
from kanaleto.history.pieces import Piece, pieces_of
from kanaleto.history.query import History, SeriesInfo
from kanaleto.history.standing import END, GOOD
from kanaleto.planning.plan import AnyPlace, DerivedPlace
from kanaleto.values.codec import NoValue

MOST_ROWS = 200_000
SLICES = 4000
_MANY = 20_000


class StoredRows(Struct, frozen=True):
    """A curve, and the definitions that its words had: by meaning, the oldest first."""

    curve: TrendCurve
    definitions: tuple[Definition | None, ...] = ()
    is_sliced: bool = False


def stored_curve(
    history: History, series: SeriesInfo, begin: float, end: float, today: Definition | None = None
) -> StoredRows:
    """From `begin` to `end`, wall seconds, with what stood at the beginning. With `today` words that were recorded
    under another definition are read with that one. Raises CannotRecord."""
    connection = history.connection
    samples = schema.sample.c
    first_us, last_us = round(begin * 1e6), round(end * 1e6)
    standing = connection.execute(
        select(func.max(samples.at)).where(samples.series == series.id, samples.at <= first_us)
    ).scalar()
    from_us = int(standing) if standing is not None else first_us
    within = (samples.series == series.id, samples.at >= from_us, samples.at <= last_us)
    pieces = pieces_of(connection, series.id, from_us, last_us) if history.has_pieces else []
    if sum(piece.rows for piece in pieces) > MOST_ROWS:
        return _rows_as_stored(
            history, _by_pieces(connection, series.id, pieces, from_us, last_us), last_us, today, True
        )
    found = connection.execute(select(func.count(), func.min(samples.at), func.max(samples.at)).where(*within)).one()
    count, oldest, newest = found
    if not count:
        return StoredRows(EMPTY)
    is_sliced = count > MOST_ROWS
    if is_sliced:
        rows = _sliced(connection, within, int(oldest), int(newest))
    else:
        rows = _all(connection, within, today is not None)
    return _rows_as_stored(history, rows, last_us, today, is_sliced)


def _all(connection: Connection, within: tuple[Any, ...], with_words: bool) -> list[tuple[Any, ...]]:
    samples = schema.sample.c
    columns = [samples.at, samples.span, samples.kind, samples.quality, samples.value, samples.definition]
    columns += [samples.words] if with_words else []
    result = connection.execute(select(*columns).where(*within).order_by(samples.at, samples.span))
    rows: list[tuple[Any, ...]] = []
    while some := result.fetchmany(_MANY):
        rows += [tuple(row) for row in some]
    return rows


def _by_pieces(
    connection: Connection, series: int, pieces: Sequence[Piece], from_us: int, last_us: int
) -> list[tuple[Any, ...]]:
    """Of each summary that is good throughout its least, its most and its last; the rows of the others, and of what no
    summary has yet, as they are or in slices."""
    samples = schema.sample.c
    rows: list[tuple[Any, ...]] = []

    def raw(low: int, high: int, *beside: Any) -> None:
        within = (samples.series == series, samples.at >= low, samples.at <= high, *beside)
        count = int(connection.execute(select(func.count()).select_from(schema.sample).where(*within)).scalar() or 0)
        rows.extend(_all(connection, within, False) if count <= MOST_ROWS else _sliced(connection, within, low, high))

    raw(from_us, pieces[0].first - 1)
    for piece in pieces:
        if not piece.is_even:
            raw(piece.first, piece.last, samples.span == piece.span)
            continue
        middle = piece.first + (piece.last - piece.first) // 2
        for at, value in ((piece.first, piece.least), (middle, piece.most), (piece.last, piece.end_value)):
            if at != piece.first or not rows or rows[-1][:2] != (at, piece.span):
                rows.append((at, piece.span, 0, GOOD, value, piece.definition))
    raw(pieces[-1].last + 1, last_us)
    rows.sort(key=lambda row: (row[0], row[1]))
    return rows


def _sliced(connection: Connection, within: tuple[Any, ...], from_us: int, last_us: int) -> list[tuple[Any, ...]]:
    """Of each slice, span, definition and quality: its first row as the least, one as the most, and its last."""
    samples = schema.sample.c
    size = max((last_us - from_us) // SLICES, 1)
    # of whole numbers: a whole number, in either database
    slice_of = (samples.at - literal_column(str(from_us))).self_group().op("/")(literal_column(str(size)))
    ends = case((samples.kind == END, 1), else_=0)
    pieces = connection.execute(
        select(
            func.min(samples.at), func.max(samples.at), samples.span, ends, samples.quality, samples.definition,
            func.min(samples.value), func.max(samples.value),
        )
        .where(*within)
        .group_by(slice_of, samples.span, ends, samples.quality, samples.definition)
    ).fetchall()  # fmt: skip
    lasts = {int(row[1]) for row in pieces}
    values = {}
    ordered = sorted(lasts)
    for at in range(0, len(ordered), 500):
        some = ordered[at : at + 500]
        for moment, span, value in connection.execute(
            select(samples.at, samples.span, samples.value).where(*within, samples.at.in_(some))
        ).fetchall():
            values[moment, span] = value
    rows: list[tuple[Any, ...]] = []
    for first, last, span, is_end, quality, definition, least, most in pieces:
        kind = END if is_end else 0
        rows.append((first, span, kind, quality, least, definition))
        if last > first:
            middle = first + (last - first) // 2
            rows.append((middle, span, kind, quality, most, definition))
            rows.append((last, span, kind, quality, values.get((last, span)), definition))
    rows.sort(key=lambda row: (row[0], row[1]))
    return rows


def _rows_as_stored(
    history: History, rows: list[tuple[Any, ...]], last_us: int, today: Definition | None, is_sliced: bool
) -> StoredRows:
    spans = history.span_bounds()
    newest = max((row[1] for row in rows), default=0)
    at: list[float] = []
    value: list[float] = []
    quality: list[int] = []
    meaning: list[int] = []
    meanings: dict[object, int] = {}
    definitions: list[Definition | None] = []
    same: dict[int, int] = {}
    last_span, was_open = -1, False
    for row in rows:
        moment, span, kind, how, number, definition = row[:6]
        if span < newest and moment >= _superseded_us(spans, span):
            continue  # under a clock that was set back afterwards: the later span tells this time
        if span != last_span and was_open:
            broke_off = spans.get(last_span, (0, 0))[1]
            at.append(max(broke_off / 1e6, at[-1]) if broke_off < moment else moment / 1e6)
            value.append(np.nan)
            quality.append(NEVER)
            meaning.append(meaning[-1])
        recorded_as = history.definition(definition)
        if definition not in same:
            key = recorded_as.fingerprint if recorded_as is not None else definition
            is_same = today is not None and recorded_as is not None and recorded_as.fingerprint == today.fingerprint
            if today is not None:
                key = today.fingerprint
            if key not in meanings:
                meanings[key] = len(definitions)
                definitions.append(today if today is not None else recorded_as)
            same[definition] = meanings[key] if today is None or is_same else -1
        at.append(moment / 1e6)
        if kind == END:
            number, how = None, NEVER
        elif today is not None and same[definition] == -1 and how <= STALE:
            number = _read_again(today, row[6] if len(row) > 6 else None)
            how = how if number is not None else BAD
        value.append(number if number is not None else np.nan)
        quality.append(how if number is not None or how > STALE else BAD)
        meaning.append(max(same[definition], 0))
        last_span, was_open = span, kind != END
    if not at:
        return StoredRows(EMPTY)
    lived = spans.get(last_span, (0, rows[-1][0]))[1]
    until = min(max(lived, rows[-1][0]), last_us) / 1e6 if was_open else at[-1]
    return StoredRows(curve_of(at, value, quality, meaning, until), tuple(definitions), is_sliced)


def _superseded_us(spans: dict[int, tuple[int, int]], span: int) -> int:
    """From when on later spans tell what was, though this one goes on."""
    begun_ended = spans.get(span, (0, 0))
    return min(
        (begun for number, (begun, _) in spans.items() if number > span and begun < begun_ended[1]), default=1 << 62
    )


def _read_again(today: Definition, words: bytes | None) -> float | None:
    read = today.value_of(words) if words else None
    return float(read) if isinstance(read, int | float) and not isinstance(read, NoValue) else None


def definition_of(place: AnyPlace) -> Definition:
    """What its words mean today."""
    text = derived_text(place.derived) if isinstance(place, DerivedPlace) else definition_text(place.point)
    return read_definition(text)
