"""What becomes of that which a site's polling tells: rows of a record. A series has a row where it begins, where it has
changed by more than its deadband, where its quality has, every five minutes, and where it ends. Told by messages, in
the order in which they happened; knows no process and no clock of its own.

Messages, each an object with one of these keys: `block` and `derived` say what is recorded from now on, `rows` brings
words of blocks, `quality` how blocks stand, `points` how points stand that no block reads, `gone` who is no more,
`renamed` who is called otherwise, `minutes` how devices did, `beat` that recording lives, `end` that it ends.
"""

import math
from collections.abc import Callable
from typing import Any

from kanaleto.board.board import times_ten_to
from kanaleto.history.definition import read_definition
from kanaleto.history.standing import (
    BAD,
    BEGIN,
    CHANGED,
    END,
    GOOD,
    NEVER,
    STALE,
    STILL,
    Formula,
    RecordedBlock,
    Series,
)  # fmt: skip
from kanaleto.history.store import SampleRow, Store
from kanaleto.site.expression import FormulaMemory, compile_expression
from kanaleto.values.block import BitBlock, RegisterBlock
from kanaleto.values.codec import NoValue, Value

STILL_US = 300_000_000
_LOOK_US = 5_000_000  # how often it is looked who has stood still for so long
BREAK_US = 3_000_000
_LARGEST = 1e300

Key = tuple[str, str]


