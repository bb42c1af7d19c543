"""The board: the last good record of each block, and a short trace behind it. Written by the engine; others read a
`frozen` one.

A record is immutable and replaced whole. A point is (block, number): there is no object a point here. A place is
only good on the board of the plan that it came from; a slot that a block has left is given to the next, with nothing
in it.
"""

import heapq
from array import array
from collections import deque
from collections.abc import Mapping, Sequence
from enum import Enum
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.board.trace import TRACE_LENGTH, Trace
from kanaleto.planning.plan import AnyPlace, Block, DerivedPlace, Identity, Place, Plan, WhyNot
from kanaleto.site.model import DEMAND, Point
from kanaleto.values.block import decoder_of
from kanaleto.values.codec import NoValue, Value

_NOT_EVALUATED = "not evaluated yet"


class Quality(Enum):
    """The value is the word used in JSON."""

    GOOD = "good"
    STALE = "stale"
    BAD = "bad"
    NEVER = "never"


class Record(Struct, frozen=True, gc=False):
    """What one good exchange brought: the data as it came, the values of the block's points, and when (loop and wall
    time)."""

    data: bytes
    values: tuple[Value, ...]
    at_s: float
    wall_s: float


class Trouble(Struct, frozen=True):
    """Why a block's last attempt brought nothing. `is_refusal` when the device itself said no."""

    reason: str
    is_refusal: bool


class Reading(Struct, frozen=True, gc=False):
    """One point as it stands: value, quality and why, words as they came, age in seconds (None before the first)."""

    value: Value | None
    quality: Quality
    reason: str
    data: bytes
    age_s: float | None
    wall_s: float | None


class LastRead(Struct, frozen=True, gc=False):
    """The last that was read of a point before it was switched off."""

    point: Point
    value: Value
    data: bytes
    at_s: float
    wall_s: float


