"""What rows the pad of a device has."""

from msgspec import Struct

from kanaleto.control.alive import AliveState
from kanaleto.control.order import Result
from kanaleto.control.routine import Routine
from kanaleto.control.routinerun import RunState
from kanaleto.planning.plan import Place


class Bit(Struct, frozen=True):
    """One bit of a word of bits."""

    place: Place
    number: int
    is_on: bool | None
    is_switch: bool


class Head(Struct, frozen=True):
    left: str
    right: str = ""
    left_word: str = ""
    right_word: str = ""


class PadPair(Struct, frozen=True):
    """A switch, and beside it a lamp."""

    switch: Bit | None
    lamp: Bit | None
    sent: str = ""


class Setting(Struct, frozen=True):
    """A point that is set, and the one that shows what it does."""

    place: Place
    feedback: Place | None


class AliveRow(Struct, frozen=True):
    state: AliveState


class RoutineRow(Struct, frozen=True):
    """A routine, and how it runs or ran last; how long the step that runs has taken so far (None: none runs yet)."""

    routine: Routine
    run: RunState | None
    passed_s: float | None = None


class PadWritten(Struct, frozen=True):
    result: Result


class Note(Struct, frozen=True):
    text: str
    tone: str = "dim"


PadRow = Head | PadPair | Setting | AliveRow | RoutineRow | PadWritten | Note
