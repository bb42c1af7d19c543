"""Limits of a point as rules, and what is past one."""

from enum import IntEnum
from functools import lru_cache
from typing import NamedTuple

from msgspec import Struct

from kanaleto.planning.plan import Identity
from kanaleto.site.model import Limits, Point
from kanaleto.values.types import Kind


class Level(IntEnum):
    """How bad; the worse is the greater."""

    RANGE = 1
    WARN = 2
    ALARM = 3


class Rule(Struct, frozen=True):
    """One limit of a point: a number that is not to be reached from below (`is_high`) or from above, or states."""

    name: str
    level: Level
    bound: float = 0.0
    is_high: bool = True
    states: tuple[int, ...] = ()

    @property
    def word(self) -> str:
        return self.level.name.lower()

    def words(self, point: Point) -> str:
        """As people read it: `above 70 Nm`, `is Fault`."""
        if self.states:
            labels = [point.labels.get(state, str(state)) for state in self.states]
            return f"{'has' if is_word_of_bits(point) else 'is'} {' or '.join(labels)}"
        return f"{'above' if self.is_high else 'below'} {self.bound:g}{f' {point.unit}' if point.unit else ''}"

    def is_past(self, value: float, was_past: bool, hysteresis: float, point: Point) -> bool:
        if self.states:
            if is_word_of_bits(point):
                return any(int(value) >> bit & 1 for bit in self.states)
            return value in self.states
        if self.level is Level.RANGE and value == self.bound and not was_past:
            return False  # the end of the range belongs to it
        back = hysteresis if was_past else 0.0
        if back:
            return value >= self.bound - back if self.is_high else value <= self.bound + back
        return value >= self.bound if self.is_high else value <= self.bound


@lru_cache(maxsize=4096)
def rules_of(limits: Limits) -> tuple[Rule, ...]:
    """Those that can be passed, the worst first."""
    found = []
    for level, low, high, states, name in (
        (Level.ALARM, limits.alarm_low, limits.alarm_high, limits.alarm_on, "alarm"),
        (Level.WARN, limits.warn_low, limits.warn_high, limits.warn_on, "warn"),
        (Level.RANGE, limits.range_low, limits.range_high, (), "range"),
    ):
        found += [Rule(f"{name}_low", level, low, False)] if low is not None else []
        found += [Rule(f"{name}_high", level, high)] if high is not None else []
        found += [Rule(f"{name}_on", level, states=states)] if states else []
    return tuple(found)


def level_of(limits: Limits, value: object, point: Point) -> Level | None:
    """The worst limit that a single value is past, without hysteresis and delay."""
    if not isinstance(value, int | float) or not limits.can_be_passed:
        return None
    return next((rule.level for rule in rules_of(limits) if rule.is_past(value, False, 0.0, point)), None)


class Acknowledged(NamedTuple):
    """Who has seen it, when, and what was said of it."""

    who: str
    note: str
    wall_s: float


class Crossing(Struct, frozen=True):
    """A limit that is past, until `ended_wall_s` where it is over; `text` says with which value it was passed."""

    line: str
    identity: Identity
    rule: Rule
    text: str
    wall_s: float
    seen: Acknowledged | None = None
    ended_wall_s: float | None = None


def is_word_of_bits(point: Point) -> bool:
    """Whether its values are words whose bits mean something each."""
    return point.codec.type.kind is Kind.BITS and point.codec.bits is None
