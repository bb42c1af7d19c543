"""Editing the rows of a map's text: only the rows that change are written anew, every other one keeps its characters.

Rows are named by the line on which they begin, as points know it (`Point.row`).
"""

import csv
import re
import shlex
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from io import StringIO

from kanaleto.site.edit import map_delimiter, with_headings
from kanaleto.values.types import parse_type


@dataclass(frozen=True, slots=True)
class _Record:
    line: int
    raw: str
    cells: list[str]


def _records(text: str) -> tuple[str, list[_Record]]:
    """The delimiter, and every record with the line on which it begins."""
    delimiter, _ = map_delimiter(text)
    lines = text.splitlines(keepends=True)
    reader = csv.reader(StringIO(text, newline=""), delimiter=delimiter)
    records, before = [], 0
    for cells in reader:
        records.append(_Record(before + 1, "".join(lines[before : reader.line_num]), cells))
        before = reader.line_num
    return delimiter, records


def _is_said(record: _Record) -> bool:
    return any(cell.strip() for cell in record.cells) and not record.raw.lstrip().startswith("#")


def headings(text: str) -> list[str]:
    """The headings of a map, in lower case."""
    head = next((record for record in _records(text)[1] if _is_said(record)), None)
    return [cell.strip().lower() for cell in head.cells] if head is not None else []


def cells_of(text: str, line: int) -> dict[str, str]:
    """The cells of one row that are not empty, by heading. Raises KeyError."""
    known = headings(text)
    for record in _records(text)[1]:
        if record.line == line:
            return {key: cell.strip() for key, cell in zip(known, record.cells, strict=False) if cell.strip()}
    raise KeyError(line)


def with_changes(text: str, changes: Mapping[int, Mapping[str, str]]) -> str:
    """Other cells in some rows, by line; headings that are missing are added, other rows stay as they are."""
    text, known = with_headings(text, (key for cells in changes.values() for key, value in cells.items() if value))
    delimiter, records = _records(text)
    out: list[str] = []
    for record in records:
        if record.line not in changes:
            out.append(record.raw)
            continue
        cells = record.cells + [""] * (len(known) - len(record.cells))
        for key, value in changes[record.line].items():
            if key in known:
                cells[known.index(key)] = value
        row = StringIO(newline="")
        csv.writer(row, delimiter=delimiter, lineterminator="\n").writerow(cells)
        out.append(row.getvalue())
    return "".join(out)


def without_rows(text: str, lines: Collection[int]) -> str:
    """The text without the rows that begin on those lines."""
    return "".join(record.raw for record in _records(text)[1] if record.line not in lines)


def parse_assignments(text: str) -> dict[str, str]:
    """Cells from `type=float32 order=CDAB name="Pool level"`. Raises ValueError."""
    try:
        words = shlex.split(text)
    except ValueError:
        raise ValueError(f"{text!r}: a quote is not closed") from None
    cells: dict[str, str] = {}
    for word in words:
        key, equals, value = word.partition("=")
        if not equals or not re.fullmatch(r"[a-z_]+", key.lower()):
            raise ValueError(f'{word!r} must read like type=float32; put quotes round what has blanks, as in name="Pool level"')
        cells[key.lower()] = value
    if not cells:
        raise ValueError("nothing to change; write cells such as type=float32 order=CDAB unit=m")
    return cells


def assignments(cells: Mapping[str, str]) -> str:
    """The other way about."""
    return " ".join(f"{key}={shlex.quote(value)}" for key, value in cells.items())


def parse_new(text: str) -> list[dict[str, str]]:
    """Rows from `Level, 40001, float32` or a run: `Cell voltage {1..24}, 40201, float32, step 2`, with further cells as `unit=V`; a table's
    name anywhere says which. Raises ValueError with what would be right."""
    parts = [part.strip() for part in text.split(",")]
    if len(parts) < 2 or not parts[0] or not parts[1]:
        raise ValueError("write name, address and type, as in 'Level, 40001, float32' or 'Cell {1..24}, 40201, float32, step 2'")
    name, address, *rest = parts
    cells: dict[str, str] = {"table": "holding"}
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
    if cells["table"] in ("coil", "discrete"):
        cells.pop("type", None)
    return list(_numbered(name, address, cells, step))


def _numbered(name: str, address: str, cells: dict[str, str], step: int) -> Iterator[dict[str, str]]:
    run = re.search(r"\{(\d+)\.\.(\d+)\}", name)
    if run is None:
        yield {"name": name, "address": address, **cells}
        return
    first, last = int(run[1]), int(run[2])
    if not 0 < last - first + 1 <= 10000:
        raise ValueError(f"the run {run[0]} has {last - first + 1} points; write it like {{1..24}}")
    each = step or (parse_type(cells["type"]).registers if "type" in cells else 1)
    base = int(address, 16) if address.lower().startswith("0x") else int(address) if address.isdecimal() else -1
    if base < 0:
        raise ValueError(f"address {address!r} is no number that a run can count on from")
    width = len(address) if address.isdecimal() else 0
    for number in range(first, last + 1):
        at = base + (number - first) * each
        yield {"name": name[: run.start()] + str(number) + name[run.end() :], "address": f"{at:0{width}d}", **cells}
