"""How a unit stands: whether it answered, and how."""

from enum import Enum

from msgspec import Struct

from kanaleto.lines.identify import Identification


class UnitState(Enum):
    """The value is the word used in JSON."""

    UNASKED = "unasked"
    SILENT = "silent"
    NOBODY = "nobody"  # a gateway says so
    GOOD = "good"
    EXCEPTION = "exception"
    GARBLED = "garbled"
    SHARED = "shared"  # two devices answer at once

    @property
    def is_somebody(self) -> bool:
        return self in (UnitState.GOOD, UnitState.EXCEPTION, UnitState.GARBLED, UnitState.SHARED)


class UnitFound(Struct, frozen=True):
    """A unit that answered: how, after how many seconds, with which bytes last, in words, and what it says of
    itself."""

    unit_id: int
    state: UnitState
    took_s: float
    answer: bytes
    text: str
    identity: Identification | None = None


class SurveyStopped(Exception):
    """Why it cannot go on, in one sentence."""


class LineLost(SurveyStopped):
    """The line was."""
