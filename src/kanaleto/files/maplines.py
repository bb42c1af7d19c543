"""A map's text as its rows, with every character of theirs."""

import csv
from collections.abc import Sequence
from io import StringIO

from msgspec import Struct

from kanaleto.files.harmless import unguarded

_LONG = 100_000  # characters; a longer row is left to the standard's reader, which has a limit of its own


class MapLines(Struct, frozen=True):
    """Rows of a text, line ends and all, and the number of each one's first line. `error` is why the rest of the text
    gives none."""

    rows: list[str]
    lines: Sequence[int]
    error: csv.Error | None = None


def rows_of(text: str, delimiter: str) -> MapLines:
    """The rows of a text; where it has quotes, rows may be several lines."""
    texts = list(StringIO(text, newline=""))
    if '"' not in text:
        return MapLines(texts, range(1, len(texts) + 1))
    rows, lines, before = list[str](), list[int](), 0
    reader = csv.reader(texts, delimiter=delimiter)
    try:
        for _ in reader:
            rows.append("".join(texts[before : reader.line_num]))
            lines.append(before + 1)
            before = reader.line_num
    except csv.Error as error:
        return MapLines(rows, lines, error)
    if before < len(texts):
        rows.append("".join(texts[before:]))
        lines.append(before + 1)
    return MapLines(rows, lines)


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