class Recording:
    """One run of recording a site into a store. Raises the store's own errors: what was taken may be taken again then,
    and `commit` be done again."""

    def __init__(self, store: Store, site: str, program: str, who: str, host: str, at_us: int) -> None:
        self.store, self.site = store, site
        self.run = store.begin_run(site, program, who, host, at_us)
        self.span = store.begin_span(self.run, at_us)
        store.commit()
        self.rows_kept = 0
        self.beat_us = at_us
        self._rows: list[SampleRow] = []
        self._minutes: list[dict[str, Any]] = []
        self._blocks: dict[int, RecordedBlock] = {}
        self._series: dict[Key, Series] = {}
        self._looked_us = 0
        self._formulas: list[Formula] = []
        self._memory = FormulaMemory()
        self._is_tied = True
        self._lines: dict[tuple[str, str, str], int] = {}
        self._takers: dict[str, Callable[[Any], None]] = {
            "block": self._take_block,
            "derived": self._take_derived,
            "rows": self._take_rows,
            "quality": self._take_quality,
            "points": self._take_points,
            "gone": self._take_gone,
            "renamed": self._take_renamed,
            "minutes": self._take_minutes,
            "beat": self._take_beat,
            "end": self._take_end,
        }

    def take(self, message: dict[str, Any]) -> None:
        for kind, content in message.items():
            self._takers[kind](content)

    @property
    def waiting(self) -> int:
        """Rows that are not in the store yet."""
        return len(self._rows)

    def commit(self) -> None:
        """All that was taken is in the store."""
        rows, minutes = self._rows, self._minutes
        self.store.put(rows)
        self.store.put_minutes(minutes)
        self.store.extend_span(self.span, self.beat_us)
        self.store.commit()
        self.rows_kept += len(rows)
        self._rows, self._minutes = [], []

    def _begin_span(self, at_us: int) -> None:
        self.span = self.store.begin_span(self.run, at_us)
        self.beat_us = at_us
        self._lines.clear()
        for (device, point), series in self._series.items():
            series.has_row = False
            series.at_us = 0
            series.id = self.store.series(self.site, device, point)
            series.definition_id = self.store.definition(series.definition.text, series.definition.fingerprint)

    # What is recorded

    def _series_of(self, device: str, point: str, text: str, deadband: float) -> Series:
        key = (device, point)
        series = self._series.get(key)
        if series is not None and series.definition.text == text:
            series.deadband = deadband
            return series
        definition = read_definition(text)
        number = self.store.definition(text, definition.fingerprint)
        if series is None:
            series = Series(self.store.series(self.site, device, point), number, definition, deadband)
            self._series[key] = series
        else:  # it means something else from now on
            series.definition, series.definition_id, series.deadband = definition, number, deadband
            series.has_row = False
        return series

    def _take_block(self, entry: dict[str, Any]) -> None:
        device, points = entry["device"], entry["points"]
        series = [self._series_of(device, one["name"], one["told"], one["deadband"]) for one in points]
        offsets = [one["offset"] for one in points]
        is_bits, count = entry["is_bits"], entry["count"]
        decoder: RegisterBlock | BitBlock
        if is_bits:
            decoder = BitBlock(count, offsets)
        else:
            fields = [(offset, one_series.definition.codec) for offset, one_series in zip(offsets, series, strict=True)]
            decoder = RegisterBlock(count, [(offset, codec) for offset, codec in fields if codec is not None])
        sizes = [
            one_series.definition.codec.registers if one_series.definition.codec is not None else 0
            for one_series in series
        ]
        bounds = [(2 * offset, 2 * (offset + size)) for offset, size in zip(offsets, sizes, strict=True)]
        self._blocks[entry["handle"]] = RecordedBlock(is_bits, series, bounds, decoder, [])
        self._is_tied = False

    def _tie(self) -> None:
        """Who is the power of ten for whom, and which formulas are fed by which block."""
        self._is_tied = True
        for (device, _), series in self._series.items():
            series.scaled.clear()
            exponent = series.definition.exponent
            series.exponent = self._series.get((device, exponent)) if exponent else None
        for series in self._series.values():
            if series.exponent is not None:
                series.exponent.scaled.append(series)
        for series in self._series.values():
            series.is_plain = not series.definition.exponent and not series.scaled
        for block in self._blocks.values():
            known, block.feeds = set(block.points), []
            for formula in self._formulas:  # in the order in which they need each other
                if not known.isdisjoint(formula.needs):
                    block.feeds.append(formula)
                    known.add(formula.series)

    def _take_derived(self, entries: list[dict[str, Any]]) -> None:
        """Derived points, those first that others need."""
        labels = {
            name: {int(bit): text for bit, text in labels.items()}
            for one in entries
            for name, labels in one["labels"].items()
        }
        self._formulas = []
        for one in entries:
            series = self._series_of("", one["name"], one["told"], 0.0)
            expression = compile_expression(one["formula"], lambda name: labels.get(name, {}))
            needs = [self._named(name) for name in expression.names]
            found = [series for series in needs if series is not None]
            if len(found) == len(needs):
                self._formulas.append(Formula(one["name"], series, expression, found))
        self._memory.keep({formula.name for formula in self._formulas})
        self._is_tied = False

    def _named(self, name: str) -> Series | None:
        """A point as formulas name it: [Device/Point], or [Name] of another derived one."""
        of_site = self._series.get(("", name))
        if of_site is not None:
            return of_site
        cuts = [at for at, character in enumerate(name) if character == "/"]
        found = (self._series.get((name[:at], name[at + 1 :])) for at in cuts if at)
        return next((series for series in found if series is not None), None)

    # What happens

    def _take_rows(self, rows: list[list[Any]]) -> None:
        if not self._is_tied:
            self._tie()
        for handle, at_us, data in rows:
            block = self._blocks.get(handle)
            self._look_at(at_us)
            if block is not None:
                self._take_words(block, at_us, bytes.fromhex(data))

    def _take_words(self, block: RecordedBlock, at_us: int, data: bytes) -> None:
        """Each word that is another goes through here: what is most often so is done on the spot."""
        values = block.decoder.decode(data)
        if block.is_bits:
            pieces = [b"\1" if value else b"\0" for value in values]
        else:
            pieces = [data[start:end] for start, end in block.bounds]
        add, span = self._rows.append, self.span
        for series, words, value in zip(block.points, pieces, values, strict=True):
            if not (series.is_plain and series.has_row):
                self._settle(series, at_us, words, value)
                continue
            is_good = series.quality == GOOD
            if words == series.words and (is_good or series.quality == BAD):
                continue
            kind = type(value)
            if not is_good or not (kind is int or kind is float) or at_us <= series.at_us:
                self._settle(series, at_us, words, value)
                continue
            number = float(value)  # type: ignore[arg-type]
            if series.deadband and series.number is not None and abs(number - series.number) < series.deadband:
                continue
            series.number, series.words, series.at_us = number, words, at_us
            add((series.id, at_us, span, CHANGED, GOOD, number, words, series.definition_id, None))
        if block.feeds:
            self._evaluate(block.feeds, at_us)

    def _settle(self, series: Series, at_us: int, words: bytes, value: Value | None) -> None:
        """A point was read; and so were those for which it is the power of ten."""
        before = series.number
        self._settle_one(series, at_us, words, value)
        for other in series.scaled if series.number != before else ():
            if other.words is not None and other.quality in (GOOD, BAD):
                self._settle_one(other, at_us, other.words, other.definition.value_of(other.words))

    def _settle_one(self, series: Series, at_us: int, words: bytes, value: Value | None) -> None:
        if series.definition.exponent and isinstance(value, int | float):
            power = series.exponent.number if series.exponent is not None else None
            if power is None or power != int(power) or not -30 <= power <= 30:
                value = NoValue(f"its exponent, {series.definition.exponent}, is not known")
            else:
                value = times_ten_to(value, int(power))
        if isinstance(value, NoValue):
            self._note(series, at_us, None, words, BAD, value.reason)
        else:
            self._note(series, at_us, _number(value), words, GOOD, "")

    def _note(
        self, series: Series, at_us: int, number: float | None, words: bytes | None, quality: int, reason: str
    ) -> None:
        """How a point stands; a row where that is worth one."""
        is_same = series.has_row and quality == series.quality and reason == series.reason
        if is_same and words == series.words and number == series.number:
            return
        if (
            is_same and series.deadband and number is not None and series.number is not None
            and abs(number - series.number) < series.deadband
        ):  # fmt: skip
            return
        kind = CHANGED if series.has_row else BEGIN
        series.number, series.words, series.quality, series.reason = number, words, quality, reason
        self._put(series, at_us, kind)

    def _put(self, series: Series, at_us: int, kind: int) -> None:
        at_us = max(at_us, series.at_us + 1)
        series.at_us, series.has_row = at_us, kind != END
        self._rows.append(
            (
                series.id, at_us, self.span, kind, series.quality, series.number, series.words, series.definition_id,
                self.store.reason(series.reason),
            )
        )  # fmt: skip

    def _evaluate(self, formulas: list[Formula], at_us: int) -> None:
        self._memory.now_s = at_us / 1e6
        for formula in formulas:
            worst = max(formula.needs, key=lambda series: series.quality, default=None)
            quality, reason = (worst.quality, worst.reason) if worst is not None else (GOOD, "")
            numbers = [series.number for series in formula.needs if series.number is not None]
            if len(numbers) < len(formula.needs):
                lacking = quality if quality in (BAD, NEVER) else BAD
                self._note(formula.series, at_us, None, None, lacking, reason or "one of its points is no number")
                continue
            try:
                value = formula.expression.evaluate(numbers, self._memory, formula.name)
                if not math.isfinite(value):
                    raise ValueError("no finite number")
            except (ArithmeticError, ValueError) as error:
                self._note(formula.series, at_us, None, None, BAD, f"the formula gives no number: {error}")
                continue
            self._note(formula.series, at_us, float(value), None, quality, reason)

    def _take_quality(self, entries: list[list[Any]]) -> None:
        """Blocks that were not read: stale, bad or never."""
        if not self._is_tied:
            self._tie()
        for handle, at_us, quality, reason in entries:
            block = self._blocks.get(handle)
            self._look_at(at_us)
            if block is None:
                continue
            for series in block.points:
                self._stand(series, at_us, quality, reason)
            if block.feeds:
                self._evaluate(block.feeds, at_us)

    def _take_points(self, entries: list[list[Any]]) -> None:
        """Points that no block reads."""
        for device, name, definition, at_us, quality, reason in entries:
            self._stand(self._series_of(device, name, definition, 0.0), at_us, quality, reason)

    def _stand(self, series: Series, at_us: int, quality: int, reason: str) -> None:
        keeps = quality == STALE and series.words is not None
        if quality == STALE and not keeps:
            quality = NEVER
        self._note(series, at_us, series.number if keeps else None, series.words if keeps else None, quality, reason)

    def _take_gone(self, entries: list[list[Any]]) -> None:
        for device, name, at_us in entries:
            series = self._series.pop((device, name), None)
            if series is not None and series.has_row:
                self._put(series, at_us, END)
        there = set(self._series.values())
        self._formulas = [formula for formula in self._formulas if there.issuperset(formula.needs)]
        self._is_tied = False

    def _take_renamed(self, renames: list[list[str]]) -> None:
        for old_device, old_point, device, point in renames:
            self.commit()
            number = self.store.rename(self.site, (old_device, old_point), (device, point))
            series = self._series.pop((old_device, old_point), None) or self._series.get((device, point))
            if series is not None and number is not None:
                self._series[device, point] = series
                series.id = number

    def _take_minutes(self, minutes: list[dict[str, Any]]) -> None:
        rows = []
        for one in minutes:  # the message stays as it is: it may have to be taken again
            name, link, origin = one["line"]
            key = (name, link, origin)
            number = self._lines.get(key)
            if number is None:
                number = self._lines[key] = self.store.line(self.site, name, link, origin)
            rows.append({**one, "line": number})
        self._minutes += rows

    def _take_beat(self, at_us: int) -> None:
        """Recording lives."""
        self._look_at(at_us)
        self.beat_us = at_us
        if 0 <= at_us - self._looked_us < _LOOK_US:
            return
        self._looked_us = at_us
        for series in self._series.values():
            if series.has_row and at_us - series.at_us >= STILL_US:
                self._put(series, at_us, STILL)

    def _look_at(self, at_us: int) -> None:
        """Where nothing came for a while, or the clock was set, another span begins."""
        if not -BREAK_US <= at_us - self.beat_us <= BREAK_US:
            self.commit()
            self._begin_span(at_us)

    def _take_end(self, at_us: int) -> None:
        for series in self._series.values():
            if series.has_row:
                self._put(series, at_us, END)
        self.beat_us = max(self.beat_us, at_us)
        self.commit()
        self.store.end_run(self.run, at_us)
        self.store.commit()


def _number(value: Value | None) -> float | None:
    """As a column of doubles has it."""
    if isinstance(value, bool | int | float) and -_LARGEST < value < _LARGEST:
        return float(value)
    return None
