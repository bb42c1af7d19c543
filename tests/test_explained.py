"""Words that nobody knows, cut into values: made-up devices whose values are known, and words that prove themselves."""

import random
import struct
import unittest
from collections.abc import Callable, Sequence

from hypothesis import given
from hypothesis import strategies as st

from kanaleto.values.columns import Shape
from kanaleto.values.cutting import Cut, WordRun, explain, style_of
from kanaleto.values.types import ByteOrder, Kind
from tests.madeup import MadeDevice, made_line
from tests.madevalues import MadePoint

Maker = Callable[[int], bytes]


def cut(*makers: Maker, samples: int = 20) -> list[Cut]:
    """The values of a run whose words are made by `makers`, sample by sample."""
    words = [b"".join(make(number) for make in makers) for number in range(samples)]
    return explain([[words]])[1][0]


def titles(cuts: Sequence[Cut]) -> list[str]:
    return [f"{one.codec.type}" + (f" {one.codec.order.value}" if one.codec.type.is_wide else "") for one in cuts]


def word(value: Callable[[int], int]) -> Maker:
    return lambda number: (value(number) & 0xFFFF).to_bytes(2)


def noisy(number: int, seed: int = 0) -> float:
    return random.Random(f"{seed} {number}").gauss(0, 1)


def packed(code: str, value: Callable[[int], float]) -> Maker:
    return lambda number: struct.pack(code, value(number))


def swapped(code: str, value: Callable[[int], float]) -> Maker:
    """Words of a wide value, the last first."""

    def make(number: int) -> bytes:
        raw = struct.pack(code, value(number))
        return b"".join(raw[at : at + 2] for at in range(len(raw) - 2, -1, -2))

    return make


def runs_of(device: MadeDevice) -> list[list[MadePoint]]:
    points = sorted(
        (point for point in device.points if not point.table.is_bits),
        key=lambda point: (point.table.value, point.address),
    )
    runs: list[list[MadePoint]] = []
    for point in points:
        if runs and runs[-1][-1].table is point.table and runs[-1][-1].end == point.address:
            runs[-1].append(point)
        else:
            runs.append([point])
    return runs


class Devices(unittest.TestCase):
    def test_nine_of_ten_values_are_cut_and_read_rightly_from_twenty_samples(self) -> None:
        right = points = 0
        sure_right, sure = 0, 0
        for seed in range(200, 206):
            for device in made_line(seed).devices.values():
                runs = runs_of(device)
                if not runs:
                    continue
                chance = random.Random(seed)
                times = [1000.0]
                while len(times) < 20:
                    times.append(times[-1] + chance.uniform(2, 12))
                words = [[[b"".join(point.data(at) for point in run) for at in times]] for run in runs]
                for run, told, cuts in zip(runs, words, explain(words)[1], strict=True):
                    by_place = {one.at: one for one in cuts}
                    for point in run:
                        at = point.address - run[0].address
                        samples = [sample[2 * at : 2 * (at + point.codec.registers)] for sample in told[0]]
                        if not any(any(sample) for sample in samples):
                            continue
                        points += 1
                        found = by_place.get(at)
                        good = (
                            found is not None
                            and found.codec.registers == point.codec.registers
                            and all(found.codec.decode(one) == point.codec.decode(one) for one in samples)
                        )
                        right += good
                        if found is not None and found.sure >= 0.85:
                            sure, sure_right = sure + 1, sure_right + good
        self.assertGreater(points, 500)
        self.assertGreaterEqual(right / points, 0.9)
        self.assertGreaterEqual(sure_right / sure, 0.97, "who says that he is sure is right")


