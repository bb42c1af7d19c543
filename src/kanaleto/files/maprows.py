"""Editing the rows of a map's text: only the rows that change are written again, every other one keeps its characters.

A row is addressed by the name of its point, never by its place: a text that somebody else edited meanwhile has its rows
elsewhere.
"""

import csv
import re
import shlex
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from io import StringIO

from kanaleto.files.maplines import cells_of_row, map_delimiter, rows_of
from kanaleto.values.digits import whole
from kanaleto.values.types import parse_type

NEW_MAP = "name,table,address,type,order\n"
_MOST_MAPS = 8  # that are remembered as their rows


class MapText:
    """A map's text as its rows; it never changes. `names` are those of its points in order; of rows with one name the
    first counts. Raises csv.Error where it cannot be taken apart to its end."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.delimiter, _ = map_delimiter(text)
        self.headings: list[str] = []
        found = rows_of(text, self.delimiter)
        if found.error is not None:
            raise found.error
        self._rows = found.rows
        self._by_name: dict[str, int] = {}
        name_at = -1
        for at, raw in enumerate(self._rows):
            if self.headings:
                name = self._cell(raw, name_at)
                if name:
                    self._by_name.setdefault(name, at)
            else:
                cells = cells_of_row(raw, self.delimiter)
                if any(cell.strip() for cell in cells) and not raw.lstrip().startswith("#"):
                    self.headings = [cell.strip().lower() for cell in cells]
                    name_at = self.headings.index("name") if "name" in self.headings else -1

    def _cell(self, raw: str, at: int) -> str:
        if at < 0:
            return ""
        cells = raw.split(self.delimiter, at + 1) if '"' not in raw else cells_of_row(raw, self.delimiter)
        return cells[at].strip() if at < len(cells) else ""

    @property
    def names(self) -> Collection[str]:
        return self._by_name.keys()

    def cells_of(self, name: str) -> dict[str, str]:
        """The cells of a point's row that are not empty, by heading. Raises KeyError."""
        cells = cells_of_row(self._rows[self._by_name[name]], self.delimiter)
        return {key: cell.strip() for key, cell in zip(self.headings, cells, strict=False) if cell.strip()}

    def changed(self, changes: Mapping[str, Mapping[str, str]]) -> str:
        """With other cells in some rows, by name, under the headings that there are."""
        rows = self._rows.copy()
        for name, changed in changes.items():
            at = self._by_name[name]
            cells = cells_of_row(rows[at], self.delimiter)
            cells += [""] * (len(self.headings) - len(cells))
            for key, value in changed.items():
                if key in self.headings:
                    cells[self.headings.index(key)] = value
            row = StringIO(newline="")
            csv.writer(row, delimiter=self.delimiter, lineterminator="\n").writerow(cells)
            rows[at] = row.getvalue()
        return "".join(rows)

    def without(self, names: Collection[str]) -> str:
        gone = {self._by_name[name] for name in names}
        return "".join(raw for at, raw in enumerate(self._rows) if at not in gone)


@lru_cache(maxsize=_MOST_MAPS)
def map_text(text: str) -> MapText:
    """The rows of the few texts that were looked at last are remembered. Raises csv.Error."""
    return MapText(text)


def with_headings(map_text: str, wanted: Iterable[str]) -> tuple[str, list[str]]:
    """The map with the headings that it lacks added behind its own; and all of them, in lower case."""
    delimiter, first = map_delimiter(map_text)
    known = [cell.strip().lower() for cell in next(csv.reader([first], delimiter=delimiter), [])]
    missing = [key for key in dict.fromkeys(wanted) if key not in known]
    if missing:
        map_text = map_text.replace(first, first.rstrip("\r\n") + "".join(delimiter + key for key in missing), 1)
    return map_text, known + missing


def with_rows(map_text: str, rows: Sequence[dict[str, str]]) -> str:
    """Rows more in a map, under its own headings and with its own delimiter; a heading that is missing is added."""
    map_text, known = with_headings(map_text, (key for row in rows for key, value in row.items() if value))
    out = StringIO(newline="")
    writer = csv.writer(out, delimiter=map_delimiter(map_text)[0], lineterminator="\n")
    for row in rows:
        writer.writerow([row.get(key, "") for key in known])
    return (map_text if not map_text or map_text.endswith("\n") else map_text + "\n") + out.getvalue()


