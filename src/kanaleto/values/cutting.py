"""Words that nobody knows, cut into values so that the description of all samples is shortest.

Every register may begin a value of any type (`columns`, `spans`); what each costs is known, so the cheapest way through
a run is found from its beginning to its end, and from its end to its beginning, and what another reading of any
register would cost beside it. Values of one type stand together, so that a change of type costs more than going on. A
device keeps to one order for all its wide values: each is tried, and the one with the shortest description of all its
runs is taken; another order for a single value costs extra. A device keeps to its types too: which ones it uses is
counted in a first cut, each value as much as it is sure, and the second cut prefers those (`Habit`).
"""

from collections.abc import Iterable, Mapping, Sequence
from math import exp, log2
from types import MappingProxyType

import numpy as np
from msgspec import Struct

from kanaleto.values import weights
from kanaleto.values.codec import Codec
from kanaleto.values.columns import IMPOSSIBLE, KINDS, REGISTERS, Bits, Column, Shape, matrix
from kanaleto.values.textspans import clocks, texts
from kanaleto.values.types import WIDE_ORDERS, ByteOrder, Kind, ValueType

_LONG = (ByteOrder("EFGHABCD"), ByteOrder("FEHGBADC"))
_NO_HABIT: "Habit" = MappingProxyType({})
_DATES = (1.4e9, 2.1e9)  # seconds since 1970: 2014 to 2036


class Style(Struct, frozen=True):
    """The orders that a device keeps to: of its wide values, and of the bytes in a register."""

    wide: ByteOrder = ByteOrder.ABCD
    narrow: ByteOrder = ByteOrder.AB

    @property
    def bits(self) -> float:
        turned = weights.TYPES.bytes_turned if self.narrow is ByteOrder.BA else 0.0
        return weights.TYPES.wide_orders[self.wide] + turned


STYLES = tuple(Style(wide, narrow) for narrow in (ByteOrder.AB, ByteOrder.BA) for wide in WIDE_ORDERS)


class Cut(Struct, frozen=True):
    """One value of a run: the register at which it begins in it, its reading, how it moved, how sure that is (0 to 1),
    and the next best reading of the same place, if one came near."""

    at: int
    codec: Codec
    shape: Shape
    sure: float
    instead: Codec | None = None
    excess: float = 0.0
    """Bits that the next best reading of other numbers takes more."""


Habit = Mapping[Kind, float]
"""What each type costs more, or less, on a device, in bits: by how often it is used there."""

_SIGN = {
    Kind.UINT16: Kind.INT16, Kind.UINT32: Kind.INT32, Kind.UINT64: Kind.INT64, Kind.BITS: Kind.INT16,
    Kind.UNIX32: Kind.INT32,
}  # fmt: skip


class _Entry(Struct):
    """One reading wherever in a run it may stand: its registers, the number of its type and order, its cost and shape
    by the register at which it begins, and where a signed one is below zero in some sample."""

    codec: Codec
    size: int
    key: int
    cost: list[float]
    shape: list[int]
    below_zero: list[bool] = []


