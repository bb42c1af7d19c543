"""Layouts of registers as makers of devices write them, by schools that differ from those of `madeup`: each keeps to
its widths, its pairs, its signs. Even seeds are to learn from, odd ones to judge by.

`python -m tests.layouts [LAYOUTS]` prints both halves: what was cut and read rightly, by kind of value, and how often
what is told with each `sure` is right.
"""

import math
import random
import sys
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from kanaleto.values.codec import Codec
from kanaleto.values.cutting import Cut, explain
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table
from tests.madevalues import MadePoint, Mover

LAYOUTS, SAMPLES = 120, 20
_SETTINGS = (1, 2, 3, 5, 10, 15, 20, 30, 50, 60, 75, 100, 120, 150, 200, 250, 300, 500, 600, 750, 1000, 1200, 1500,
             2000, 2500, 3000, 5000)  # fmt: skip
_SEVERAL = 8  # at most so many rows of a kind stand together


@dataclass
class Layout:
    """A device: its school, and the runs of its points."""

    school: str
    runs: list[list[MadePoint]]

    def samples(self, chance: random.Random) -> list[list[bytes]]:
        times = [1000.0]
        while len(times) < SAMPLES:
            times.append(times[-1] + chance.uniform(2, 12))
        return [[b"".join(point.data(at) for point in run) for at in times] for run in self.runs]


class _Maker:
    """Rows of one device; `whole` and `signed` are the kinds that its school counts in."""

    def __init__(self, chance: random.Random, order: ByteOrder) -> None:
        self.chance, self.order = chance, order

    def near(self, base: float, swing: float, noise: float = 0.0) -> Mover:
        seed, phase, period = self.chance.random(), self.chance.uniform(0, 6.28), self.chance.uniform(20, 300)
        return lambda now: (
            base + swing * math.sin(6.2832 * now / period + phase) + noise * random.Random(f"{seed}{now}").gauss(0, 1)
        )

    def still(self, value: float) -> Mover:
        return lambda now: value

    def rising(self, start: float, each_s: float) -> Mover:
        return lambda now: start + math.floor(now * each_s)

    def switching(self, values: tuple[int, ...]) -> Mover:
        period = self.chance.uniform(30, 90)
        return lambda now: values[int(now / period) % len(values)]

    def row(self, kind: Kind, mover: Mover) -> tuple[Codec, Mover]:
        value_type = ValueType(kind)
        return Codec(value_type, self.order if value_type.is_wide else ByteOrder.AB), mover

    # Rows by what they are in the plant; the school says in which width

    def power(self, signed: Kind) -> tuple[Codec, Mover]:
        size = 10 ** self.chance.uniform(1.5, 4.3 if signed is Kind.INT16 else 5.5)
        base = self.chance.choice((1, 1, -1, 0.0)) * size
        return self.row(signed, self.near(base, 0.3 * size, 0.01 * size))

    def current(self, whole: Kind) -> tuple[Codec, Mover]:
        base = 10 ** self.chance.uniform(1.3, 4.2)
        return self.row(whole, self.near(base, 0.2 * base, 0.01 * base))

    def voltage(self, whole: Kind) -> tuple[Codec, Mover]:
        base = self.chance.choice((2300, 4000, 23000, 230, 400, 1150))
        return self.row(whole, self.near(base, 0.01 * base, 0.003 * base))

    def temperature(self, signed: Kind) -> tuple[Codec, Mover]:
        base = self.chance.choice(
            (self.chance.uniform(-400, 0), self.chance.uniform(0, 900), self.chance.uniform(-8, 8))
        )
        return self.row(signed, self.near(base, self.chance.uniform(1, 20), self.chance.uniform(0, 1.5)))

    def offset(self, signed: Kind) -> tuple[Codec, Mover]:
        """A limit or correction that nobody changes, often below zero."""
        size = self.chance.choice(
            (5, 10, 20, 25, 40, 50, 100, 200, 273, 387, 98, 500, 1000, self.chance.randint(1, 999))
        )
        return self.row(signed, self.still(self.chance.choice((-1, -1, -1, 1)) * size))

    def total(self, whole: Kind) -> tuple[Codec, Mover]:
        start = 10 ** self.chance.uniform(1.5, 4.7 if whole is Kind.UINT16 else 8)
        if self.chance.random() < 0.5:
            return self.row(whole, self.still(math.floor(start)))
        return self.row(whole, self.rising(start, 10 ** self.chance.uniform(-2.0, 0.7)))

    def setting(self, whole: Kind) -> tuple[Codec, Mover]:
        number = self.chance.choice((*_SETTINGS, self.chance.randint(1, 9999)))
        return self.row(whole, self.still(number))

    def long_setting(self, whole: Kind) -> tuple[Codec, Mover]:
        number = self.chance.choice(
            (86400, 100_000, 115_200, 250_000, 1_000_000, self.chance.randint(66_000, 3_000_000))
        )
        return self.row(whole, self.still(number))

    def number_of_maker(self, whole: Kind) -> tuple[Codec, Mover]:
        return self.row(whole, self.still(self.chance.randint(10_000, 60_000 if whole is Kind.UINT16 else 900_000_000)))

    def word(self, whole: Kind) -> tuple[Codec, Mover]:
        bits = sum(1 << bit for bit in self.chance.sample(range(16), self.chance.randint(1, 4)))
        other = bits ^ 1 << self.chance.randrange(16)
        return self.row(whole, self.still(bits) if self.chance.random() < 0.6 else self.switching((bits, other)))

    def state(self, whole: Kind) -> tuple[Codec, Mover]:
        number = self.chance.randint(0, 8)
        mover = self.still(number) if self.chance.random() < 0.7 else self.switching((number, number + 1))
        return self.row(whole, mover)

    def nothing(self, whole: Kind) -> tuple[Codec, Mover]:
        return self.row(whole, self.still(0))

    def measured(self, kind: Kind) -> tuple[Codec, Mover]:
        base = 10 ** self.chance.uniform(-1, 4) * self.chance.choice((1, 1, 1, -1))
        return self.row(kind, self.near(base, 0.1 * abs(base), 0.004 * abs(base)))

    def given(self, kind: Kind) -> tuple[Codec, Mover]:
        amount = self.chance.choice(
            (0.1, 0.25, 0.5, 1.0, 1.2, 2.0, 4.0, 7.5, 20.0, 25.0, 33.3, 50.0, 65.0, 100.0, 1500.0)
        )
        return self.row(kind, self.still(amount))

    def text(self, kind: Kind) -> tuple[Codec, Mover]:
        words = f"{self.chance.choice(('SLUICE', 'Gate', 'pump', 'MAST', 'Level'))}-{self.chance.randint(1, 400)}"
        return Codec(ValueType(Kind.TEXT, self.chance.choice((8, 12, 16, 20, 32))), ByteOrder.AB), lambda now: words


