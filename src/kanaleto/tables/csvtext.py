"""Tables of others, as text cells: CSV in whatever encoding and delimiter, text from the clipboard."""

import csv
from collections.abc import Mapping, Sequence
from io import StringIO

from msgspec import Struct

from kanaleto.files.harmless import unguarded
from kanaleto.files.mapfile import csv_words

MOST_ROWS, MOST_COLUMNS, MOST_CELL = 20_000, 200, 2000


class CannotImport(ValueError):
    """One sentence: why nothing of the table can be read."""


_ONE_BYTE = ("cp1252", "cp1250", "cp1251", "mac_roman")
_MOST_LOOKED_AT = 65536


class Sheet(Struct, frozen=True):
    """A table as text cells: its rows, each with the number it has in its file."""

    title: str
    rows: tuple[tuple[int, tuple[str, ...]], ...]


def sheet_of_rows(title: str, rows: Sequence[Mapping[str, str]]) -> Sheet:
    """Rows of a map as a sheet under its own headings."""
    headings = list(dict.fromkeys(key for row in rows for key in row))
    cells = [tuple(row.get(key, "") for key in headings) for row in rows]
    return Sheet(title, tuple(enumerate([tuple(headings), *cells], 1)))


def decode(data: bytes) -> str:
    """Text in UTF-8 or UTF-16 by its mark, in UTF-8 if it is that, else in an encoding of one byte."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return _guessed(data)


def _guessed(data: bytes) -> str:
    """Text in the likeliest of the encodings of one byte; western where nothing speaks for another."""
    from charset_normalizer import from_bytes  # only such tables pay for it

    best = from_bytes(data[:_MOST_LOOKED_AT], cp_isolation=list(_ONE_BYTE)).best()
    encoding = best.encoding if best is not None else _ONE_BYTE[0]
    return data.decode(encoding if encoding in _ONE_BYTE else _ONE_BYTE[0], "replace")


def read_text_table(text: str, title: str = "clipboard") -> Sheet:
    """A table of text whose delimiter is known from its lines. Raises CannotImport."""
    lines = [line for line in text[:_MOST_LOOKED_AT].splitlines() if line.strip()]
    if not lines:
        raise CannotImport(f"{title} is empty")
    delimiter = max(
        "\t;,|",
        key=lambda mark: (
            sum(line.count(mark) > 0 for line in lines[:200]),
            sum(line.count(mark) for line in lines[:200]),
        ),
    )
    rows: list[tuple[int, tuple[str, ...]]] = []
    reader = csv.reader(StringIO(text, newline=""), delimiter=delimiter)
    before = 0
    try:
        for cells in reader:
            if len(cells) > MOST_COLUMNS:
                raise CannotImport(f"{title}, line {reader.line_num}: has {len(cells)} columns, {MOST_COLUMNS} at most")
            if any(cell.strip() for cell in cells):
                rows.append((before + 1, tuple(unguarded(cell.strip())[:MOST_CELL] for cell in cells)))
            before = reader.line_num
            if len(rows) > MOST_ROWS:
                raise CannotImport(f"{title} has more than {MOST_ROWS} rows")
    except csv.Error as error:
        raise CannotImport(f"{title}, line {reader.line_num}: {csv_words(error)}") from None
    if not rows:
        raise CannotImport(f"{title} is empty")
    return Sheet(title, tuple(rows))
