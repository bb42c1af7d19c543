"""A map's text as its rows. A row that is known by its text need not be taken apart again, and of a text that is known
only what differs is looked at."""

import csv
from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from io import StringIO

from msgspec import Struct

from kanaleto.files.harmless import unguarded
from kanaleto.site.ends import text_in_common

_LONG = 100_000  # characters; a longer row is left to the standard's reader, which has a limit of its own


class MapLines(Struct, frozen=True):
    """Rows of a text, line ends and all: where each ends in it, and the number of each one's first line (None where
    each is a line). In arrays, not as texts of their own: twenty thousand of those are made again for each edit, and
    walked through by the collector. `error` is why the rest of the text gives none."""

    text: str = ""
    ends: "array[int]" = array("L")
    lines: "array[int] | None" = None
    error: csv.Error | None = None

    def __len__(self) -> int:
        return len(self.ends)

    def __getitem__(self, row: int) -> str:
        return self.text[self.start(row) : self.ends[row]]

    def __iter__(self) -> Iterator[str]:
        start, text = 0, self.text
        for end in self.ends:
            yield text[start:end]
            start = end

    def start(self, row: int) -> int:
        """Where it begins; for the one behind the last, where that ends."""
        return self.ends[row - 1] if row else 0

    def line(self, row: int) -> int:
        return self.lines[row] if self.lines is not None else row + 1


def rows_of(text: str, delimiter: str, before: MapLines | None = None) -> MapLines:
    """The rows of a text; `before` are those of one that may be much like it, with the same delimiter."""
    if '"' in text:
        return _quoted(text, delimiter)
    if before is None or '"' in before.text:
        return MapLines(text, _line_ends(text, 0))
    first, last = _alike_by_text(before, text)
    begin, behind = before.start(first), len(before) - last
    moved = len(text) - len(before.text)
    middle = _line_ends(text[begin : before.start(behind) + moved], begin)
    rest = before.ends[behind:]
    return MapLines(text, before.ends[:first] + middle + (array("L", [end + moved for end in rest]) if moved else rest))


def rows_in_common(before: MapLines, rows: MapLines) -> tuple[int, int]:
    """How many rows are alike at the beginning of two texts with the same delimiter, and how many of the rest at the
    end."""
    first, last = _alike_by_text(before, rows.text)
    moved = len(rows.text) - len(before.text)
    for row in range(len(before) - last, len(before)):
        start = before.start(row) + moved
        at = bisect_left(rows.ends, start)
        if at < len(rows) and rows.ends[at] == start:  # a quote before it may have swallowed where it began
            return first, len(before) - row
    return first, 0


def _alike_by_text(before: MapLines, text: str) -> tuple[int, int]:
    """As many rows as are the same up to the character behind them, and from the one in front of them on: what ends a
    row, and whether it does, is the same then. Those at the end may still lie inside a quote."""
    first, last = text_in_common(before.text, text)
    ahead = bisect_left(before.ends, first)
    behind = min(bisect_right(before.ends, len(before.text) - last) + 1, len(before))
    return ahead, len(before) - behind


def _line_ends(text: str, begin: int) -> "array[int]":
    """Where the lines of a text end, that begins at `begin` of the whole."""
    ends, end = array("L"), begin
    for line in StringIO(text, newline=""):
        end += len(line)
        ends.append(end)
    return ends


def _quoted(text: str, delimiter: str) -> MapLines:
    """Rows may be several lines."""
    behind = _line_ends(text, 0)  # each line
    ends, firsts, before = array("L"), array("L"), 0
    reader = csv.reader(StringIO(text, newline=""), delimiter=delimiter)
    try:
        for _ in reader:
            firsts.append(before + 1)
            before = reader.line_num
            ends.append(behind[before - 1])
    except csv.Error as error:
        return MapLines(text, ends, firsts, error)
    if before < len(behind):
        firsts.append(before + 1)
        ends.append(len(text))
    return MapLines(text, ends, firsts)


def cells_of_row(raw: str, delimiter: str) -> list[str]:
    """The cells of a row. Raises csv.Error."""
    if '"' not in raw and len(raw) < _LONG:
        cells = raw.rstrip("\r\n").split(delimiter)
    else:
        cells = next(csv.reader(StringIO(raw, newline=""), delimiter=delimiter), [])
    return [unguarded(cell) for cell in cells] if "'" in raw else cells


def map_delimiter(text: str) -> tuple[str, str]:
    """What stands between the cells of a map, and its line of headings."""
    lines = (line.rstrip("\r\n") for line in StringIO(text, newline=""))
    first = next((line for line in lines if line.strip() and not line.lstrip().startswith("#")), "")
    return max(",;\t", key=first.count), first