_Row = Callable[[_Maker, Kind], tuple[Codec, Mover]]
_W, _S, _LONG, _FLOAT = Kind.UINT16, Kind.INT16, Kind.UINT32, Kind.FLOAT32
_SCHOOLS: dict[str, list[tuple[_Row, Kind, float]]] = {
    "all of two registers": [
        (_Maker.power, Kind.INT32, 3), (_Maker.current, _LONG, 3), (_Maker.voltage, _LONG, 3),
        (_Maker.total, _LONG, 4), (_Maker.setting, _LONG, 3), (_Maker.offset, Kind.INT32, 1),
        (_Maker.nothing, _LONG, 2), (_Maker.number_of_maker, _LONG, 1), (_Maker.state, _LONG, 1),
    ],
    "one register each": [
        (_Maker.power, _S, 1), (_Maker.current, _W, 2), (_Maker.voltage, _W, 2), (_Maker.temperature, _S, 4),
        (_Maker.offset, _S, 3), (_Maker.setting, _W, 5), (_Maker.state, _W, 3), (_Maker.word, _W, 2),
        (_Maker.nothing, _W, 3), (_Maker.total, _W, 1),
    ],
    "numbers in one, totals in two": [
        (_Maker.power, _S, 2), (_Maker.current, _W, 2), (_Maker.temperature, _S, 2), (_Maker.offset, _S, 1),
        (_Maker.total, _LONG, 4), (_Maker.setting, _W, 3), (_Maker.long_setting, _LONG, 1), (_Maker.word, _W, 2),
        (_Maker.nothing, _W, 2), (_Maker.number_of_maker, _LONG, 1), (_Maker.state, _W, 2),
    ],
    "floats and words": [
        (_Maker.measured, _FLOAT, 6), (_Maker.given, _FLOAT, 3), (_Maker.state, _W, 2), (_Maker.word, _W, 2),
        (_Maker.total, _LONG, 2), (_Maker.setting, _W, 2), (_Maker.nothing, _FLOAT, 1), (_Maker.nothing, _W, 1),
    ],
    "drive": [
        (_Maker.word, _W, 3), (_Maker.temperature, _S, 3), (_Maker.power, _S, 3), (_Maker.current, _W, 2),
        (_Maker.setting, _W, 5), (_Maker.offset, _S, 3), (_Maker.total, _LONG, 1), (_Maker.power, Kind.INT32, 1),
        (_Maker.long_setting, _LONG, 1), (_Maker.text, _W, 0.4), (_Maker.nothing, _W, 2),
    ],
    "energies of four registers": [
        (_Maker.total, Kind.UINT64, 3), (_Maker.power, Kind.INT32, 4), (_Maker.voltage, _LONG, 2),
        (_Maker.current, _LONG, 2), (_Maker.nothing, _LONG, 1), (_Maker.setting, _W, 2), (_Maker.text, _W, 0.3),
    ],
}  # fmt: skip


