"""Curves: from memory and from the record the same, thinned without losing the least and the most, gaps as gaps."""

import asyncio
import math
import random
import unittest
from unittest import mock

import numpy as np
from msgspec.structs import replace

from kanaleto.board.health import Worst
from kanaleto.board.memory import MOST_PIECES, PIECE, Memory, Remembered
from kanaleto.history import storedcurve
from kanaleto.history.askingthread import HistoryQuery, answer_to
from kanaleto.history.curves import (
    BAD,
    EMPTY,
    GOOD,
    NEVER,
    STALE,
    FromMemory,
    TrendCurve,
    curve_of,
    figures,
    joined,
    thinned,
    value_at,
)
from kanaleto.history.definition import definition_text, read_definition
from kanaleto.history.minutelevels import recorded_minutes
from kanaleto.history.standing import CHANGED
from kanaleto.history.store import Store
from kanaleto.history.storedcurve import stored_curve
from tests.recorded import COUNTER, InFolder, Kept, counting
from tests.simulated import SimulatedLine, device, silent
from tests.virtual import run_virtual


def simple(values: list[float], every_s: float = 1.0, quality: list[int] | None = None) -> TrendCurve:
    at = [every_s * number for number in range(len(values))]
    return curve_of(at, values, quality or [GOOD] * len(values), [0] * len(values), at[-1] if at else 0.0)


class Thinning(unittest.TestCase):
    def test_no_least_and_no_most_is_missed(self) -> None:
        for seed in range(30):
            dice = random.Random(seed)
            count = dice.randrange(1, 5000)
            values = [dice.gauss(0, 1) for _ in range(count)]
            curve = simple(values)
            columns = dice.randrange(1, 300)
            found = thinned(curve, 0.0, float(count), columns)
            with self.subTest(seed=seed):
                self.assertEqual(found.bounds, (min(values), max(values)))
                for number in range(columns):
                    begin, end = number * count / columns, (number + 1) * count / columns
                    inside = [value for at, value in enumerate(values) if begin <= at < end]
                    held = [values[math.ceil(begin) - 1]] if begin > 0 else []
                    if begin <= count - 1:
                        self.assertEqual(found.low[number], min(inside + held))
                        self.assertEqual(found.high[number], max(inside + held))

    def test_gaps_stale_bad_and_what_is_no_number(self) -> None:
        nan = math.nan
        curve = simple([1, nan, 3, 3, nan, math.inf, 5], quality=[GOOD, NEVER, GOOD, STALE, BAD, GOOD, GOOD])
        found = thinned(curve, 0.5, 6.5, 6)
        self.assertEqual(found.quality.tolist(), [GOOD, GOOD, GOOD, STALE, BAD, GOOD])
        self.assertEqual(found.worst.tolist(), [NEVER, NEVER, STALE, BAD, BAD, BAD])
        self.assertTrue(np.isnan(found.low[4]))
        self.assertEqual(found.bounds, (1.0, 5.0))
        self.assertEqual(value_at(curve, 3.5), (3.0, STALE))
        self.assertEqual(value_at(curve, 1.5), (None, NEVER))
        self.assertEqual(value_at(curve, -1), (None, NEVER))
        self.assertEqual(value_at(curve, 99), (None, NEVER))

    def test_nothing_at_all_and_ranges_without_anything(self) -> None:
        self.assertIsNone(thinned(EMPTY, 0, 1, 5).bounds)
        self.assertIsNone(figures(EMPTY, 0, 1))
        curve = simple([1.0, 2.0])
        self.assertIsNone(thinned(curve, -9, -8, 5).bounds)
        self.assertIsNone(thinned(curve, 8, 9, 5).bounds)
        self.assertIsNone(figures(curve, 8, 9))

    def test_another_meaning_begins_again(self) -> None:
        curve = curve_of([0, 1, 2, 3], [1, 1, 9, 9], [0] * 4, [0, 0, 1, 1], 4.0)
        self.assertEqual(thinned(curve, 0, 4, 4).is_new.tolist(), [False, False, True, False])

    def test_figures(self) -> None:
        ramp = simple([2.0 * at for at in range(100)])
        found = figures(ramp, 10.0, 99.0)
        assert found is not None
        self.assertEqual((found.least, found.most), (20.0, 198.0))
        self.assertAlmostEqual(found.slope_s, 2.0)
        self.assertAlmostEqual(found.noise, 0.0)
        dice = random.Random(4)
        noisy = figures(simple([dice.gauss(7, 0.5) for _ in range(2000)]), 0, 2000)
        assert noisy is not None
        self.assertAlmostEqual(noisy.noise, 0.5, delta=0.05)
        self.assertAlmostEqual(noisy.mean, 7, delta=0.05)
        holes = figures(simple([1, math.nan, math.nan, 4, math.nan, 6], quality=[0, 3, 3, 0, 2, 0]), 0, 5)
        assert holes is not None
        self.assertEqual((holes.gaps, holes.gap_s), (2, 3.0))

    def test_joined_without_a_seam_and_with_a_hole_where_nobody_looked(self) -> None:
        whole = simple([float(at) for at in range(20)])
        older = replace(
            whole,
            at=whole.at[:12],
            value=whole.value[:12],
            quality=whole.quality[:12],
            meaning=whole.meaning[:12],
            until=11.9,
        )
        newer = replace(
            whole, at=whole.at[10:], value=whole.value[10:], quality=whole.quality[10:], meaning=whole.meaning[10:] + 5
        )
        again = joined(older, newer)
        self.assertEqual(again.value.tolist(), whole.value.tolist())
        self.assertEqual(set(again.meaning.tolist()), {5})
        early = replace(older, at=older.at - 50, until=-39.0)
        self.assertEqual(thinned(joined(early, newer), -39, 10, 7).quality.tolist()[1:], [NEVER] * 6)


