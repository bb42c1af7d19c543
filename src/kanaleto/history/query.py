"""What a record has to say: series, samples, statistics, minutes. Rows come one at a time, however many there are."""

from collections.abc import Iterator
from typing import Any, NamedTuple

from msgspec import Struct
from sqlalchemy import Executable, func, select

from kanaleto.history import schema
from kanaleto.history.definition import Definition, read_definition
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

    def series(self) -> list[SeriesInfo]:
        """All series, by site, device and point."""
        samples = schema.sample.c
        bounds = (
            select(samples.series, func.min(samples.at).label("first"), func.max(samples.at).label("last"),
                   func.count().label("rows"), func.max(samples.definition).label("definition"))
            .group_by(samples.series)
            .subquery()
        )  # fmt: skip
        own = schema.series.c
        rows = self.connection.execute(
            select(
                own.id,
                own.site,
                own.device,
                own.point,
                bounds.c.first,
                bounds.c.last,
                bounds.c.rows,
                bounds.c.definition,
            )
            .join(bounds, bounds.c.series == own.id, isouter=True)
            .order_by(own.site, own.device, own.point)
        )
        found = []
        for number, site, device, point, first, last, count, definition in rows.fetchall():
            told = self.definition(definition) if definition is not None else None
            found.append(
                SeriesInfo(number, site, device, point, told.unit if told is not None else "", first, last, count or 0)
            )
        return found

    def series_named(self, site: str, wanted: set[tuple[str, str]]) -> list[SeriesInfo]:
        """Those of a site, by device and point; how many rows they have is not counted."""
        own = schema.series.c
        rows = self.connection.execute(select(own.id, own.device, own.point).where(own.site == site)).fetchall()
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
            told = self.definition(definition)
            text = self._reason(reason) if reason is not None else ""
            exact = _exact(told, value, words, quality, text)
            yield Sample(at, series, kind, QUALITIES[quality], exact, words, text, told)
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
        least: float | None = None
        most: float | None = None
        count, stood = 0, _Stood()
        before: Sample | None = None
        end_us = to_us
        for sample in self.samples(series, from_us, to_us):
            if before is not None:
                stood.add(before, sample.at_us, from_us)
            before = sample
            if from_us is not None and sample.at_us < from_us and sample.kind == END:
                continue
            number = _number(sample)
            if sample.definition is not None and (from_us is None or sample.at_us >= from_us):
                count += 1
            if number is not None:
                least, most = (
                    min(least, number) if least is not None else number,
                    max(most, number) if most is not None else number,
                )
        if before is not None and before.kind != END:
            lived = max((last for _, last in self.spans(series.site)), default=before.at_us)
            until = min(lived, end_us) if end_us is not None else lived
            stood.add(before, until, from_us)
        mean = stood.area / stood.number_us if stood.number_us else None
        return Statistics(series, count, least, most, mean, stood.recorded_us / 1e6, stood.good_us / 1e6)

    def minutes(self, from_us: int | None, to_us: int | None) -> Iterator[dict[str, object]]:
        """How devices and lines did, minute by minute."""
        if self._version < 2:
            return
        own, lines = schema.minute.c, schema.line.c
        wanted = (
            select(
                lines.site, lines.name, lines.origin, *[column for column in own if column.name not in ("id", "line")]
            )
            .join(schema.line, lines.id == own.line)
            .order_by(own.at, own.line, own.device)
        )
        if from_us is not None:
            wanted = wanted.where(own.at >= from_us)
        if to_us is not None:
            wanted = wanted.where(own.at <= to_us)
        for row in self.connection.execute(wanted).mappings():
            yield {str(key): value for key, value in row.items()}

    def definition(self, number: int) -> Definition | None:
        """What words of a row meant; None where it cannot be read."""
        if number not in self._definitions:
            told = self.connection.execute(
                select(schema.definition.c.told).where(schema.definition.c.id == number)
            ).scalar()
            try:
                self._definitions[number] = read_definition(told) if told is not None else None
            except ValueError:
                self._definitions[number] = None
        return self._definitions[number]

    def _reason(self, number: int) -> str:
        if number not in self._reasons:
            found = self.connection.execute(select(schema.reason.c.text).where(schema.reason.c.id == number)).scalar()
            self._reasons[number] = str(found or "")
        return self._reasons[number]


class _Stood:
    """How long samples stood, and how much that makes of their numbers."""

    def __init__(self) -> None:
        self.recorded_us = self.good_us = self.number_us = 0
        self.area = 0.0

    def add(self, sample: Sample, until_us: int, from_us: int | None) -> None:
        begun = max(sample.at_us, from_us) if from_us is not None else sample.at_us
        stood = max(until_us - begun, 0)
        if sample.kind == END:
            return
        self.recorded_us += stood
        if sample.quality == QUALITIES[GOOD]:
            self.good_us += stood
        number = _number(sample)
        if number is not None:
            self.number_us += stood
            self.area += number * stood


def _number(sample: Sample) -> float | None:
    if sample.quality != QUALITIES[GOOD] or not isinstance(sample.value, int | float):
        return None
    return float(sample.value)


def _exact(
    told: Definition | None, value: float | None, words: bytes | None, quality: int, reason: str
) -> Value | None:
    """The value of a row: what its words say, with all digits; else the number that was recorded."""
    if quality != GOOD and words is None:
        return None
    if told is not None and words is not None and not told.exponent:
        read = told.value_of(words)
        if not isinstance(read, NoValue):
            return read
        return NoValue(reason or read.reason)
    return value
