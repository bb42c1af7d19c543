"""Every value of some points since somebody began to watch them, as far as there is room: what a trend is drawn of.

The engine's loop appends; others read columns. Full pieces never change any more, and the last is copied when it is
read, so that nobody waits for anybody.
"""

import math
from array import array
from collections.abc import Iterable
from typing import NamedTuple

from kanaleto.board.board import Quality, Reading, Readings, Record
from kanaleto.board.listener import Sink
from kanaleto.board.trace import TRACE_EVERY_S
from kanaleto.board.world import World
from kanaleto.events.clock import Clock
from kanaleto.planning.plan import AnyPlace, Block, DerivedPlace, Identity

PIECE = 4096
MOST_PIECES = 64
"""A quarter of a million samples a point: three days at one a second, 5 MB."""
SET_BACK_S = 0.5
QUALITIES = (Quality.GOOD, Quality.STALE, Quality.BAD, Quality.NEVER)
_GOOD, _STALE, _BAD, _NEVER = range(4)
_NO_NUMBER = math.nan


class Columns(NamedTuple):
    """When (wall time, seconds), the number (NaN where there is none), its quality (the number in QUALITIES), and which
    meaning the words had (counted)."""

    at: "array[float]"
    value: "array[float]"
    quality: "array[int]"
    meaning: "array[int]"

    @classmethod
    def empty(cls) -> "Columns":
        return cls(array("d"), array("d"), array("b"), array("i"))

    def first(self, count: int) -> "Columns":
        """A copy of so many."""
        return Columns(self.at[:count], self.value[:count], self.quality[:count], self.meaning[:count])


class Remembered:
    """The samples of one point, in order of time. A value stands until the next sample; `until` is how far the last is
    known to stand."""

    def __init__(self) -> None:
        self._state: tuple[tuple[Columns, ...], Columns] = ((), Columns.empty())
        self.until = 0.0
        self.meaning = 0
        self._last: tuple[float, int] = (_NO_NUMBER, _NEVER)
        self._last_at = 0.0

    @property
    def pieces(self) -> tuple[Columns, ...]:
        """Full ones, and a copy of the last. Full ones are the same objects at each look."""
        full, last = self._state
        count = min(len(column) for column in last)
        return (*full, last.first(count)) if count else full

    def __len__(self) -> int:
        full, last = self._state
        return sum(len(piece.at) for piece in full) + len(last.at)

    def note(self, at: float, value: float, quality: int) -> None:
        if at < self._last_at:
            if self._last_at - at >= SET_BACK_S:
                self._forget_from(at)
            else:
                at = self._last_at
        full, last = self._state
        last.meaning.append(self.meaning)
        last.quality.append(quality)
        last.value.append(value)
        last.at.append(at)  # whoever reads takes as many of each as this has, or fewer
        self.until = at if at < self.until - SET_BACK_S else max(at, self.until)
        self._last, self._last_at = (value, quality), at
        if len(last.at) >= PIECE:
            self._state = ((*full, last)[-MOST_PIECES:], Columns.empty())

    def note_quality(self, at: float, quality: int) -> None:
        """Nothing new was read; what there is may have grown old."""
        value, before = self._last
        if quality != before:
            held = value if quality == _STALE else _NO_NUMBER
            self.note(at, held, quality)
        else:
            self.until = at

    def _forget_from(self, at: float) -> None:
        """What is later by a clock that was wrong is dropped: it stands in the record, under the time of then."""
        full, last = self._state
        kept: list[Columns] = []
        for piece in (*full, last):
            count = sum(1 for one in piece.at if one < at)
            if count:
                kept.append(piece.first(count))
        self._state = (tuple(kept), Columns.empty())