class Remembering(unittest.TestCase):
    def test_bounded_and_in_order_when_the_clock_is_set_back(self) -> None:
        remembered = Remembered()
        for at in range(PIECE * (MOST_PIECES + 3)):
            remembered.note(float(at), 1.0, GOOD)
        self.assertLessEqual(len(remembered), PIECE * (MOST_PIECES + 1))
        end = remembered.until
        remembered.note(end - 100.0, 2.0, GOOD)
        curve = FromMemory(remembered).curve()
        self.assertTrue((np.diff(curve.at) >= 0).all())
        self.assertEqual((curve.at[-1], curve.value[-1], curve.until), (end - 100.0, 2.0, end - 100.0))
        remembered.note(end - 100.2, 3.0, GOOD)
        self.assertEqual(
            FromMemory(remembered).curve().at[-1], end - 100.0, "answers of one moment stay in their order"
        )

    def test_a_curve_that_grows_is_the_curve_made_again(self) -> None:
        for seed in range(6):
            dice = random.Random(seed)
            remembered = Remembered()
            growing, at = FromMemory(remembered), 1000.0
            given: list[tuple[TrendCurve, list[float]]] = []
            for _ in range(40):
                for _ in range(dice.randrange(1, 900)):
                    at += dice.random()
                    remembered.note(at, dice.gauss(0, 1), dice.choice((GOOD, GOOD, STALE)))
                if dice.random() < 0.1 and seed % 2:
                    at -= dice.uniform(1, 300)  # the clock is set back
                    given.clear()
                    remembered.note(at, 0.0, GOOD)
                curve, again = growing.curve(), FromMemory(remembered).curve()
                for name in ("at", "value", "quality", "meaning"):
                    np.testing.assert_array_equal(getattr(curve, name), getattr(again, name))
                self.assertEqual(curve.until, again.until)
                given.append((curve, curve.value.tolist()))
            for curve, was in given:
                self.assertEqual(curve.value.tolist(), was, "what was given stays as it was")