class Readings:
    """What a board has to say. The lists are the engine's own, or copies that nobody changes any more."""

    def __init__(
        self,
        records: Sequence[Record | None],
        troubles: Sequence[Trouble | None],
        cycles_s: Sequence[float],
        traces: Sequence[Trace],
        derived: Mapping[str, Reading],
        exponents: Mapping[tuple[str, str], Place],
        derived_traces: Mapping[str, deque[tuple[float, Value]]],
        left: Mapping[Identity, LastRead],
    ) -> None:
        self.records = records
        self.troubles = troubles
        self.cycles_s = cycles_s  # the period as reached
        self.traces = traces
        self.derived = derived  # by name
        self.derived_traces = derived_traces
        self.left = left
        self._exponents = exponents

    def exponent_of(self, device_name: str, point: Point) -> int | None:
        """The power of ten that another point holds for this one: 0 where it needs none, None while it is not known."""
        if not point.exponent:
            return 0
        place = self._exponents.get((device_name, point.name))
        record = self.records[place.block.index] if place is not None and place.block is not None else None
        value = record.values[place.number] if record is not None and place is not None else None
        return int(value) if isinstance(value, int | float) and -30 <= value <= 30 and value == int(value) else None

    def reading(self, place: AnyPlace, now_s: float) -> Reading:
        """A point as it stands at loop time `now_s`."""
        if isinstance(place, DerivedPlace):
            return self.derived.get(place.derived.name) or Reading(None, Quality.NEVER, _NOT_EVALUATED, b"", None, None)
        block = place.block
        if block is None:
            if place.is_refused:
                return Reading(None, Quality.BAD, place.why_not, b"", None, None)
            why = f"not polled: {place.why_not}" if place.why_not else "not polled"
            if place.because is WhyNot.SWITCHED_OFF:
                why = "switched off, for now"
                left = self.left.get(place.identity)
                if left is not None and left.point == place.point:
                    return Reading(left.value, Quality.STALE, why, left.data, max(now_s - left.at_s, 0.0), left.wall_s)
            return Reading(None, Quality.NEVER, why, b"", None, None)
        record, trouble = self.records[block.index], self.troubles[block.index]
        if record is None:
            is_refused = trouble is not None and trouble.is_refusal
            reason = trouble.reason if trouble is not None else "not asked yet"
            return Reading(None, Quality.BAD if is_refused else Quality.NEVER, reason, b"", None, None)
        value = record.values[place.number]
        age = max(now_s - record.at_s, 0.0)
        data = words_of(record.data, place)
        quality, reason = Quality.GOOD, ""
        if trouble is not None and trouble.is_refusal:
            quality, reason = Quality.BAD, trouble.reason
        elif age > self.stale_after_s(place):
            quality, reason = Quality.STALE, trouble.reason if trouble else "not read in time"
        elif isinstance(value, NoValue):
            quality, reason = Quality.BAD, value.reason
        if place.point.exponent and isinstance(value, int | float):
            power = self.exponent_of(place.device.name, place.point)
            if power is None:
                return Reading(
                    None, Quality.BAD, f"its exponent, {place.point.exponent}, is not known", data, age, record.wall_s
                )
            value = times_ten_to(value, power)
        return Reading(value, quality, reason, data, age, record.wall_s)

    def stale_after_s(self, place: Place) -> float:
        """The longest of three periods, three cycles as reached, and the timeout; points on demand never grow stale."""
        block = place.block
        if block is None or block.period_s == DEMAND:
            return float("inf")
        return max(3 * block.period_s, 3 * self.cycles_s[block.index], place.device.timeout_s)

    def trace(self, place: AnyPlace) -> list[tuple[float, Value]]:
        """When the point was read in the last minute (loop time), and its value then, the newest last."""
        if isinstance(place, DerivedPlace):
            return list(self.derived_traces.get(place.derived.name, ()))
        if place.block is None:
            return []
        block, number = place.block, place.number
        offset, point = block.offsets[number], place.point
        read = self.traces[block.index].read()
        if point.table.is_bits:
            return [(at_s, data[offset // 8] >> offset % 8 & 1) for at_s, data in read]
        start, end, decode = 2 * offset, 2 * (offset + point.size), decoder_of(point.codec)
        return [(at_s, decode(data[start:end])[0]) for at_s, data in read]


class Slots(Struct, frozen=True):
    """Slots of a board that are free, and how many there are, at one moment of it."""

    generation: int
    free: tuple[int, ...]
    size: int


class Heir(NamedTuple):
    """A block that asks what one before it asked; whether it makes the same values of the words."""

    block: Block
    before: Block
    means_the_same: bool


def heirs_of(gone: Sequence[Block], fresh: Sequence[Block]) -> tuple[Heir, ...]:
    """Which of the fresh blocks ask what one of those asked that are gone."""
    before = {block.source: block for block in gone} if fresh else {}
    pairs = [(block, old_block) for block in fresh if (old_block := before.get(block.source)) is not None]
    return tuple([Heir(block, old_block, block.decodes_like(old_block)) for block, old_block in pairs])


def exponents_of(plan: Plan) -> dict[tuple[str, str], Place]:
    """Where the points that are powers of ten for others stand, by the identity of those."""
    return {identity: place for part in plan.parts for identity, place in part.exponents.items()}


class Board(Readings):
    """See the head of this file. For the engine's thread."""

    records: list[Record | None]
    troubles: list[Trouble | None]
    cycles_s: "array[float]"
    traces: list[Trace]
    derived_traces: Mapping[str, deque[tuple[float, Value]]]

    def __init__(self, plan: Plan) -> None:
        cycles_s = array("d", [block.period_s for block in plan.blocks])  # which are numbered in their order
        nothing = [None] * len(cycles_s)
        super().__init__(nothing, nothing.copy(), cycles_s, [Trace() for _ in cycles_s], {}, exponents_of(plan), {}, {})
        self._free: list[int] = []
        self.generation = 0
        """Counts when slots change hands."""
        self._frozen_traces = -1, tuple[Trace, ...]()
        """Of which generation, which has the same to its end."""

    def frozen(self) -> Readings:
        """As it stands now, for whoever reads it in another thread. Traces go on growing, in their own slots only."""
        if self._frozen_traces[0] != self.generation:
            self._frozen_traces = self.generation, tuple(self.traces)
        copies = tuple(self.records), tuple(self.troubles), self.cycles_s[:], self._frozen_traces[1]
        return Readings(*copies, self.derived, self._exponents, self.derived_traces, self.left)

    def note_derived(self, derived: dict[str, Reading], now_s: float) -> None:
        """Formulas were evaluated; good ones are traced."""
        self.derived = derived
        traces = self.derived_traces
        if traces.keys() != derived.keys():
            traces = {name: traces.get(name) or deque(maxlen=TRACE_LENGTH) for name in derived}
            self.derived_traces = traces
        for name, reading in derived.items():
            if reading.quality is Quality.GOOD and reading.value is not None:
                traces[name].append((now_s, reading.value))

    def note_left(self, left: Mapping[Identity, LastRead]) -> None:
        """What was read last of all the points that are switched off."""
        self.left = left

    def note_exponents(self, exponents: Mapping[tuple[str, str], Place]) -> None:
        """Where the points that are powers of ten for others stand by now."""
        self._exponents = exponents

    def slots(self) -> "Slots":
        """Those that could be given now, for a plan that is made beside the loop."""
        return Slots(self.generation, tuple(self._free), len(self.records))

    def _grow(self) -> None:
        self.records.append(None)
        self.troubles.append(None)
        self.cycles_s.append(0.0)
        self.traces.append(Trace())

    def take_slot(self) -> int:
        """A place for one block more: one that another has left, if there is one."""
        self.generation += 1
        if self._free:
            return heapq.heappop(self._free)
        self._grow()
        return len(self.records) - 1

    def leave_slot(self, index: int) -> None:
        """The block that stood there is no more."""
        self.generation += 1
        self.records[index] = self.troubles[index] = None
        self.traces[index] = Trace()  # another one: whoever still draws the old one keeps it
        self.cycles_s[index] = 0.0
        heapq.heappush(self._free, index)

    def begin(self, block: Block, trouble: Trouble | None = None) -> None:
        """A new block stands there, maybe with something to say of it before its first answer."""
        self.cycles_s[block.index] = block.period_s
        self.troubles[block.index] = trouble

    def forget(self, block: Block) -> None:
        """What was read of it was another device's."""
        self.records[block.index] = self.troubles[block.index] = None
        self.traces[block.index] = Trace()
        self.generation += 1

    def change(self, gone: Sequence[Block], fresh: Sequence[Block], size: int, heirs: Sequence[Heir]) -> None:
        """Other blocks stand there: those that are gone leave their slots, those that are fresh have theirs, up to
        `size`. Words of the same request are kept; where they mean something else now they are decoded again, and what
        was traced is dropped."""
        kept = [
            (heir, self.records[at], self.troubles[at], self.cycles_s[at], self.traces[at])
            for heir in heirs
            for at in (heir.before.index,)
        ]
        for block in gone:
            self.leave_slot(block.index)
        while len(self.records) < size:
            self._grow()
        taken = {block.index for block in fresh}
        self._free = [index for index in self._free if index not in taken]
        heapq.heapify(self._free)
        self.generation += 1
        for block in fresh:
            self.begin(block)
        for heir, record, trouble, cycle_s, trace in kept:
            block = heir.block
            self.troubles[block.index], self.cycles_s[block.index] = trouble, cycle_s
            if heir.means_the_same:
                self.records[block.index], self.traces[block.index] = record, trace
            elif record is not None:
                self.records[block.index] = replace(record, values=block.decoder.decode(record.data))

    def put(self, index: int, record: Record) -> None:
        """A block was read."""
        before = self.records[index]
        if before is not None:
            self.cycles_s[index] = record.at_s - before.at_s
        self.records[index] = record
        self.troubles[index] = None
        self.traces[index].append(record.at_s, record.data)

    def fail(self, index: int, trouble: Trouble) -> None:
        """A block could not be read; its last record stays and grows old."""
        self.troubles[index] = trouble


def times_ten_to(value: int | float, power: int) -> int | float:
    """Rounded once: 184 220 600 × 10⁻³ is 184 220.6."""
    factor: int = 10 ** abs(power)
    return value * factor if power >= 0 else value / factor


def words_of(data: bytes, place: Place) -> bytes:
    """Of the data of its block the point's own registers as they came; for a bit one byte, 0 or 1."""
    block = place.block
    if block is None:
        return b""
    offset = block.offsets[place.number]
    if place.point.table.is_bits:
        return bytes((data[offset // 8] >> offset % 8 & 1,))
    return data[2 * offset : 2 * (offset + place.point.size)]
