"""A map's text as the text of its rows. A row that is known by its text need not be taken apart again."""

import csv
from collections.abc import Iterator
from io import StringIO

_LONG = 100_000  # characters; a longer row is left to the standard's reader, which has a limit of its own


def raw_rows(text: str, delimiter: str) -> Iterator[tuple[int, str]]:
    """Each row with the number of its first line, line ends and all. Raises csv.Error."""
    lines = [line for line in StringIO(text, newline="")]  # noqa: C416 -- a call would keep other threads waiting
    if '"' not in text:
        yield from enumerate(lines, 1)
        return
    before = 0
    reader = csv.reader(lines, delimiter=delimiter)
    for _ in reader:
        after = reader.line_num
        yield before + 1, lines[before] if after == before + 1 else "".join(lines[before:after])
        before = after
    if before < len(lines):
        yield before + 1, "".join(lines[before:])


def cells_of_row(raw: str, delimiter: str) -> list[str]:
    """The cells of a row. Raises csv.Error."""
    if '"' not in raw and len(raw) < _LONG:
        return raw.rstrip("\r\n").split(delimiter)
    return next(csv.reader(StringIO(raw, newline=""), delimiter=delimiter), [])


def map_delimiter(text: str) -> tuple[str, str]:
    """What stands between the cells of a map, and its line of headings."""
    lines = (line.rstrip("\r\n") for line in StringIO(text, newline=""))
    first = next((line for line in lines if line.strip() and not line.lstrip().startswith("#")), "")
    return max(",;\t", key=first.count), first
