"""What a record has to say: series, samples, statistics, minutes. Rows come one at a time, however many there are."""

from collections.abc import Iterator
from typing import Any, NamedTuple

from msgspec import Struct
from sqlalchemy import Executable, func, literal, select

from kanaleto.history import schema
from kanaleto.history.definition import Definition, read_definition
from kanaleto.history.pieces import Piece, pieces_of
from kanaleto.history.recording import BREAK_US
from kanaleto.history.schema import MIGRATIONS, NewerStore, version_of
from kanaleto.history.standing import END, GOOD, NEVER, QUALITIES
from kanaleto.history.store import StoreError, open_engine, sentence, shown_url, url_of
from kanaleto.history.store_error import CannotRecord
from kanaleto.values.codec import NoValue, Value

NOT_RECORDED = "nothing was recorded from here on"
_MANY = 5000


class SeriesInfo(Struct, frozen=True):
    """A series; times in microseconds since 1970, None where it has no sample."""

    id: int
    site: str
    device: str
    point: str
    unit: str
    first_us: int | None
    last_us: int | None
    rows: int


class Sample(NamedTuple):
    """A row of a series, or the place where recording broke off. `value` is exact where the words tell it."""

    at_us: int
    series: SeriesInfo
    kind: int
    quality: str
    value: Value | None
    words: bytes | None
    reason: str
    definition: Definition | None


class Statistics(Struct, frozen=True):
    """Of one series over a time: the mean weighs each value by how long it stood, as far as recording lived."""

    series: SeriesInfo
    rows: int
    least: float | None
    most: float | None
    mean: float | None
    recorded_s: float
    good_s: float


