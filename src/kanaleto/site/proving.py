"""What is to be proved of a point before a job is done: the map columns `prove` and `tolerance`."""

import re
from enum import Enum

from msgspec import Struct

from kanaleto.values.digits import number

_MOST_LEVELS = 20
_WORDS = ("once", "each", "write", "limits", "no")


class ToleranceOf(Enum):
    """What a tolerance is counted in: the point's unit, per cent of its span, or per cent of the expected value. The
    value is the word of the sheet."""

    UNIT = "unit"
    SPAN = "span"
    VALUE = "value"


class Tolerance(Struct, frozen=True):
    """How far what is seen may be from what was expected."""

    number: float
    of: ToleranceOf = ToleranceOf.UNIT

    def __str__(self) -> str:
        ends = {ToleranceOf.UNIT: "", ToleranceOf.SPAN: " % of span", ToleranceOf.VALUE: " % of value"}
        return f"{self.number:g}{ends[self.of]}"


class Proving(Struct, frozen=True):
    """`levels` are per cent of span. `once` is one value, `each` every state or bit each way, `write` a write with what
    came of it, `limits` each limit by crossing it; nothing of all where the map says no."""

    levels: tuple[float, ...] = ()
    once: bool = True
    each: bool = False
    write: bool = False
    limits: bool = False
    tolerance: Tolerance | None = None


PROVED_ONCE = Proving()


def parse_prove(text: str, tolerance: Tolerance | None = None) -> Proving:
    """`once`, `0 25 50 75 100`, `each; write`, `no`. Raises ValueError with what would be right."""
    levels: tuple[float, ...] = ()
    words: list[str] = []
    for part in filter(None, (part.strip().lower() for part in text.split(";"))):
        if part in _WORDS:
            words.append(part)
            continue
        levels = tuple(_level(word, text) for word in part.replace("%", " ").split())
        if len(levels) > _MOST_LEVELS or len(set(levels)) != len(levels):
            raise ValueError(f"prove {text!r}: at most {_MOST_LEVELS} levels, each once")
    if "no" in words and (len(words) > 1 or levels):
        raise ValueError(f"prove {text!r}: no stands alone")
    if not words and not levels:
        return Proving(tolerance=tolerance)
    return Proving(levels, "once" in words, "each" in words, "write" in words, "limits" in words, tolerance)


def _level(word: str, text: str) -> float:
    try:
        level = float(number(word))
    except ValueError:
        raise ValueError(
            f"prove {text!r}: {word!r} is none of {', '.join(_WORDS)} and no level in per cent of span, as 0 50 100"
        ) from None
    if not -100 <= level <= 200:
        raise ValueError(f"prove {text!r}: a level is per cent of span, -100 to 200")
    return level


def parse_tolerance(text: str) -> Tolerance:
    """`0.5 %` of span, `0.2` in the unit, `1 % of value`. Raises ValueError with what would be right."""
    match = re.fullmatch(r"\s*([0-9.,]+)\s*(%\s*(?:of\s+)?(span|value)?)?\s*", text.lower())
    try:
        if match is None:
            raise ValueError
        size = float(number(match[1].replace(",", ".")))
    except ValueError:
        raise ValueError(
            f"tolerance {text!r} must read like 0.5 % (of span), 0.2 (in the unit) or 1 % of value"
        ) from None
    of = ToleranceOf.UNIT if not match[2] else ToleranceOf(match[3] or "span")
    return Tolerance(size, of)


def prove_text(proving: Proving) -> str:
    """As the column has it."""
    words = [word for word in _WORDS[:4] if getattr(proving, word)]
    levels = [" ".join(f"{level:g}" for level in proving.levels)] if proving.levels else []
    return "; ".join([*levels, *words]) or "no"


def tolerance_text(proving: Proving) -> str:
    """As the column has it; empty where there is none."""
    tolerance = proving.tolerance
    if tolerance is None:
        return ""
    return (
        f"{tolerance.number:g}"
        + {ToleranceOf.UNIT: "", ToleranceOf.SPAN: " %", ToleranceOf.VALUE: " % of value"}[tolerance.of]
    )
