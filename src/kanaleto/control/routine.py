"""A routine as a value: steps that write, wait, hold, check, ask, keep alive and ramp, with variables."""

import re
from collections.abc import Iterable
from enum import Enum
from pathlib import Path

from msgspec import Struct

from kanaleto.planning.plan import Identity
from kanaleto.site.expression import FUNCTIONS

LONGEST_S = 86400.0
DEFAULT_WITHIN_S = 10.0
_WORD = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,39}")
_TAKEN = frozenset((*FUNCTIONS, "and", "or", "not", "if", "else", "True", "False", "None"))
OF_ROUTINE = "$"
"""What stands before a variable's name where an expression names it in brackets."""


class StepKind(Enum):
    """The value is the key of the step in the file."""

    WRITE = "write"
    WAIT = "wait"
    HOLD = "hold_s"
    CHECK = "check"
    ASK = "ask"
    KEEP = "keep"
    RELEASE = "release"
    RAMP = "ramp"
    PROVE = "prove"


class ValueSpec(Struct, frozen=True):
    """What is to be written: labels of bits, a raw number, a number or text, or an expression of variables."""

    labels: tuple[str, ...] | None = None
    raw: int | None = None
    text: str = ""
    expression: str = ""

    def __str__(self) -> str:
        if self.labels is not None:
            return " and ".join(self.labels) or "no bit"
        return f"0x{self.raw:04X}" if self.raw is not None else self.expression or self.text


class Ramp(Struct, frozen=True):
    """From one value to another, in steps."""

    start: ValueSpec
    to: ValueSpec
    by: ValueSpec
    every_s: float


class RoutineStep(Struct, frozen=True, kw_only=True):
    """One of them; `line` is where it stands in its file. `targets` are points with what is written there."""

    number: int
    line: int
    kind: StepKind
    text: str
    targets: tuple[tuple[Identity, ValueSpec], ...] = ()
    condition: str = ""
    within_s: float = DEFAULT_WITHIN_S
    every_s: float = 0.0
    safe: ValueSpec | None = None
    ramp: Ramp | None = None
    tolerance: str = ""
    level: str = ""


class ProveWanted(Struct, frozen=True):
    """A point that a routine proves: what it should show, how far off it may be, and at which level, as one would type
    them."""

    device: str
    point: str
    expected: str
    tolerance: str
    level: str


class Routine(Struct, frozen=True, kw_only=True):
    """`upon` is the condition upon which it begins by itself, at most every `at_most_every_s`."""

    name: str
    path: Path
    device: str
    steps: tuple[RoutineStep, ...]
    variables: tuple[tuple[str, float], ...] = ()
    on_failure: str = ""
    upon: str = ""
    at_most_every_s: float = 60.0
    note: str = ""


def is_variable(name: str) -> bool:
    """Whether something may be called so."""
    return bool(_VARIABLE.fullmatch(name)) and name not in _TAKEN and not re.fullmatch(r"v[0-9]+|[mk]", name)


def with_variables(text: str, names: Iterable[str]) -> str:
    """The expression with its variables in brackets, as points are; what stands in brackets or quotes is left."""
    known, out, at = set(names), [], 0
    while at < len(text):
        character = text[at]
        if character in "['\"":
            end = text.find({"[": "]"}.get(character, character), at + 1)
            end = len(text) if end < 0 else end + 1
            out.append(text[at:end])
            at = end
        elif (word := _WORD.match(text, at)) is not None:
            out.append(f"[{OF_ROUTINE}{word[0]}]" if word[0] in known else word[0])
            at = word.end()
        else:
            out.append(character)
            at += 1
    return "".join(out)