def layout(seed: int) -> Layout:
    """The device of that seed: the same each time."""
    chance = random.Random(f"layout {seed}")
    school = chance.choice(sorted(_SCHOOLS))
    order = chance.choice(
        (ByteOrder.ABCD, ByteOrder.ABCD, ByteOrder.CDAB, ByteOrder.CDAB, ByteOrder.DCBA, ByteOrder.BADC)
    )
    maker, rows = _Maker(chance, order), _SCHOOLS[school]
    runs: list[list[MadePoint]] = []
    address = 0
    for _ in range(chance.randint(1, 3)):
        run: list[MadePoint] = []
        wanted = chance.randint(5, 30)
        while len(run) < wanted:
            row, kind, _ = chance.choices(rows, [share for _, _, share in rows])[0]
            together = chance.choice((1, 1, 2, 3, 3, _SEVERAL)) if chance.random() < 0.7 else 1
            for _ in range(together):
                codec, mover = row(maker, kind)
                run.append(MadePoint(Table.HOLDING, address, codec, mover))
                address = run[-1].end
        runs.append(run)
        address += 50
    return Layout(school, runs)


@dataclass
class Read:
    """One value: the layout's school, what it is, how it was cut, whether rightly, and whether it was zero."""

    school: str
    codec: Codec
    found: Cut | None
    is_right: bool
    words: list[bytes]

    @property
    def is_zero(self) -> bool:
        return not any(any(word) for word in self.words)


def read(seeds: range) -> list[Read]:
    """The values of those layouts, as they are explained."""
    values: list[Read] = []
    for seed in seeds:
        made = layout(seed)
        samples = made.samples(random.Random(seed))
        _, cuts = explain([[one] for one in samples])
        for run, words, found in zip(made.runs, samples, cuts, strict=True):
            values += read_of_run(made.school, run, words, found)
    return values


def read_of_run(school: str, run: list[MadePoint], samples: list[bytes], found: list[Cut]) -> list[Read]:
    """The values of one run that was cut so."""
    by_place = {one.at: one for one in found}
    values = []
    for point in run:
        at = point.address - run[0].address
        words = [sample[2 * at : 2 * (at + point.codec.registers)] for sample in samples]
        cut = by_place.get(at)
        is_right = (
            cut is not None
            and cut.codec.registers == point.codec.registers
            and all(cut.codec.decode(word) == point.codec.decode(word) for word in words)
        )
        values.append(Read(school, point.codec, cut, is_right, words))
    return values


def share_right(values: list[Read]) -> float:
    """Of those that were not zero throughout."""
    counted = [value.is_right for value in values if not value.is_zero]
    return sum(counted) / max(len(counted), 1)


def calibration(values: list[Read]) -> list[tuple[float, int, float, float]]:
    """By tenths of `sure`: from where, how many were told so, the mean told, the share that is right."""
    rows = []
    for tenth in range(10):
        low, high = tenth / 10, (tenth + 1) / 10 + (tenth == 9)
        reads = [value for value in values if value.found is not None and low <= value.found.sure < high]
        if reads:
            mean = sum(value.found.sure for value in reads if value.found is not None) / len(reads)
            rows.append((low, len(reads), mean, sum(value.is_right for value in reads) / len(reads)))
    return rows


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else LAYOUTS
    for title, first in (("to learn from", 0), ("to judge by", 1)):
        values = read(range(first, 2 * count, 2))
        print(f"{title}: {share_right(values):.4f} of {len(values)} values right")
        for school in sorted(_SCHOOLS):
            print(f"  {school:32} {share_right([value for value in values if value.school == school]):.3f}")
        wrong = Counter(
            f"{value.codec.type} read as {value.found.codec.type if value.found else 'part of another'}"
            for value in values if not value.is_right and not value.is_zero
        )  # fmt: skip
        for what, times in wrong.most_common(12):
            print(f"  {times:4} {what}")
        for low, told, mean, right in calibration(values):
            print(f"  sure from {low:.1f}: {told:5} told, mean {mean:.2f}, right {right:.2f}")


if __name__ == "__main__":
    main()