class FromBoth(InFolder):
    """The trend from the record equals the trend from memory."""

    def _both(self, spoil: bool, seconds: float = 700) -> tuple[TrendCurve, TrendCurve]:
        line = SimulatedLine(device("Device", 7, COUNTER))
        counting(line, 3.0)
        usual = line.fault
        found: list[TrendCurve] = []

        async def work(kept: Kept) -> None:
            session = kept.session
            memory = Memory(session.clock)
            session.listen(memory)
            memory.watch([("Device", "Count")], session.world)
            await kept.for_s(seconds / 2)
            if spoil:
                line.fault = silent(7)
                await kept.for_s(40)
                line.fault = usual
            await kept.for_s(seconds / 2)
            remembered = memory.of(("Device", "Count"))
            assert remembered is not None
            found.append(FromMemory(remembered).curve())
            kept.end()

        self.run_recorded(line, work)
        history = self.history()
        stored_rows = stored_curve(history, self.series(history, "Count"), 0.0, 1e7)
        return found[0], stored_rows.curve

    def test_the_same_columns(self) -> None:
        for spoil in (False, True):
            with self.subTest(spoil=spoil):
                memory, record = self._both(spoil)
                begin, end = float(memory.at[0]) + 3.137, float(memory.at[-1]) - 3.219
                for count in (7, 60, 240):
                    one, other = (thinned(curve, begin, end, count) for curve in (memory, record))
                    for name in ("low", "high", "quality"):
                        same = np.isclose(getattr(one, name), getattr(other, name), equal_nan=True)
                        # where one began to be stale or the other was noted, the columns at the edge may differ by one
                        self.assertGreaterEqual(same.sum(), count - (4 if spoil else 0), name)
                self.path.unlink()

    def test_so_many_rows_are_sliced_and_lose_nothing(self) -> None:
        _, record = self._both(True)
        history = self.history()
        series = self.series(history, "Count")
        with mock.patch.object(storedcurve, "MOST_ROWS", 20), mock.patch.object(storedcurve, "SLICES", 50):
            stored_rows = stored_curve(history, series, 0.0, 1e7)
        self.assertTrue(stored_rows.is_sliced)
        self.assertLess(len(stored_rows.curve), len(record))
        for count in (5, 13):
            begin, end = float(record.at[0]), float(record.at[-1])
            one, other = (thinned(curve, begin, end, count) for curve in (stored_rows.curve, record))
            self.assertEqual(one.bounds, other.bounds)
            self.assertEqual(one.quality.tolist(), other.quality.tolist())

    def test_old_words_by_the_definition_of_today(self) -> None:
        self._both(False, 100)
        history = self.history()
        series = self.series(history, "Count")
        (point, _) = device(
            "Device", 7, COUNTER.replace("type\nCount,holding,0,uint16", "type\nCount,holding,0,bcd16")
        ).points
        today = read_definition(definition_text(point))
        then = stored_curve(history, series, 0.0, 1e7)
        now = stored_curve(history, series, 0.0, 1e7, today)
        at = float(then.curve.at[-1]) - 1
        counted = value_at(then.curve, at).value
        assert counted is not None
        self.assertEqual(
            value_at(now.curve, at).value, float(f"{int(counted):x}") if f"{int(counted):x}".isdecimal() else None
        )
        self.assertEqual([definition.text for definition in now.definitions if definition is not None], [today.text])


class SetBack(InFolder):
    def test_the_later_span_tells_the_time_that_came_twice(self) -> None:
        store = Store(self.url)
        run = store.begin_run("Virtual", "a test", "Ada", "here", 0)
        own = store.series("Virtual", "Device", "Count")
        (point, _) = device("Device", 7, COUNTER).points
        text = definition_text(point)
        definition = store.definition(text, read_definition(text).fingerprint)
        for begin, end, number in ((0, 100, 1.0), (50, 120, 2.0)):  # the clock was set back by 50 s
            span = store.begin_span(run, begin * 1_000_000)
            words = int(number).to_bytes(2)
            store.put(
                [(own, at * 1_000_000 + 1, span, CHANGED, GOOD, number, words, definition, None)
                 for at in range(begin, end)]
            )  # fmt: skip
            store.extend_span(span, end * 1_000_000)
        store.commit()
        store.close()
        history = self.history()
        for most in (10, 200_000):
            with mock.patch.object(storedcurve, "MOST_ROWS", most):
                curve = stored_curve(history, self.series(history, "Count"), 0.0, 1e4).curve
            self.assertTrue((np.diff(curve.at) >= 0).all())
            seen = [value_at(curve, moment).value for moment in (40.5, 75.5, 99.5, 119.5)]
            self.assertEqual(seen, [1.0, 2.0, 2.0, 2.0])