def with_changes(text: str, changes: Mapping[str, Mapping[str, str]]) -> str:
    """Other cells in some rows, by the name of their point; headings that are missing are added, other rows stay as
    they are. Raises KeyError for a name that no row bears."""
    text, _ = with_headings(text, (key for cells in changes.values() for key, value in cells.items() if value))
    return MapText(text).changed(changes)


def split_assignments(text: str) -> Iterator[tuple[str, str, str]]:
    """Each word of `type=float32 name="Pool level"`, its key in small letters (empty where it has no `=`), its value.
    Raises ValueError."""
    try:
        words = shlex.split(text)
    except ValueError:
        raise ValueError(f"{text!r}: a quote is not closed") from None
    for word in words:
        key, equals, value = word.partition("=")
        yield word, key.lower() if equals else "", value


def parse_assignments(text: str) -> dict[str, str]:
    """Cells from `type=float32 order=CDAB name="Pool level"`. Raises ValueError."""
    cells: dict[str, str] = {}
    for word, key, value in split_assignments(text):
        if not re.fullmatch(r"[a-z_]+", key):
            raise ValueError(
                f'{word!r} must read like type=float32; put quotes round what has blanks, as in name="Pool level"'
            )
        cells[key] = value
    if not cells:
        raise ValueError("nothing to change; write cells such as type=float32 order=CDAB unit=m")
    return cells


def assignments(cells: Mapping[str, str]) -> str:
    """The other way about."""
    return " ".join(f"{key}={shlex.quote(value)}" for key, value in cells.items())


def parse_new(text: str) -> list[dict[str, str]]:
    """Rows from `Level, 40001, float32` or a run: `Cell voltage {1..24}, 40201, float32, step 2`, with further cells as
    `unit=V`; a table's name anywhere says which, and no row has one where none is said. Raises ValueError with what
    would be right."""
    parts = [part.strip() for part in text.split(",")]
    if len(parts) < 2 or not parts[0] or not parts[1]:
        raise ValueError(
            "write name, address and type, as in 'Level, 40001, float32' or 'Cell {1..24}, 40201, float32, step 2'"
        )
    name, address, *rest = parts
    cells: dict[str, str] = {}
    step = 0
    for part in rest:
        word = part.lower()
        if word in ("coil", "discrete", "input", "holding"):
            cells["table"] = word
        elif match := re.fullmatch(r"step\s+(\d+)", word):
            step = int(match[1])
        elif "=" in part:
            cells |= parse_assignments(part)
        elif re.fullmatch(r"[abcd]{4}|ab|ba", word):
            cells["order"] = word.upper()
        elif part:
            cells["type"] = part
    if cells.get("table") in ("coil", "discrete"):
        cells.pop("type", None)
    return list(_numbered(name, address, cells, step))


def in_table(rows: Iterable[dict[str, str]], table: str) -> list[dict[str, str]]:
    """Rows that name no table, in this one."""
    is_bits = table in ("coil", "discrete")
    return [
        {**{key: cell for key, cell in row.items() if not (is_bits and key == "type")}, "table": table} for row in rows
    ]


def _numbered(name: str, address: str, cells: dict[str, str], step: int) -> Iterator[dict[str, str]]:
    run = re.search(r"\{(\d+)\.\.(\d+)\}", name)
    if run is None:
        yield {"name": name, "address": address, **cells}
        return
    first, last = int(run[1]), int(run[2])
    if not 0 < last - first + 1 <= 10000:
        raise ValueError(f"the run {run[0]} has {last - first + 1} points; write it like {{1..24}}")
    each = step or (parse_type(cells["type"]).registers if "type" in cells else 1)
    try:
        base = whole(address)
    except ValueError:
        base = -1
    if base < 0:
        raise ValueError(f"address {address!r} is no number that a run can count on from")
    width = len(address) if address.isdecimal() else 0
    for number in range(first, last + 1):
        at = base + (number - first) * each
        yield {"name": name[: run.start()] + str(number) + name[run.end() :], "address": f"{at:0{width}d}", **cells}
