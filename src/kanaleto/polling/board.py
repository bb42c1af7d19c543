"""The board: the last good record of each block, and a short trace behind it. Written by the engine, read by anybody.

A record is immutable and replaced whole, so a reader in another thread sees the one before or the one after, never a mixture.
A point is (block, number): there is no object a point here.
"""

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import NamedTuple

from kanaleto.polling.plan import FORMULA, Block, Place, Plan
from kanaleto.site.model import DEMAND, Point
from kanaleto.values.codec import NoValue, Value

TRACE_EVERY_S = 0.5
TRACE_LENGTH = 120


class Quality(Enum):
    """The value is the word used in JSON."""

    GOOD = "good"
    STALE = "stale"
    BAD = "bad"
    NEVER = "never"


class Record(NamedTuple):
    """What one good exchange brought: the data as it came, the values of the block's points, and when (loop and wall time)."""

    data: bytes
    values: tuple[Value, ...]
    at_s: float
    wall_s: float


@dataclass(frozen=True, slots=True)
class Trouble:
    """Why a block's last attempt brought nothing. `is_refusal` when the device itself said no."""

    reason: str
    since_s: float
    is_refusal: bool


@dataclass(frozen=True, slots=True)
class Reading:
    """One point as it stands: value, quality and why, words as they came, age in seconds (None before the first)."""

    value: Value | None
    quality: Quality
    reason: str
    data: bytes
    age_s: float | None
    wall_s: float | None


class Board:
    """See the head of this file."""

    def __init__(self, plan: Plan) -> None:
        self.records: list[Record | None] = [None] * len(plan.blocks)
        self.troubles: list[Trouble | None] = [None] * len(plan.blocks)
        self.cycles_s: list[float] = [block.period_s for block in plan.blocks]  # the period as reached
        self.traces: list[deque[Record]] = [deque(maxlen=TRACE_LENGTH) for _ in plan.blocks]
        self._traced_at = [-TRACE_EVERY_S] * len(plan.blocks)
        self.derived: dict[str, Reading] = {}  # by name
        self._exponents: dict[tuple[str, str], Place] = {}
        self.note_places(plan)

    def note_places(self, plan: Plan) -> None:
        """Where the points that are powers of ten for others stand by now."""
        wanted = [place for place in plan.places if place.point.exponent]
        by_name = {(place.device.name, place.point.name): place for place in plan.places} if wanted else {}
        found = {(place.device.name, place.point.name): by_name.get((place.device.name, place.point.exponent)) for place in wanted}
        self._exponents = {key: place for key, place in found.items() if place is not None}

    def exponent_of(self, device_name: str, point: Point) -> int | None:
        """The power of ten that another point holds for this one: 0 where it needs none, None while it is not known."""
        if not point.exponent:
            return 0
        place = self._exponents.get((device_name, point.name))
        record = self.records[place.block.index] if place is not None and place.block is not None else None
        value = record.values[place.number] if record is not None and place is not None else None
        return int(value) if isinstance(value, int | float) and -30 <= value <= 30 and value == int(value) else None

    def extend(self, blocks: Sequence[Block], length: int) -> None:
        """Room for blocks of a plan that grew; `length` is how many records there are to be."""
        more = length - len(self.records)
        self.troubles += [None] * more
        self.cycles_s += [0.0] * more
        self.traces += [deque(maxlen=TRACE_LENGTH) for _ in range(more)]
        self._traced_at += [-TRACE_EVERY_S] * more
        self.records += [None] * more
        for block in blocks:
            self.cycles_s[block.index] = block.period_s

    def carry_over(self, plan: Plan, old_plan: Plan, old: "Board") -> None:
        """Take from another board what blocks that read the same have there."""
        before = {block.key: block.index for block in old_plan.blocks}
        for block in plan.blocks:
            index = before.get(block.key)
            if index is not None:
                self.records[block.index], self.troubles[block.index] = old.records[index], old.troubles[index]
                self.traces[block.index], self.cycles_s[block.index] = old.traces[index], old.cycles_s[index]

    def put(self, index: int, record: Record) -> None:
        """A block was read."""
        before = self.records[index]
        if before is not None:
            self.cycles_s[index] = record.at_s - before.at_s
        self.records[index] = record
        self.troubles[index] = None
        if record.at_s - self._traced_at[index] >= TRACE_EVERY_S:
            self._traced_at[index] = record.at_s
            self.traces[index].append(record)

    def fail(self, index: int, trouble: Trouble) -> None:
        """A block could not be read; its last record stays and grows old."""
        before = self.troubles[index]
        since = before.since_s if before is not None else trouble.since_s
        self.troubles[index] = Trouble(trouble.reason, since, trouble.is_refusal)

    def reading(self, place: Place, now_s: float) -> Reading:
        """A point as it stands at loop time `now_s`."""
        block = place.block
        if block is None:
            if place.why_not == FORMULA and place.point.name in self.derived:
                return self.derived[place.point.name]
            if place.is_refused:
                return Reading(None, Quality.BAD, place.why_not, b"", None, None)
            return Reading(None, Quality.NEVER, f"not polled: {place.why_not}" if place.why_not else "not polled", b"", None, None)
        record, trouble = self.records[block.index], self.troubles[block.index]
        if record is None:
            return Reading(None, Quality.NEVER, trouble.reason if trouble else "not asked yet", b"", None, None)
        value = record.values[place.number]
        age = max(now_s - record.at_s, 0.0)
        data = _data_of(record.data, place)
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
                return Reading(None, Quality.BAD, f"its exponent, {place.point.exponent}, is not known", data, age, record.wall_s)
            value = times_ten_to(value, power)
        return Reading(value, quality, reason, data, age, record.wall_s)

    def stale_after_s(self, place: Place) -> float:
        """The longest of three periods, three cycles as reached, and the timeout; points on demand never grow stale."""
        block = place.block
        if block is None or block.period_s == DEMAND:
            return float("inf")
        return max(3 * block.period_s, 3 * self.cycles_s[block.index], place.device.timeout_s)


def times_ten_to(value: int | float, power: int) -> int | float:
    """Rounded once: 184 220 600 × 10⁻³ is 184 220.6."""
    factor: int = 10 ** abs(power)
    return value * factor if power >= 0 else value / factor


def _data_of(data: bytes, place: Place) -> bytes:
    """The point's own registers as they came; for a bit one byte, 0 or 1."""
    block = place.block
    if block is None:
        return b""
    offset = block.offsets[place.number]
    if place.point.table.is_bits:
        return bytes((data[offset // 8] >> offset % 8 & 1,))
    return data[2 * offset : 2 * (offset + place.point.size)]