class Memory(Sink):
    """Remembers the points that are `watch`ed. Reading `of` is for any thread."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._of: dict[Identity, Remembered] = {}
        self._by_block: dict[int, list[tuple[Remembered, AnyPlace]]] = {}
        self._places: list[tuple[Remembered, AnyPlace]] = []
        self._meant: dict[Identity, object] = {}

    def of(self, identity: Identity) -> Remembered | None:
        return self._of.get(identity)

    def watch(self, identities: Iterable[Identity], world: World) -> None:
        """These, and no others; a new one begins with what was traced of it. For the engine's loop."""
        wanted = list(dict.fromkeys(identities))
        self._of = {identity: self._of.get(identity) or Remembered() for identity in wanted}
        self._meant = {identity: meant for identity, meant in self._meant.items() if identity in self._of}
        self.on_plan(world)

    def rename(self, renamed: dict[Identity, Identity]) -> None:
        """Points that are called otherwise, and are the same."""
        self._of = {renamed.get(identity, identity): remembered for identity, remembered in self._of.items()}
        self._meant = {renamed.get(identity, identity): meaning for identity, meaning in self._meant.items()}

    def on_plan(self, world: World) -> None:
        self._by_block, self._places = {}, []
        for identity, remembered in self._of.items():
            place = world.plan.place_of(identity)
            if place is None:
                remembered.note_quality(self._clock.now(), _NEVER)
                continue
            meant = _meaning_of(place)
            if identity not in self._meant:
                self._begin(remembered, place, world.board)
            elif self._meant[identity] != meant:
                remembered.meaning += 1
            self._meant[identity] = meant
            self._places.append((remembered, place))
            if not isinstance(place, DerivedPlace) and place.block is not None:
                self._by_block.setdefault(place.block.index, []).append((remembered, place))

    def _begin(self, remembered: Remembered, place: AnyPlace, board: Readings) -> None:
        """With the last minute."""
        if isinstance(place, DerivedPlace) or place.block is None or place.point.exponent:
            return
        longest_s = max(board.stale_after_s(place), 3 * TRACE_EVERY_S)
        for at_s, value in board.trace(place):
            at = self._clock.at(at_s)
            if remembered.until and at - remembered.until > longest_s:
                remembered.note(remembered.until + longest_s, _NO_NUMBER, _NEVER)
            remembered.note(at, *number_of(value))

    def on_record(self, block: Block, record: Record, board: Readings) -> None:
        for remembered, place in self._by_block.get(block.index, ()):
            if place.point.exponent:
                remembered.note(record.wall_s, *_of_reading(board.reading(place, record.at_s)))
            elif not isinstance(place, DerivedPlace):
                remembered.note(record.wall_s, *number_of(record.values[place.number]))

    def on_second(self, world: World, now_s: float, wall_s: float) -> None:
        for remembered, place in self._places:
            reading = world.board.reading(place, now_s)
            number, quality = _of_reading(reading)
            if isinstance(place, DerivedPlace) and quality in (_GOOD, _STALE):
                remembered.note(wall_s, number, quality)
            elif quality == _BAD and reading.quality is Quality.GOOD:
                remembered.until = max(remembered.until, wall_s)  # text and the like
            else:
                remembered.note_quality(wall_s, quality)


def _meaning_of(place: AnyPlace) -> object:
    point = place.point
    if isinstance(place, DerivedPlace):
        return place.derived.formula
    return point.table, point.address, point.codec, point.exponent


def _of_reading(reading: Reading) -> tuple[float, int]:
    if reading.quality in (Quality.GOOD, Quality.STALE):
        number, quality = number_of(reading.value)
        return number, QUALITIES.index(reading.quality) if quality == _GOOD else quality
    return _NO_NUMBER, QUALITIES.index(reading.quality)


def number_of(value: object) -> tuple[float, int]:
    """What can be drawn of a value, and its quality."""
    if isinstance(value, int | float):
        try:
            number = float(value)
        except OverflowError:
            return _NO_NUMBER, _BAD
        if math.isfinite(number):
            return number, _GOOD
    return _NO_NUMBER, _BAD