class Minutes(InFolder):
    def test_what_lines_were_like(self) -> None:
        line = SimulatedLine(device("Device", 7, COUNTER))

        async def work(kept: Kept) -> None:
            await kept.for_s(130)
            line.fault = silent(7)
            await kept.for_s(130)
            kept.end()

        self.run_recorded(line, work)
        found = recorded_minutes(str(self.path), "Virtual", 0.0, 1e7)
        worst = [level.worst for _, level in sorted(found["Line"].items())]
        self.assertEqual((worst[0], worst[-1]), (Worst.GOOD, Worst.SILENT))
        self.assertTrue(any(level.busy > 0 for level in found["Line"].values()))
        self.assertEqual(recorded_minutes(str(self.path), "Other", 0.0, 1e7), {})
        self.assertEqual(recorded_minutes(str(self.folder / "none.db"), "Virtual", 0.0, 1e7), {})
        (self.folder / "torn.db").write_bytes(b"no database")
        self.assertEqual(recorded_minutes(str(self.folder / "torn.db"), "Virtual", 0.0, 1e7), {})
        asked = HistoryQuery(str(self.folder / "torn.db"), "Virtual", 0.0, 1e7, (("Device", "Count"),))
        self.assertIn("torn.db", answer_to(asked).trouble)
        nowhere = replace(asked, store=str(self.folder / "none.db"))
        self.assertEqual((answer_to(nowhere).found, answer_to(nowhere).trouble), ({}, ""))


class NothingThere(InFolder):
    def test_a_point_that_was_never_recorded(self) -> None:
        line = SimulatedLine(device("Device", 7, COUNTER))

        async def work(kept: Kept) -> None:
            await kept.for_s(5)
            kept.end()

        self.run_recorded(line, work)
        history = self.history()
        series = self.series(history, "Count")
        self.assertEqual(len(stored_curve(history, replace(series, id=99), 0.0, 1e7).curve), 0)
        self.assertEqual(len(stored_curve(history, series, 5e6, 6e6).curve), 1, "what stood then")
        self.assertEqual(thinned(stored_curve(history, series, 5e6, 6e6).curve, 5e6, 6e6, 3).bounds, None)


class WhatIsWatched(unittest.TestCase):
    def test_it_begins_with_the_last_minute_and_follows_edits(self) -> None:
        async def run() -> None:
            line = SimulatedLine(device("Device", 7, COUNTER))
            counting(line, 1.0)
            from tests.test_polling import Running

            async with Running(line) as running:
                await running.for_s(60)
                session = running.session
                memory = Memory(session.clock)
                session.listen(memory)
                memory.watch([("Device", "Count"), ("Device", "Gone")], session.world)
                remembered = memory.of(("Device", "Count"))
                assert remembered is not None
                self.assertGreater(len(remembered), 50)
                await running.for_s(10)
                other = COUNTER.replace("Count,holding,0,uint16", "Count,holding,0,int16")
                session.take_over(SimulatedLine(device("Device", 7, other)).site)
                await asyncio.sleep(5)
                curve = FromMemory(remembered).curve()
                self.assertEqual(sorted(set(curve.meaning.tolist())), [0, 1])
                session.take_over(SimulatedLine(device("Device", 7, COUNTER.replace("Count", "Other"))).site)
                await asyncio.sleep(3)
                self.assertEqual(value_at(FromMemory(remembered).curve(), session.clock.now()).value, None)

        run_virtual(run())


if __name__ == "__main__":
    unittest.main()
