"""Faults in files and arguments: each with its place and what would be right, all reported at once."""

import re
from collections.abc import Sequence
from difflib import get_close_matches
from pathlib import Path

from msgspec import Struct

_MOST_TEXT = 600
_LONG = re.compile(r"('[^']{60})[^']{20,}(')")


class Fault(Struct, frozen=True):
    """One sentence about one place. A warning does not keep the file from being used."""

    file: Path
    line: int
    text: str
    is_warning: bool = False

    def __str__(self) -> str:
        place = f"{self.file}:{self.line}" if self.line else f"{self.file}"
        text = _LONG.sub(r"\1…\2", self.text)
        text = text if len(text) <= _MOST_TEXT else f"{text[: _MOST_TEXT - 1]}…"
        return f"{place}: {'warning: ' if self.is_warning else ''}{text}"


class FaultyFile(Exception):
    """A file that cannot be used, with every fault found in it and in the files it names, and what was to be warned of
    beside."""

    def __init__(self, faults: list[Fault], warnings: Sequence[Fault] = ()) -> None:
        super().__init__("\n".join(str(fault) for fault in faults))
        self.faults = faults
        self.warnings = tuple(warnings)


def suggestion(word: str, known: list[str]) -> str:
    """ " (did you mean …?)" when one of `known` is close, else nothing."""
    if len(word) > 60 or len(known) > 500:
        return ""
    close = get_close_matches(word, known, 1, 0.6)
    return f" (did you mean {close[0]!r}?)" if close else ""