class History:
    """An opened record. Raises CannotRecord, also later."""

    def __init__(self, store: str) -> None:
        self.url = url_of(store)
        self.name = shown_url(self.url)
        self._engine = open_engine(self.url, is_writer=False)
        try:
            self.connection = self._engine.connect()
            self._version = version_of(self.connection)
        except StoreError as error:
            raise sentence(error, self.url) from None
        if self._version > len(MIGRATIONS):
            self.close()
            raise CannotRecord(str(NewerStore(f"{self.name} was written by a newer version of Kanaleto")))
        if self._version == 0:
            self.close()
            raise CannotRecord(f"{self.name} holds no record of Kanaleto")
        self._definitions: dict[int, Definition | None] = {}
        self._reasons: dict[int, str] = {}

    def close(self) -> None:
        self.connection.close()
        self._engine.dispose()

    def series(self, counts: bool = True) -> list[SeriesInfo]:
        """All series, by site, device and point; with `counts` how many rows each has."""
        samples, info = schema.sample.c, schema.series.c
        of_it = samples.series == info.id

        def one(what: Any, *where: Any, beside: Any = schema.series) -> Any:
            """A look-up in the series' own rows, which lie together; they are not gone through."""
            return select(what).where(of_it, *where).correlate(schema.series, beside).scalar_subquery()

        newest = select(samples.definition).where(of_it).order_by(samples.at.desc(), samples.span.desc()).limit(1)
        columns = [
            info.id, info.site, info.device, info.point, one(func.min(samples.at)), one(func.max(samples.at)),
            newest.correlate(schema.series).scalar_subquery(),
        ]  # fmt: skip
        wanted: Any = schema.series
        if not counts:
            columns += [literal(0)]
        elif self.has_pieces:
            pieces = schema.piece.c
            summed = (
                select(pieces.series, func.sum(pieces.rows).label("rows"), func.min(pieces.first).label("first"),
                       func.max(pieces.last).label("last"))
                .group_by(pieces.series).subquery()
            )  # fmt: skip
            wanted = wanted.join(summed, summed.c.series == info.id, isouter=True)
            never = -(1 << 62)
            behind = one(func.count(), samples.at > func.coalesce(summed.c.last, never), beside=summed)
            before = one(func.count(), samples.at < func.coalesce(summed.c.first, never), beside=summed)
            columns += [func.coalesce(summed.c.rows, 0) + behind.self_group() + before.self_group()]
        else:
            columns += [one(func.count())]
        rows = self.connection.execute(
            select(*columns).select_from(wanted).order_by(info.site, info.device, info.point)
        )
        found = []
        for number, site, device, point, first, last, definition, count in rows.fetchall():
            meaning = self.definition(definition) if definition is not None else None
            unit = meaning.unit if meaning is not None else ""
            found.append(SeriesInfo(number, site, device, point, unit, first, last, int(count or 0)))
        return found

    @property
    def has_pieces(self) -> bool:
        """Whether summaries stand beside the samples."""
        return self._version >= schema.WITH_PIECES

    def series_named(self, site: str, wanted: set[tuple[str, str]]) -> list[SeriesInfo]:
        """Those of a site, by device and point; how many rows they have is not counted."""
        columns = schema.series.c
        rows = self.connection.execute(
            select(columns.id, columns.device, columns.point).where(columns.site == site)
        ).fetchall()
        return [
            SeriesInfo(number, site, device, point, "", None, None, 0)
            for number, device, point in rows
            if (device, point) in wanted
        ]

    def spans(self, site: str | None = None) -> list[tuple[int, int]]:
        """When recording lived, in order."""
        spans, runs = schema.span.c, schema.run.c
        wanted = select(spans.begun, spans.last).join(schema.run, runs.id == spans.run).order_by(spans.begun)
        if site is not None:
            wanted = wanted.where(runs.site == site)
        return [(int(begun), int(last)) for begun, last in self.connection.execute(wanted).fetchall()]

    def samples(self, series: SeriesInfo, from_us: int | None = None, to_us: int | None = None) -> Iterator[Sample]:
        """Rows of a series in a time, and before the first the one that stood then. Where recording broke off without
        an end a sample of quality never says so."""
        columns = schema.sample.c
        wanted = (
            select(columns.at, columns.span, columns.kind, columns.quality, columns.value, columns.words,
                   columns.definition, columns.reason)
            .where(columns.series == series.id)
            .order_by(columns.at, columns.span)
        )  # fmt: skip
        if to_us is not None:
            wanted = wanted.where(columns.at <= to_us)
        if from_us is not None:
            before = select(func.max(columns.at)).where(columns.series == series.id, columns.at <= from_us)
            first = self.connection.execute(before).scalar()
            wanted = wanted.where(columns.at >= (first if first is not None else from_us))
        lasts = {number: last for number, (_, last) in self.span_bounds().items()}
        last_span, last_kind, last_at = -1, END, 0
        for at, span, kind, quality, value, words, definition, reason in self._stream(wanted):
            ended = lasts.get(last_span, last_at)
            if span != last_span and last_kind != END and (from_us is None or ended >= from_us):
                yield Sample(max(ended, last_at), series, END, QUALITIES[NEVER], None, None, NOT_RECORDED, None)
            meaning = self.definition(definition)
            text = self._reason(reason) if reason is not None else ""
            exact = _exact(meaning, value, words, quality, text)
            yield Sample(at, series, kind, QUALITIES[quality], exact, words, text, meaning)
            last_span, last_kind, last_at = span, kind, at
        if last_kind != END and last_span in lasts and not self._goes_on(last_span):
            ended = max(lasts[last_span], last_at)
            if to_us is None or ended <= to_us:
                yield Sample(ended, series, END, QUALITIES[NEVER], None, None, NOT_RECORDED, None)

    def _stream(self, wanted: Executable) -> Iterator[tuple[Any, ...]]:
        """Rows of a question, so many at a time."""
        result = self.connection.execute(wanted.execution_options(stream_results=True))
        while rows := result.fetchmany(_MANY):
            yield from rows

    def span_bounds(self) -> dict[int, tuple[int, int]]:
        """When each span began, and how long it lived, by number."""
        spans = schema.span.c
        rows = self.connection.execute(select(spans.id, spans.begun, spans.last)).fetchall()
        return {int(number): (int(begun), int(last)) for number, begun, last in rows}

    def _goes_on(self, span: int) -> bool:
        """Whether that is being recorded now: it is the last of its run, which has not ended, and lived just now."""
        from time import time

        last = self.connection.execute(select(schema.span.c.last).where(schema.span.c.id == span)).scalar()
        return last is not None and 0 <= time() * 1e6 - last < 10 * BREAK_US

    def statistics(self, series: SeriesInfo, from_us: int | None = None, to_us: int | None = None) -> Statistics:
        """By the summaries as far as there are any; row by row before the first and behind the last of them."""
        pieces = pieces_of(self.connection, series.id, from_us, to_us) if self.has_pieces else []
        reckoned = _Reckoned(from_us)
        if not pieces:
            for sample in self.samples(series, from_us, to_us):
                reckoned.take(sample)
        else:
            lasts = {number: last for number, (_, last) in self.span_bounds().items()}
            for sample in self.samples(series, from_us, pieces[0].first):
                if sample.at_us < pieces[0].first or sample.definition is None:
                    reckoned.take(sample)
            for before, piece in zip((None, *pieces), pieces, strict=False):
                if before is not None and before.span != piece.span:
                    reckoned.break_off(max(lasts.get(before.span, before.last), before.last))
                reckoned.take_piece(piece)
            behind = pieces[-1].last
            for sample in self.samples(series, behind, to_us):
                if sample.at_us > behind or sample.definition is None:
                    reckoned.take(sample)
        if reckoned.is_open:
            lived = max((last for _, last in self.spans(series.site)), default=0)
            reckoned.end(min(lived, to_us) if to_us is not None else lived)
        stood = reckoned.stood
        mean = stood.area / stood.number_us if stood.number_us else None
        return Statistics(
            series, reckoned.rows, reckoned.least, reckoned.most, mean, stood.recorded_us / 1e6, stood.good_us / 1e6
        )

    def minutes(self, from_us: int | None, to_us: int | None) -> Iterator[dict[str, object]]:
        """How devices and lines did, minute by minute."""
        if self._version < 2:
            return
        columns, lines = schema.minute.c, schema.line.c
        wanted = (
            select(
                lines.site,
                lines.name,
                lines.origin,
                *[column for column in columns if column.name not in ("id", "line")],
            )
            .join(schema.line, lines.id == columns.line)
            .order_by(columns.at, columns.line, columns.device)
        )
        if from_us is not None:
            wanted = wanted.where(columns.at >= from_us)
        if to_us is not None:
            wanted = wanted.where(columns.at <= to_us)
        for row in self.connection.execute(wanted).mappings():
            yield {str(key): value for key, value in row.items()}

    def definition(self, number: int) -> Definition | None:
        """What words of a row meant; None where it cannot be read."""
        if number not in self._definitions:
            stored = self.connection.execute(
                select(schema.definition.c.told).where(schema.definition.c.id == number)
            ).scalar()
            try:
                self._definitions[number] = read_definition(stored) if stored is not None else None
            except ValueError:
                self._definitions[number] = None
        return self._definitions[number]

    def _reason(self, number: int) -> str:
        if number not in self._reasons:
            found = self.connection.execute(select(schema.reason.c.text).where(schema.reason.c.id == number)).scalar()
            self._reasons[number] = str(found or "")
        return self._reasons[number]


