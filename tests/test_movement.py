"""What moved: found among noise, wherever it is, and quiet where nothing was touched."""

import random
import unittest

import numpy as np

from kanaleto.analysis.movement import NOTICED, WhatMoved, scores, spreads
from kanaleto.board.snapshot import Snapshot
from kanaleto.polling.bare import Bare
from kanaleto.site.model import Site
from kanaleto.wire.codes import Table
from tests.simulated import SimulatedLine, device
from tests.test_polling import Running
from tests.virtual import run_virtual

POINTS = 500


def first_of(before: np.ndarray, after: np.ndarray, least: float = 1e-6) -> tuple[int, float]:
    width = before.shape[1]
    found = scores(before, after, np.full(width, least), np.zeros(width, np.bool_))
    best = max(found, key=lambda mover: mover.score)
    return best.column, best.score


class AmongNoise(unittest.TestCase):
    def test_a_step_of_three_sigma_among_500_is_first_in_99_of_100(self) -> None:
        right, later = 0, 0
        for seed in range(100):
            dice = np.random.default_rng(seed)
            sigmas = 10.0 ** dice.uniform(-3, 3, POINTS)
            moved = int(dice.integers(POINTS))
            before = dice.normal(0, 1, (60, POINTS)) * sigmas
            after = dice.normal(0, 1, (20, POINTS)) * sigmas
            after[:, moved] += 3 * sigmas[moved]
            right += first_of(before, after[:10])[0] == moved
            later += first_of(before, after)[0] == moved
        self.assertGreaterEqual((right, later), (99, 99))

    def test_what_wanders_by_itself_is_not_what_was_touched(self) -> None:
        right = 0
        for seed in range(50):
            dice = np.random.default_rng(seed)
            t = np.arange(80.0)
            waves = np.sin(t[:, None] / dice.uniform(3, 20, 100)[None, :] + dice.uniform(0, 6, 100)[None, :])
            counters = t[:, None] * dice.uniform(0.1, 5, 20)[None, :]
            quiet = dice.normal(0, 1, (80, 20))
            quiet[60:, 7] += 6
            rows = np.hstack((waves, counters, quiet))
            right += first_of(rows[:60], rows[60:])[0] == 127
        self.assertGreaterEqual(right, 49)

    def test_a_touch_that_is_over_still_tells(self) -> None:
        dice = np.random.default_rng(3)
        before, after = dice.normal(0, 1, (60, POINTS)), dice.normal(0, 1, (60, POINTS))
        after[5:12, 42] += 8
        self.assertEqual(first_of(before, after)[0], 42)

    def test_still_points_states_and_nothing_at_all(self) -> None:
        before, after = np.full((30, 4), 7.0), np.full((6, 4), 7.0)
        after[3:, 2] = 57
        after[2:, 3] = 1
        states = np.array([False, False, False, True])
        found = {mover.column: mover for mover in scores(before, after, np.ones(4), states)}
        self.assertEqual((found[0].score, found[1].score), (0, 0))
        self.assertGreater(found[2].score, NOTICED)
        self.assertTrue(found[2].was_still)
        self.assertEqual((found[3].score, found[3].before, found[3].after), (30.0, 7.0, 1.0))
        self.assertEqual(scores(before[:0], after, np.ones(4), states), [])
        self.assertEqual(scores(before, after[:0], np.ones(4), states), [])

    def test_what_is_shown_was_read_and_a_still_counter_that_goes_up_by_one_has_moved(self) -> None:
        dice = np.random.default_rng(5)
        before = np.column_stack((np.full(30, 41.0), np.round(231.5 + dice.normal(0, 0.3, 30), 1)))
        after = np.column_stack((np.array([41.0] * 6 + [42.0]), np.round(228.0 + dice.normal(0, 0.3, 7), 1)))
        counter, volts = scores(before, after, np.array([1.0, 0.1]), np.zeros(2, np.bool_))
        self.assertGreaterEqual(counter.score, NOTICED)
        self.assertEqual((counter.before, counter.after, counter.was_still), (41, 42, True))
        self.assertEqual(volts.before, before[-1, 1])
        self.assertIn(volts.after, after[:, 1].tolist())
        self.assertTrue(0.1 < volts.noise < 0.6, volts.noise)

    def test_what_is_no_number_is_left_out(self) -> None:
        before, after = np.full((30, 2), np.nan), np.zeros((6, 2))
        before[:, 1] = [random.Random(4).gauss(0, 1)] * 30
        before[3:9, 1] = np.nan
        columns = [mover.column for mover in scores(before, after, np.ones(2), np.zeros(2, np.bool_))]
        self.assertEqual(columns, [1])


MAP = "name,table,address,type\nQuiet,holding,0,uint16\nTouched,holding,1,uint16\nName,holding,4,text:2\n"


class OnALine(unittest.TestCase):
    def test_the_register_that_was_touched_named_or_not(self) -> None:
        line = SimulatedLine(device("Device", 7, MAP))
        values = [5, 5, 0x4142, 0x4344, 0x4142, 9, 9, 9]

        def fault(frame, at, right):  # type: ignore[no-untyped-def]
            if frame.pdu[0] != 3:
                return right
            first, count = int.from_bytes(frame.pdu[1:3]), int.from_bytes(frame.pdu[3:5])
            if first + count > len(values):
                pdu = bytes((0x83, 2))
            else:
                data = b"".join(value.to_bytes(2) for value in values[first : first + count])
                pdu = bytes((3, len(data))) + data
            return [(at + 0.01, line.exchanger().framing.encode(7, pdu))]

        line.fault = fault

        async def run() -> None:
            async with Running(line) as running:
                session = running.session
                bare = Bare(session)
                bare.start("Device", Table.HOLDING, 0, 11)
                await running.for_s(30)

                def taken() -> Snapshot:
                    session.publish()
                    return session.snapshot

                self.assertEqual(spreads(taken())["Device", "Touched"], 0)
                moved = WhatMoved(taken())
                since = session.snapshot.now_s
                values[1], values[6], values[4] = 25, 500, 0x4358
                for _ in range(10):
                    await running.for_s(1)
                    moved.look(taken())
                ranked = moved.ranked()
                self.assertEqual(ranked[0].identity, ("Device", "Touched"))
                self.assertEqual((ranked[0].before, ranked[0].after), (5, 25))
                self.assertEqual([one.identity[1] for one in ranked if one.score >= NOTICED], ["Touched", "Name"])
                self.assertEqual((ranked[1].before, ranked[1].after), ("AB", "CX"))
                self.assertGreater(spreads(taken())["Device", "Touched"], 0.5)
                state = bare.state
                assert state is not None
                from kanaleto.analysis.movement import ranked_words

                words = ranked_words(state, since)
                self.assertEqual({(one.address, one.after) for one in words[:3]}, {(6, 500), (1, 25), (4, 0x4358)})
                self.assertEqual(state.refused, ((8, 11),))
                session.take_over(Site("Virtual", ()))
                await running.for_s(5)
                bare.stop()

        run_virtual(run())


if __name__ == "__main__":
    unittest.main()
