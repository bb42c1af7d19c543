"""Summaries beside the samples say what the samples say: by rows of chance, with breaks, ends, bad values, other
meanings and clocks that were set back; whatever was dropped or renamed meanwhile."""

import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from sqlalchemy import func, select

from kanaleto.history import pieces, schema, storedcurve
from kanaleto.history.definition import definition_text, read_definition
from kanaleto.history.query import History, Statistics
from kanaleto.history.standing import BAD, BEGIN, CHANGED, END, GOOD, STALE
from kanaleto.history.store import SampleRow, Store, url_of
from kanaleto.history.storedcurve import stored_curve
from tests.simulated import device

_START = 1_700_000_000_000_000
_POINTS = device(
    "D", 1, "name,table,address,type,factor\nA,holding,0,uint16,0.1\nB,holding,1,int16,\nA2,holding,0,uint16,"
).points


class Pieces(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "r.db"
        patched = mock.patch.object(pieces, "ROWS", 7)
        patched.start()
        self.addCleanup(patched.stop)

    def _fill(self, source: random.Random, store: Store) -> None:
        """Some runs, spans and clocks."""
        definitions = [
            store.definition(definition_text(p), read_definition(definition_text(p)).fingerprint) for p in _POINTS
        ]
        at = _START
        for _ in range(source.randint(1, 3)):
            run = store.begin_run("S", "test", "me", "here", at)
            for _ in range(source.randint(1, 3)):
                span = store.begin_span(run, at)
                numbers = [store.series("S", "D", name) for name in ("A", "B")]
                last = dict.fromkeys(numbers, 0)
                for _ in range(source.randint(1, 6)):
                    rows: list[SampleRow] = []
                    for _ in range(source.randint(1, 30)):
                        at += source.choice((1, 1000, 50_000, 2_000_000))
                        series = source.choice(numbers)
                        if last[series] == END and source.random() < 0.5:
                            continue
                        kind = source.choices((CHANGED, END), (20, 1))[0] if last[series] else BEGIN
                        quality = source.choices((GOOD, STALE, BAD), (20, 1, 1))[0]
                        value = None if quality == BAD else float(source.randint(-500, 500))
                        words = None if value is None else (int(value) & 0xFFFF).to_bytes(2)
                        meaning = definitions[0 if series == numbers[0] and source.random() < 0.9 else 1]
                        if series == numbers[0]:
                            words = None  # the number that was recorded, whatever it meant
                        rows.append((series, at, span, kind, quality, value, words, meaning, None))
                        last[series] = kind
                    store.put(rows)
                    store.extend_span(span, at)
                    store.commit()
                if source.random() < 0.3:
                    at -= source.choice((500_000, 20_000_000))  # the clock is set back
                else:
                    at += source.choice((0, 10_000_000))
            if source.random() < 0.5:
                store.end_run(run, at)
            store.commit()

    def _same(self, statistics: Statistics, other: Statistics) -> None:
        self.assertEqual((statistics.rows, statistics.least, statistics.most), (other.rows, other.least, other.most))
        self.assertAlmostEqual(statistics.recorded_s, other.recorded_s, places=6)
        self.assertAlmostEqual(statistics.good_s, other.good_s, places=6)
        if statistics.mean is None or other.mean is None:
            self.assertEqual(statistics.mean, other.mean)
        else:
            self.assertAlmostEqual(statistics.mean, other.mean, places=6)

    def _compare(self, source: random.Random) -> int:
        by_pieces, by_rows = History(str(self.path)), History(str(self.path))
        by_rows._version = schema.WITH_PIECES - 1  # as of a record that has none
        try:
            count = int(by_pieces.connection.execute(select(func.count()).select_from(schema.piece)).scalar() or 0)
            self.assertEqual(by_pieces.series(), by_rows.series())
            for series in by_pieces.series():
                if series.first_us is None or series.last_us is None:
                    continue
                self._same(by_pieces.statistics(series), by_rows.statistics(series))
                for _ in range(6):
                    ends = sorted(source.randint(series.first_us - 10**6, series.last_us + 10**6) for _ in range(2))
                    self._same(by_pieces.statistics(series, *ends), by_rows.statistics(series, *ends))
        finally:
            by_pieces.close()
            by_rows.close()
        return count

    def test_statistics_are_the_same_as_row_by_row(self) -> None:
        made = 0
        for seed in range(16):
            with self.subTest(seed=seed):
                source = random.Random(seed)
                self.path.unlink(missing_ok=True)
                store = Store(url_of(str(self.path)))
                self._fill(source, store)
                store.close()
                made += self._compare(source)
                store = Store(url_of(str(self.path)))
                store.rename("S", ("D", "A"), ("D", source.choice(("B", "C"))))
                self._fill(source, store)
                store.close()
                self._compare(source)
                store = Store(url_of(str(self.path)))
                newest = store.connection.execute(select(func.max(schema.sample.c.at))).scalar()
                store.prune(int(newest or 0) + 86_400_000_000 - 30_000_000, 1, 1 << 40)
                store.commit()
                store.close()
                self._compare(source)
        self.assertGreater(made, 100)

    def test_a_curve_has_the_least_and_the_most_of_each(self) -> None:
        source = random.Random(5)
        store = Store(url_of(str(self.path)))
        self._fill(source, store)
        self._fill(source, store)
        store.close()
        history = History(str(self.path))
        self.addCleanup(history.close)
        (series,) = [series for series in history.series() if series.point == "B"]
        assert series.first_us is not None and series.last_us is not None
        ends = series.first_us / 1e6 - 1, series.last_us / 1e6 + 1
        exact = stored_curve(history, series, *ends)
        with mock.patch.object(storedcurve, "MOST_ROWS", 20):
            summed = stored_curve(history, series, *ends)
        self.assertTrue(summed.is_sliced)
        for reckon in (np.nanmin, np.nanmax):
            self.assertEqual(reckon(summed.curve.value), reckon(exact.curve.value))
        self.assertEqual(summed.curve.value[-1], exact.curve.value[-1])

    def test_a_record_from_before_is_summed_by_its_next_writer(self) -> None:
        with mock.patch.object(Store, "_sum_up", lambda store: None):
            store = Store(url_of(str(self.path)))
            self._fill(random.Random(8), store)
            store.close()
        self.assertEqual(self._compare(random.Random(1)), 0)
        store = Store(url_of(str(self.path)))
        newest = store.connection.execute(select(func.max(schema.sample.c.at))).scalar()
        store.begin_span(store.begin_run("S", "test", "me", "here", 1), int(newest or 0) + 1)
        for _ in range(30):
            store.commit()
        store.close()
        self.assertGreater(self._compare(random.Random(1)), 3)


if __name__ == "__main__":
    unittest.main()