class _Stood:
    """How long values stood, and how much that makes of their numbers."""

    def __init__(self) -> None:
        self.recorded_us = self.good_us = self.number_us = 0
        self.area = 0.0

    def add(self, stood_us: int, is_good: bool, number: float | None) -> None:
        self.recorded_us += stood_us
        if is_good:
            self.good_us += stood_us
        if number is not None:
            self.number_us += stood_us
            self.area += number * stood_us


class _Reckoned:
    """Statistics over rows and pieces, in their order. What stands is added once it is known until when."""

    def __init__(self, from_us: int | None) -> None:
        self.rows, self.stood = 0, _Stood()
        self.least: float | None = None
        self.most: float | None = None
        self.is_open = False
        self._from_us = from_us
        self._at_us, self._is_good = 0, False
        self._number: float | None = None

    def take(self, sample: Sample) -> None:
        self.end(sample.at_us)
        number, is_end = _number(sample), sample.kind == END
        self._open(sample.at_us, is_end, sample.quality == QUALITIES[GOOD], number)
        is_before = self._from_us is not None and sample.at_us < self._from_us
        if is_before and is_end:
            return
        self.rows += sample.definition is not None and not is_before
        if number is not None:
            self._note(number, number)

    def take_piece(self, piece: Piece) -> None:
        self.end(piece.first)
        stood = self.stood
        self.rows += piece.rows
        stood.recorded_us += piece.recorded_us
        stood.good_us += piece.good_us
        stood.number_us += piece.number_us
        stood.area += piece.area
        if piece.least is not None and piece.most is not None:
            self._note(piece.least, piece.most)
        is_good = piece.end_quality == GOOD
        self._open(piece.last, piece.end_kind == END, is_good, piece.end_value if is_good else None)

    def break_off(self, at_us: int) -> None:
        """Recording ended there without a word."""
        self.end(at_us)
        self.is_open = False

    def end(self, at_us: int) -> None:
        """What stands does so until then."""
        if self.is_open:
            begun_us = max(self._at_us, self._from_us) if self._from_us is not None else self._at_us
            self.stood.add(max(at_us - begun_us, 0), self._is_good, self._number)

    def _open(self, at_us: int, is_end: bool, is_good: bool, number: float | None) -> None:
        self._at_us, self.is_open, self._is_good, self._number = at_us, not is_end, is_good, number

    def _note(self, least: float, most: float) -> None:
        self.least = min(self.least, least) if self.least is not None else least
        self.most = max(self.most, most) if self.most is not None else most


def _number(sample: Sample) -> float | None:
    if sample.quality != QUALITIES[GOOD] or not isinstance(sample.value, int | float):
        return None
    return float(sample.value)


def _exact(
    definition: Definition | None, value: float | None, words: bytes | None, quality: int, reason: str
) -> Value | None:
    """The value of a row: what its words say, with all digits; else the number that was recorded."""
    if quality != GOOD and words is None:
        return None
    if definition is not None and words is not None and not definition.exponent:
        read = definition.value_of(words)
        if not isinstance(read, NoValue):
            return read
        return NoValue(reason or read.reason)
    return value
