"""Which column of a table is which field of a map: guessed from the headings in several languages and from the cells,
corrected by hand."""

import re
import unicodedata
from collections.abc import Callable, Sequence

from msgspec import Struct, field

from kanaleto.files.mapcolumns import COLUMNS
from kanaleto.site.counting import Numbering
from kanaleto.tables.csvtext import Sheet
from kanaleto.tables.tablewords import HEADINGS, TYPES
from kanaleto.values.types import parse_type

_HEADING_ROWS = 40  # how far down the headings may stand
OWN_COLUMNS = tuple(column for column in COLUMNS if column not in HEADINGS)
FIELDS = (*HEADINGS, *OWN_COLUMNS)


class Matched(Struct):
    """Which column is which field, by column number; `heading` is the row of the headings, -1 where there are none."""

    sheet: Sheet
    heading: int
    columns: dict[int, str] = field(default_factory=dict)

    @property
    def headings(self) -> tuple[str, ...]:
        width = max((len(cells) for _, cells in self.sheet.rows), default=0)
        named = self.sheet.rows[self.heading][1] if self.heading >= 0 else ()
        return tuple((named[at] if at < len(named) else "") or f"column {at + 1}" for at in range(width))

    def assign(self, column: int, name: str) -> None:
        """Say that a column is that field, or none with "". No other column loses its own: two of one are a clash."""
        self.columns.pop(column, None)
        if name:
            self.columns[column] = name

    def clashes(self) -> dict[str, list[int]]:
        """Fields that more than one column is to be, with those columns."""
        of: dict[str, list[int]] = {}
        for column, name in sorted(self.columns.items()):
            of.setdefault(name, []).append(column)
        return {name: columns for name, columns in of.items() if len(columns) > 1}


def match_columns(sheet: Sheet, remembered: dict[str, str] | None = None) -> Matched:
    """Guess the headings' row and which column is which, from the headings in several languages and from the cells.
    `remembered` are fields by heading, as corrected by hand before."""
    best: tuple[float, int, dict[int, str]] = (0.0, -1, {})
    for at, (_, cells) in enumerate(sheet.rows[:_HEADING_ROWS]):
        columns = _by_headings(cells, remembered or {})
        score = (
            len(columns) + (1.5 if "address" in columns.values() else 0) + (1.0 if "name" in columns.values() else 0)
        )
        if len(columns) >= 2 and score > best[0]:
            best = (score, at, columns)
    matched = Matched(sheet, best[1], best[2])
    _by_cells(matched)
    return matched


def plain_word(text: str) -> str:
    """Folded to small letters and digits, as headings are compared."""
    folded = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9/]+", " ", folded).strip()


def _by_headings(cells: Sequence[str], remembered: dict[str, str]) -> dict[int, str]:
    ranked: list[tuple[float, int, str]] = []
    for at, cell in enumerate(cells):
        plain = plain_word(cell)
        if not plain or len(plain) > 40:
            continue
        if cell.strip().lower() in COLUMNS:
            ranked.append((9.0, at, cell.strip().lower()))
            continue
        if plain in remembered:
            ranked.append((10.0, at, remembered[plain]))
            continue
        for name, words in HEADINGS.items():
            for place, word in enumerate(words):
                if plain == word:
                    ranked.append((5.0 - 0.05 * place, at, name))
                elif len(word) > 2 and word in plain and re.search(rf"\b{re.escape(word)}\b", plain):
                    ranked.append((2.0 + len(word) / 40 - 0.05 * place, at, name))
    columns: dict[int, str] = {}
    for _, at, name in sorted(ranked, reverse=True):
        if at not in columns and name not in columns.values():
            columns[at] = name
    return {at: name for at, name in columns.items() if name}


def _by_cells(matched: Matched) -> None:
    """Where the headings left name or address open, the cells tell."""
    sample = [cells for _, cells in matched.sheet.rows[matched.heading + 1 :][:200]]
    width = max((len(cells) for cells in sample), default=0)

    def share(at: int, test: Callable[[str], object]) -> float:
        cells = [cells[at] for cells in sample if at < len(cells) and cells[at]]
        return sum(bool(test(cell)) for cell in cells) / len(cells) if len(cells) > len(sample) / 2 else 0.0

    free = [at for at in range(width) if at not in matched.columns]
    for name, test in (("address", _looks_like_address), ("type", type_of), ("name", _looks_like_name)):
        if name in matched.columns.values():
            continue
        best = max(free, key=lambda at: share(at, test), default=None)
        if best is not None and share(best, test) > 0.6:
            matched.columns[best] = name
            free.remove(best)


def _looks_like_address(text: str) -> bool:
    return bool(re.fullmatch(r"(0x[0-9a-f]{1,4}|[0-9a-f]{1,4}h|\d{1,6}|[0134]x\d{1,5})", text.strip().lower()))


def _looks_like_name(text: str) -> bool:
    return bool(re.search(r"[A-Za-z]{3}", text)) and not type_of(text)


def type_of(text: str) -> str:
    """Our word for a type as others write it, or nothing."""
    plain = plain_word(text)
    for word in (plain.replace(" ", ""), plain):
        try:
            return str(parse_type(word))
        except ValueError:
            pass
    if plain in TYPES:
        return TYPES[plain]
    squeezed = plain.replace(" ", "")
    if squeezed in TYPES:
        return TYPES[squeezed]
    match = re.search(r"\b(string|char|ascii|text)\D*(\d+)?", plain)
    if match is not None:
        return f"text:{match[2] or 16}"
    is_signed = not plain.startswith("u") and "unsigned" not in plain
    match = re.search(r"(float|real|int|signed)\D*(16|32|64)", squeezed)
    if match is not None:
        kind = "float" if match[1] in ("float", "real") else "int" if is_signed else "uint"
        return f"{kind}{match[2]}"
    return ""


def guess_numbering(matched: Matched) -> Numbering:
    """How the table counts: references where most addresses look like one, else from 0 where a 0 stands in it, else
    from 1."""
    column = next((at for at, name in matched.columns.items() if name == "address"), None)
    texts = [
        cells[column]
        for _, cells in matched.sheet.rows[matched.heading + 1 :]
        if column is not None and column < len(cells) and cells[column]
    ]
    references = sum(bool(re.fullmatch(r"[0134]\d{4,5}|[134]x\d{1,5}", text.strip().lower())) for text in texts)
    if references:  # 0x… alone is hexadecimal; beside 4x… it is a coil
        references += sum(bool(re.fullmatch(r"0x\d{1,5}", text.strip().lower())) for text in texts)
    if texts and references > len(texts) / 2:
        return Numbering.REFERENCE
    has_zero = any(text.strip().lower() in ("0", "0x0", "0x0000", "0000h", "00h") for text in texts)
    has_hexadecimal = any(text.strip().lower().startswith("0x") for text in texts)
    return Numbering.PROTOCOL if has_zero or has_hexadecimal or not texts else Numbering.ONE