class WordRun:
    """A run of registers, with what every reading of every place in it costs. Samples of several devices of one kind
    (`samples` of each) are taken together."""

    def __init__(self, samples: Sequence[Sequence[bytes]]) -> None:
        self.registers = len(samples[0][0]) // 2
        self._entries: list[_Entry] = []
        self._keys: dict[tuple[Kind, ByteOrder], int] = {}
        matrices = [matrix(one) for one in samples]
        for kind in KINDS:
            if REGISTERS[kind] <= self.registers:
                for order in _orders_of(kind):
                    self._add(kind, order, [Column(one, kind, order) for one in matrices])
        self._spans = self._found_spans(samples, matrices)
        self._by_style: dict[Style, list[tuple[_Entry, float]]] = {}

    def _add(self, kind: Kind, order: ByteOrder, columns: list[Column]) -> None:
        cost = np.minimum(sum((column.cost for column in columns), start=np.zeros(len(columns[0].cost))), IMPOSSIBLE)
        shape = np.max([column.shape for column in columns], axis=0)
        below_zero = np.any([column.is_below_zero for column in columns], axis=0).tolist()
        codec = Codec(ValueType(kind), order)
        self._entries.append(
            _Entry(codec, REGISTERS[kind], self._key(kind, order), cost.tolist(), shape.tolist(), below_zero)
        )
        if kind is Kind.UINT32:
            self._entries.append(self._dates(order, columns, cost, shape))

    def _dates(self, order: ByteOrder, columns: list[Column], cost: Bits, shape: Bits) -> _Entry:
        """Whole numbers of 32 bits that are seconds since 1970 and of this time."""
        is_date = np.all([(column.first > _DATES[0]) & (column.first < _DATES[1]) for column in columns], axis=0)
        rises = np.isin(shape, (int(Shape.STILL), int(Shape.RISING)))
        saved = (
            sum((column.of_first for column in columns), start=np.zeros(len(cost))) - len(columns) * weights.TYPES.date
        )
        excess = np.where(
            is_date & rises, cost - saved + np.where(shape == Shape.STILL, weights.TYPES.still_date, 0.0), IMPOSSIBLE
        )
        codec = Codec(ValueType(Kind.UNIX32), order)
        return _Entry(
            codec, codec.registers, self._key(Kind.UNIX32, order), excess.tolist(), shape.astype(int).tolist()
        )

    def _key(self, kind: Kind, order: ByteOrder) -> int:
        return self._keys.setdefault((kind, order), len(self._keys))

    def _found_spans(
        self, samples: Sequence[Sequence[bytes]], matrices: Sequence[np.ndarray[tuple[int, ...], np.dtype[np.uint8]]]
    ) -> dict[int, list[tuple[Codec, int, float]]]:
        """Texts and packed dates, by the register at which each begins."""
        still = np.all([(one == one[0]).all(axis=0) for one in matrices], axis=0)
        is_still = (still[0::2] & still[1::2]).tolist()
        found: dict[int, dict[Codec, list[float]]] = {}
        for one in samples:
            spans = [*texts(one[0], is_still)]
            for kind in (Kind.CLOCK3, Kind.CLOCK6):
                spans += clocks(list(one), kind)
            for at, codec, bits in spans:
                found.setdefault(at, {}).setdefault(codec, []).append(bits)
        return {
            at: [
                (codec, self._key(codec.type.kind, codec.order), sum(bits))
                for codec, bits in by_codec.items()
                if len(bits) == len(samples)
            ]
            for at, by_codec in found.items()
        }

    def _of_style(self, style: Style, is_strict: bool, habit: Habit) -> list[tuple[_Entry, float]]:
        """The readings that a style allows, with what each costs more for not being of it, or of a type that the device
        seldom uses."""
        chosen, own_long = [], dict(zip(_LONG, weights.TYPES.own_long, strict=True))
        for entry in self._entries:
            order = entry.codec.order
            is_own = order in (style.wide, style.narrow) or order in _LONG
            against = weights.TYPES.against_style if order.is_for_wide else weights.TYPES.against_narrow
            if is_own or not is_strict:
                more = own_long.get(order, 0.0) if is_own else against
                chosen.append((entry, more + habit.get(entry.codec.type.kind, 0.0)))
        return chosen

    def bits(self, style: Style) -> float:
        """The length of the shortest description in which every value keeps to the style."""
        return self._forward(self._of_style(style, is_strict=True, habit={}))[0][-1]

    def _forward(self, entries: list[tuple[_Entry, float]]) -> tuple[list[float], list[list[float]]]:
        """The least bits up to each register, and the same where the last value is of each key."""
        count, keys, same, other_type = (
            self.registers,
            len(self._keys),
            weights.TYPES.same_type,
            weights.TYPES.other_type,
        )
        best = [0.0] + [IMPOSSIBLE * 10] * count
        by_key = [[IMPOSSIBLE * 10] * keys for _ in range(count + 1)]
        for at in range(count):
            here, other = by_key[at], best[at] + other_type
            for entry, more in entries:
                if at < len(entry.cost):
                    bits = entry.cost[at] + more + min(here[entry.key] + same, other)
                    end = at + entry.size
                    if bits < by_key[end][entry.key]:
                        by_key[end][entry.key] = bits
                        best[end] = min(best[end], bits)
            for codec, key, cost in self._spans.get(at, ()):
                end, bits = at + codec.registers, cost + min(here[key] + same, other)
                by_key[end][key] = min(by_key[end][key], bits)
                best[end] = min(best[end], bits)
        return best, by_key

    def _backward(self, entries: list[tuple[_Entry, float]]) -> list[list[float]]:
        """The least bits from each register on, where the value before is of each key."""
        count, keys, same, other_type = (
            self.registers,
            len(self._keys),
            weights.TYPES.same_type,
            weights.TYPES.other_type,
        )
        rest = [[IMPOSSIBLE * 10] * keys for _ in range(count)] + [[0.0] * keys]
        for at in range(count - 1, -1, -1):
            here = [IMPOSSIBLE * 10] * keys
            for entry, more in entries:
                if at < len(entry.cost):
                    bits = entry.cost[at] + more + rest[at + entry.size][entry.key]
                    here[entry.key] = min(here[entry.key], bits)
            for codec, key, cost in self._spans.get(at, ()):
                here[key] = min(here[key], cost + rest[at + codec.registers][key])
            other = min(here) + other_type
            rest[at] = [min(bits + same, other) for bits in here]
        return rest

    def readings(self, style: Style, habit: Habit = _NO_HABIT) -> list[dict[Codec, tuple[float, Shape]]]:
        """Of each register, every reading that may begin there: how many bits more than the shortest description the
        whole run takes with it, and its shape."""
        entries = self._of_style(style, is_strict=False, habit=habit)
        best, by_key = self._forward(entries)
        rest = self._backward(entries)
        found: list[dict[Codec, tuple[float, Shape]]] = []
        same, other_type = weights.TYPES.same_type, weights.TYPES.other_type
        for at in range(self.registers):
            before, other = by_key[at], best[at] + other_type
            here: dict[Codec, tuple[float, Shape]] = {}
            for entry, more in entries:
                if at < len(entry.cost) and entry.cost[at] < IMPOSSIBLE:
                    bits = entry.cost[at] + more + min(before[entry.key] + same, other)
                    whole = bits + rest[at + entry.size][entry.key]
                    here[entry.codec] = (whole - best[-1], Shape(entry.shape[at]))
            for codec, key, cost in self._spans.get(at, ()):
                bits = cost + min(before[key] + same, other)
                here[codec] = (bits + rest[at + codec.registers][key] - best[-1], Shape.STILL)
            found.append(here)
        return found

    def _is_same_number(self, at: int, one: Codec, other: Codec) -> bool:
        """Whether two readings that begin there give the same numbers: with a sign and without, where none is below
        zero; a text and a longer one."""
        if one.type.kind is Kind.TEXT and other.type.kind is Kind.TEXT:
            return True
        kinds = (one.type.kind, other.type.kind)
        if one.order is not other.order or one.registers != other.registers:
            return False
        signed = [_SIGN.get(kind, kind) for kind in kinds]
        if signed[0] is not signed[1]:
            return False
        return not any(
            entry.below_zero[at]
            for entry in self._entries if entry.codec.type.kind is signed[0] and entry.codec.order is one.order
        )  # fmt: skip

    def cuts(self, style: Style, habit: Habit = _NO_HABIT) -> list[Cut]:
        """The values of the shortest description, in order."""
        found: list[Cut] = []
        readings, at = self.readings(style, habit), 0
        while at < self.registers:
            ranked = sorted(readings[at].items(), key=lambda entry: entry[1][0])
            codec, (_, shape) = ranked[0]
            others = [(other, bits) for other, (bits, _) in ranked[1:] if not self._is_same_number(at, codec, other)]
            found.append(_cut(at, codec, shape, others))
            at += codec.registers
        return found


