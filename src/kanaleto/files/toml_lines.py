"""Where each key of a TOML text stands, so that a fault can name its line.

It reads only what it must: headers, keys, and strings of several lines. A key it does not see (inside an inline table)
is placed at the nearest thing around it.
"""

import re
import tomllib
from collections.abc import Callable
from typing import Any

Path = tuple[str | int, ...]

_MOST_PARTS = 64
_HEADER = re.compile(r"^\s*(\[\[?)\s*([^\[\]]+?)\s*\]\]?\s*(#.*)?$")
_KEY = re.compile(r"^\s*([A-Za-z0-9_-]+|\"[^\"]+\"|'[^']+')\s*=(.*)$")


class KeyLines:
    """Line numbers, counted from 1, by path: ("line", 0, "device", 2, "unit_id")."""

    def __init__(self, text: str) -> None:
        self._lines: dict[Path, int] = {(): 1}
        self._counts: dict[Path, int] = {}
        here: Path = ()
        open_string = ""
        for number, line in enumerate(text.splitlines(), 1):
            if open_string:
                if open_string in line:
                    open_string = ""
                continue
            if header := _HEADER.match(line):
                here = self._enter(header[2], is_array=header[1] == "[[")
                self._lines.setdefault(here, number)
            elif key := _KEY.match(line):
                self._lines.setdefault((*here, key[1].strip("\"'")), number)
                open_string = _opened(key[2])

    def _enter(self, dotted: str, is_array: bool) -> Path:
        names = [name.strip().strip("\"'") for name in dotted.split(".")]
        path: Path = ()
        for depth, name in enumerate(names):
            path = (*path, name)
            if depth == len(names) - 1 and is_array:
                self._counts[path] = self._counts.get(path, -1) + 1
            if path in self._counts:
                path = (*path, self._counts[path])
        return path

    def line(self, path: Path) -> int:
        """The line of `path`, or of the nearest thing around it."""
        while path not in self._lines:
            path = path[:-1]
        return self._lines[path]


def _opened(value: str) -> str:
    for quotes in ('"""', "'''"):
        if value.count(quotes) == 1:
            return quotes
    return ""


class TooDeep(RecursionError):
    """A key has more parts than any of ours."""


def loads_bounded(text: str) -> dict[str, Any]:
    """The tables of a text in TOML, in bounded time and memory: a dotted key costs the square of its parts. Raises
    TooDeep, RecursionError, and ValueError as `tomllib` does."""
    for line in text.splitlines():
        if line.count(".") > _MOST_PARTS and _parts(line) > _MOST_PARTS:
            raise TooDeep
    return tomllib.loads(text)


def _parts(line: str) -> int:
    """Parts of the longest dotted key in a line."""
    plain = re.sub(r"\"[^\"]*\"|'[^']*'", "q", line)
    words = re.sub(r"\s*\.\s*", ".", plain)
    return max((len(re.findall(r"[\w-]\.(?=[\w-])", word)) for word in re.split(r"[\s=,{}\[\]]+", words)), default=0)


def deepest_line(text: str) -> int:
    """The line with most opening brackets, for what is nested too deeply."""
    return _worst(text, lambda line: line.count("[") + line.count("{") + line.count("."))


def longest_number(text: str) -> int:
    """The line with the longest run of digits."""
    return _worst(text, lambda line: max((len(found) for found in re.findall(r"[0-9_]+", line)), default=0))


def _worst(text: str, of: Callable[[str], int]) -> int:
    return max(enumerate(text.splitlines(), 1), key=lambda numbered: of(numbered[1]), default=(1, ""))[0]