class Shapes(unittest.TestCase):
    def test_floats_in_each_order_are_told_by_how_they_move(self) -> None:
        def float_of(seed: int) -> Callable[[int], float]:
            return lambda number: 20 + 7 * seed + 0.4 * noisy(number, seed)

        plain = [packed(">f", float_of(seed)) for seed in range(4)]
        self.assertEqual(titles(cut(*plain)), ["float32 ABCD"] * 4)
        words = [swapped(">f", float_of(seed)) for seed in range(4)]
        self.assertEqual(titles(cut(*words)), ["float32 CDAB"] * 4)
        both = [packed("<f", float_of(seed)) for seed in range(4)]
        self.assertEqual(titles(cut(*both)), ["float32 DCBA"] * 4)

    def test_a_counter_over_its_upper_word_is_one_value(self) -> None:
        before = word(lambda number: 2300 + round(3 * noisy(number)))
        counter: Maker = lambda number: (65530 + 2 * number).to_bytes(4)  # noqa: E731
        cuts = cut(before, counter, before)
        self.assertEqual(titles(cuts), ["uint16", "uint32 ABCD", "uint16"])
        self.assertIs(cuts[1].shape, Shape.RISING)

    def test_a_device_with_one_order_reads_what_stands_still_by_it(self) -> None:
        def warm(seed: int) -> Callable[[int], float]:
            return lambda number: 50 + seed + noisy(number, seed)

        moving = [swapped(">f", warm(seed)) for seed in range(3)]
        still = swapped(">f", lambda number: 37.5)
        cuts = cut(*moving, still, *moving)
        self.assertEqual(titles(cuts), ["float32 CDAB"] * 7)
        self.assertLess(cuts[3].sure, cuts[0].sure)

    def test_text_a_date_a_status_word_and_a_clock(self) -> None:
        text: Maker = lambda number: b"Alder 7\0"  # noqa: E731
        date: Maker = lambda number: bytes((26, 11, 3, 8, 14, 2 * number))  # noqa: E731
        seconds: Maker = lambda number: (1_793_000_000 + 3 * number).to_bytes(4)  # noqa: E731
        status = word(lambda number: 0x0900 if number % 7 < 4 else 0x1900)
        level = word(lambda number: 412 + round(2 * noisy(number)))
        cuts = cut(text, level, date, level, status, level, seconds)
        self.assertEqual(titles(cuts), ["text:8", "uint16", "ymdhms", "uint16", "bits", "uint16", "unix32 ABCD"])

    def test_negative_numbers_and_packed_decimals(self) -> None:
        cold = word(lambda number: -40 + round(3 * noisy(number)))
        decimal: Maker = lambda number: int(str(1089 + 3 * number), 16).to_bytes(2)  # noqa: E731
        cuts = cut(cold, decimal, cold, decimal, cold)
        self.assertEqual(titles(cuts), ["int16", "bcd16", "int16", "bcd16", "int16"])

    def test_zeros_are_told_as_zeros_and_nobody_is_sure_of_them(self) -> None:
        cuts = cut(*[word(lambda number: 0)] * 6)
        self.assertEqual({one.shape for one in cuts}, {Shape.ZERO})
        self.assertTrue(all(one.sure <= 0.6 for one in cuts))

    def test_what_one_device_does_not_tell_another_of_its_kind_does(self) -> None:
        still = [b"\x00\xbc" + b"\x61\x4e"] * 20
        moving = [(0x00BC614E + 40000 * number).to_bytes(4) for number in range(20)]
        together = explain([[still, moving]])[1][0]
        self.assertEqual(titles(together), ["uint32 ABCD"])

    @given(st.lists(st.binary(min_size=12, max_size=12), min_size=1, max_size=5))
    def test_any_words_are_cut_without_a_gap(self, samples: list[bytes]) -> None:
        run = WordRun([samples])
        at = 0
        for one in run.cuts(style_of([run])):
            self.assertEqual(one.at, at)
            self.assertTrue(0 < one.sure <= 1)
            at += one.codec.registers
        self.assertEqual(at, 6)

    def test_orders_that_somebody_knows_vote(self) -> None:
        moving: Maker = lambda number: struct.pack(">f", 20 + noisy(number))  # noqa: E731
        run = WordRun([[moving(number) for number in range(20)]])
        self.assertIs(style_of([run]).wide, ByteOrder.ABCD)
        self.assertIn(Kind.FLOAT32, {codec.type.kind for codec in run.readings(style_of([run]))[0]})


if __name__ == "__main__":
    unittest.main()