def _orders_of(kind: Kind) -> Sequence[ByteOrder]:
    if REGISTERS[kind] == 1:
        return (ByteOrder.AB, ByteOrder.BA)
    return WIDE_ORDERS if REGISTERS[kind] == 2 else (*WIDE_ORDERS, *_LONG)


def _cut(at: int, codec: Codec, shape: Shape, others: Sequence[tuple[Codec, float]]) -> Cut:
    """With the best reading of other numbers beside it, and how far behind it lies."""
    weight = weights.TYPES
    rival, excess = others[0] if others else (None, 4 * weight.half)
    begin, slope = weight.sure[shape]
    odds = begin + slope * min(max(excess, 0.0), weight.most_excess)
    most = {Shape.ZERO: weight.zero_sure, Shape.STILL: weight.still_sure}.get(shape, weight.most_sure)
    sure = min(1 / (1 + exp(-odds)), most if codec.type.kind is not Kind.TEXT else weight.most_sure)
    if codec.registers == 1 and shape is Shape.STATES:
        codec = Codec(ValueType(Kind.BITS), codec.order)
    sure = round(max(sure, weight.least_sure), 2)
    return Cut(at, codec, shape, sure, rival if excess < 3 * weight.half else None, max(excess, 0.0))


def habit_of(cuts: Iterable[Cut]) -> Habit:
    """Which types a device uses: bits by type, below zero for what it uses more than others do. What was zero
    throughout says nothing."""
    weight = weights.TYPES
    counts: dict[Kind, float] = {}
    for cut in cuts:
        if cut.shape is not Shape.ZERO:
            kind = Kind.UINT16 if cut.codec.type.kind is Kind.BITS else cut.codec.type.kind
            counts[kind] = counts.get(kind, 0.0) + 1.0 - 0.5 ** (cut.excess / weight.half)
    every = sum(counts.get(kind, 0.0) for kind in weight.usual)
    return {
        kind: max(
            -weight.habit * log2((counts.get(kind, 0.0) / share + weight.others) / (every + weight.others)),
            -weight.most_habit,
        )
        for kind, share in weight.usual.items()
    }


def style_of(runs: Iterable[WordRun], known: Iterable[Codec] = ()) -> Style:
    """The style in which the description of all runs is shortest; values that are `known` vote for their order."""
    runs, orders = list(runs), [codec.order for codec in known]

    def bits(style: Style) -> float:
        against = sum(order not in (style.wide, style.narrow) for order in orders)
        return style.bits + weights.TYPES.against_style * against + sum(run.bits(style) for run in runs)

    return min(STYLES, key=bits)


def described_bits(runs: Sequence[Sequence[Sequence[bytes]]]) -> float:
    """The length of the shortest description of a device's runs; of a run, the samples of each device that is explained
    by the same layout."""
    known = [WordRun(samples) for samples in runs]
    style = style_of(known)
    return style.bits + sum(run.bits(style) for run in known)


def explain(runs: Sequence[Sequence[Sequence[bytes]]]) -> tuple[Style, list[list[Cut]]]:
    """The style of a device and the values of each of its runs; of a run, the samples of each device of that kind."""
    known = [WordRun(samples) for samples in runs]
    style = style_of(known)
    cuts = [run.cuts(style) for run in known]
    habit = habit_of(cut for run in cuts for cut in run)
    return style, [run.cuts(style, habit) for run in known]
