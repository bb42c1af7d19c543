"""Values of made-up devices: how they move, what ranges of registers hold, and where those begin."""

import math
import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table

Mover = Callable[[float], float | str]
_SHIPS = ("Alder", "Birch", "Cedar", "Drake", "Ember", "Fjord", "Grebe", "Heron")


@dataclass
class MadePoint:
    table: Table
    address: int
    codec: Codec
    mover: Mover

    @property
    def end(self) -> int:
        return self.address + (1 if self.table.is_bits else self.codec.registers)

    def data(self, at: float) -> bytes:
        value = self.mover(at)
        return self.codec.encode(value if isinstance(value, str) else self._fitted(value), is_within=False)

    def _fitted(self, value: float) -> float:
        return value if self.codec.type.is_float else round(value)


def moving(chance: random.Random, kind: str) -> tuple[Kind, Mover]:
    """A kind of value and how it moves."""
    phase, period = chance.uniform(0, 6.28), chance.uniform(15, 200)
    noise_seed = chance.random()

    def wave(base: float, swing: float, noise: float) -> Mover:
        def at(now: float) -> float:
            jitter = random.Random(f"{noise_seed}{now:.3f}").gauss(0, 1)
            return base + swing * math.sin(6.2832 * now / period + phase) + noise * jitter

        return at

    if kind == "float":
        base = 10 ** chance.uniform(-0.5, 3.5) * chance.choice((1, 1, 1, 1, -1))
        move = wave(base, abs(base) * chance.uniform(0.005, 0.3), abs(base) * chance.uniform(0.0005, 0.01))
        if chance.random() < 0.2:
            return Kind.FLOAT32, lambda now: round(float(move(now)), 1)
        return Kind.FLOAT32, move
    if kind == "double":
        base = 10 ** chance.uniform(0, 4)
        return Kind.FLOAT64, wave(base, base * chance.uniform(0.01, 0.2), base * 0.002)
    if kind == "measured":
        base = chance.choice((chance.uniform(50, 900), chance.uniform(900, 6000), chance.uniform(-300, 300)))
        return (Kind.INT16 if base < 400 and chance.random() < 0.7 else Kind.UINT16), wave(
            abs(base) + 40 if base >= 0 else base, abs(base) * 0.1 if base >= 0 else 5, 2.0
        )
    if kind == "mains":
        return chance.choice(
            ((Kind.UINT16, wave(5000, 3, 1.5)), (Kind.FLOAT32, wave(50, 0.03, 0.01)), (Kind.UINT16, wave(2310, 20, 4)),
             (Kind.FLOAT32, wave(231, 1.5, 0.4)))
        )  # fmt: skip
    if kind == "power":
        base = chance.uniform(2000, 300000) * chance.choice((1, 1, -1))
        return Kind.INT32, wave(base, abs(base) * 0.15, abs(base) * 0.004)
    if kind in ("counter", "long"):
        start = chance.uniform(1e3, 5e7) if kind == "counter" else chance.uniform(1e6, 1e13)
        rate = 10 ** chance.uniform(-0.7, 1.7)
        return (Kind.UINT32 if kind == "counter" else Kind.UINT64), lambda now: math.floor(start + rate * now)
    if kind == "hours":
        start = chance.randint(3, 30000)
        return Kind.UINT16, lambda now: start + math.floor(now / 90)
    if kind == "set":
        number = chance.choice((5, 10, 15, 20, 25, 50, 80, 100, 150, 250, 400, 500, 1000, 1200, 3000))
        return Kind.UINT16, lambda now: number
    if kind == "fset":
        amount = chance.choice((0.5, 1.5, 2.5, 3.7, 10.0, 12.5, 20.0, 37.5, 45.0, 55.0, 80.0, 100.0, 650.0))
        return Kind.FLOAT32, lambda now: amount
    if kind == "status":
        first, second = chance.sample(range(16), 2)
        still = sum(1 << bit for bit in chance.sample(range(16), 2))
        return Kind.UINT16, lambda now: (
            still ^ (1 << first if math.sin(now / period * 6.28 + phase) > 0.3 else 0) ^ (
                1 << second if math.sin(now / 37 + phase) > 0.8 else 0)
        )  # fmt: skip
    if kind == "zero":
        return Kind.UINT16, lambda now: 0
    if kind == "time":
        begun = datetime(2026, 11, 3, 4, tzinfo=UTC)
        return Kind.UNIX32, lambda now: (begun + timedelta(seconds=int(now))).strftime("%Y-%m-%d %H:%M:%S")
    if kind == "clock":
        begin = datetime(2026, 11, chance.randint(1, 28), 8, tzinfo=UTC)
        return Kind.CLOCK3, lambda now: (begin + timedelta(seconds=int(now))).strftime("%Y-%m-%d %H:%M:%S")
    if kind == "id":
        number = chance.randint(1_000_000, 90_000_000)
        return Kind.UINT32, lambda now: number
    raise ValueError(kind)


_MIX = (
    ("measured", 5), ("float", 5), ("mains", 2), ("power", 1.5), ("counter", 2), ("long", 0.7), ("hours", 1),
    ("set", 3), ("fset", 1.5), ("status", 2), ("zero", 1.5), ("time", 0.2), ("clock", 0.15), ("id", 0.4),
    ("double", 0.4), ("text", 0.5),
)  # fmt: skip


def range_of_points(
    chance: random.Random, table: Table, start: int, style: tuple[ByteOrder, float], favourite: str
) -> list[MadePoint]:
    order, floats = style
    points, at = [], start
    names = [name for name, _ in _MIX]
    weights = [weight * (4 if name == favourite else 1) for name, weight in _MIX]
    for _ in range(chance.randint(4, 22)):
        name = chance.choices(names, weights)[0]
        if name in ("measured", "power") and chance.random() < floats:
            name = "float"
        if name == "text":
            text = f"{chance.choice(_SHIPS)} {chance.randint(1, 900)}-{chance.choice('ABX')}"
            codec = Codec(ValueType(Kind.TEXT, chance.choice((16, 20))), ByteOrder.AB)
            mover: Mover = lambda now, text=text: text  # type: ignore[misc] # noqa: E731
        else:
            kind, mover = moving(chance, name)
            value_type = ValueType(kind)
            codec = Codec(value_type, order if value_type.is_wide else ByteOrder.AB)
        points.append(MadePoint(table, at, codec, mover))
        at = points[-1].end
        if chance.random() < 0.04:
            at += chance.choice((1, 1, 2, 3, 6))
    return points


def starts_of(chance: random.Random) -> Iterator[int]:
    """Where a maker begins ranges."""
    plus = chance.choice((0, 0, 1))
    if chance.random() < 0.6:
        choices = [
            0,
            100,
            200,
            300,
            400,
            500,
            1000,
            1100,
            2000,
            3000,
            4000,
            5000,
            6000,
            8000,
            10000,
            20000,
            30000,
            40000,
        ]
        choices += [50, 150, 250, 600, 1500, 2500]
    else:
        choices = [0, 0x10, 0x20, 0x40, 0x80, 0x100, 0x200, 0x300, 0x400, 0x800, 0x1000, 0x1100, 0x2000, 0x3000, 0x5000]
        choices += [0x8000, 0xF000]
    weights = [1 / (1 + 0.35 * number) for number in range(len(choices))]
    while True:
        start = chance.choices(choices, weights)[0] + plus
        yield start + (chance.randint(1, 90) if chance.random() < 0.04 else 0)
