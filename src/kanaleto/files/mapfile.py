"""The map file: one row a point, comma, semicolon or tab between cells, headings in any order, UTF-8."""

import csv
from array import array
from bisect import bisect_left
from pathlib import Path

from msgspec import Struct, field

from kanaleto.files.alike import Alike
from kanaleto.files.mapfaults import MapDefaults, MapRows, between_rows, stand_alike
from kanaleto.files.maplines import MapLines, cells_of_row, map_delimiter, rows_in_common, rows_of
from kanaleto.files.maprow import WRITING_COLUMNS, RowReader
from kanaleto.files.mapscale import SCALE_COLUMNS
from kanaleto.site.faults import Fault, suggestion
from kanaleto.site.model import LIMIT_MANNERS, LIMIT_STATES, LIMITS, Point

COLUMNS = [
    "name", "table", "address", "type", "order", *SCALE_COLUMNS, "scale", "exponent", "states", "no_value", "unit",
    "decimals", "period_s", "access", *WRITING_COLUMNS, "labels", "bit", *LIMITS,
    *LIMIT_MANNERS, *LIMIT_STATES, "group", "deadband", "initial", "setting", "sure", "note",
]  # fmt: skip
NEEDED = ["name", "table", "address"]
MOST_ROWS, MOST_COLUMNS = 100_000, 500


class KnownRows(Struct):
    """A map as it was read last without a fault in its rows: the headings and in which row they stand, the rows, the
    points and in which row each stands, and the faults between them."""

    head: tuple[str, ...] = ()
    top: int = 0
    rows: MapLines | None = None
    points: tuple[Point, ...] = ()
    where: "array[int]" = field(default_factory=lambda: array("L"))
    between: tuple[MapRows, list[Fault]] | None = None


def read_map(
    path: Path, text: str, defaults: MapDefaults, known: KnownRows | None = None
) -> tuple[tuple[Point, ...], list[Fault]]:
    """The points of a map's text, and every fault and warning with its line. Rows with a fault give no point. Rows that
    are `known` are not read again; they are those of this text afterwards, if its rows are sound."""
    if text.count("\n") > 2 * MOST_ROWS:
        return (), [Fault(path, 2 * MOST_ROWS, f"has more rows than a map may: {MOST_ROWS} points at most")]
    delimiter, _ = map_delimiter(text)
    rows = rows_of(text, delimiter, known.rows if known is not None else None)
    torn = [_no_table(path, rows.line(len(rows) - 1) + 1 if rows else 1, rows.error)] if rows.error is not None else []
    try:
        top, header = _header(rows, delimiter)
    except csv.Error as error:
        return (), [_no_table(path, 1, error)]
    if not header:
        return (), [*torn, Fault(path, 1, "is empty; its first row must hold the headings name, table, address")]
    if len(header) > MOST_COLUMNS:
        return (), [Fault(path, rows.line(top), f"has {len(header)} columns; a map has {MOST_COLUMNS} at most")]
    faults = _header_faults(path, rows.line(top), header)
    if any(not fault.is_warning for fault in faults):
        return (), faults
    head = (delimiter, *header)
    before = known if known is not None and known.head == head and len(rows) <= MOST_ROWS else KnownRows(head)
    wrong: list[Fault] = []
    points, where = _read_rows(_Reading(path, header, delimiter, wrong, defaults), top, rows, before)
    found = MapRows(path, points, array("L", [rows.line(row) for row in where]))
    between = _between(found, defaults, before)
    if known is not None and not wrong and not torn:
        known.head, known.top, known.rows = head, top, rows
        known.points, known.where, known.between = points, where, (found, between)
    return points, [*faults, *wrong, *torn, *between]


def _between(rows: MapRows, defaults: MapDefaults, before: KnownRows) -> list[Fault]:
    if before.between is not None:
        old, found = before.between
        if old.lines == rows.lines and stand_alike(rows.points, old.points):
            return found
    return between_rows(rows, defaults)


def _no_table(path: Path, line: int, error: csv.Error) -> Fault:
    return Fault(path, line, f"is no table here: {csv_words(error)}")


def _header(rows: MapLines, delimiter: str) -> tuple[int, list[str]]:
    """Which row has the headings, and these; remarks may stand above. Raises csv.Error."""
    for at, raw in enumerate(rows):
        cells = cells_of_row(raw, delimiter)
        if not _is_blank(cells) and not cells[0].lstrip().startswith("#"):
            return at, [cell.strip().lower() for cell in cells]
    return 0, []


def _read_rows(
    reading: "_Reading", top: int, rows: MapLines, before: KnownRows
) -> tuple[tuple[Point, ...], "array[int]"]:
    """What the rows give, and in which of them each point stands. Those that the text has in common with the one
    `before`, at its beginning and its end, are what they were."""
    was = before.rows if before.rows is not None else MapLines()
    first, last = rows_in_common(was, rows)
    last = min(last, len(rows) - top - 1, max(len(was) - before.top - 1, 0))  # the headings are no row
    begin, behind = max(first, top + 1), len(rows) - last
    low = bisect_left(before.where, first) if first > top else 0
    high = bisect_left(before.where, len(was) - last)
    known = {was[before.where[at]]: before.points[at] for at in range(low, high)}
    where, points = before.where[:low], list[Point]()
    for row in range(begin, behind):
        if low + len(points) + len(reading.faults) >= MOST_ROWS:
            told = f"has more than {MOST_ROWS} rows with points or faults"
            reading.faults.append(Fault(reading.path, rows.line(row), told))
            return (*before.points[:low], *points), where
        raw = rows[row]
        point = known.get(raw) or reading.point(rows.line(row), raw)
        if point is not None:
            points.append(point)
            where.append(row)
    moved = len(rows) - len(was)
    rest = before.where[high:]
    where += array("L", [row + moved for row in rest]) if moved else rest
    return (*before.points[:low], *points, *before.points[high:]), where


class _Reading:
    """Reads rows of a map one by one. `faults` grows by what is wrong with them."""

    def __init__(
        self, path: Path, header: list[str], delimiter: str, faults: list[Fault], defaults: MapDefaults
    ) -> None:
        self.path, self.faults = path, faults
        self._header, self._delimiter = header, delimiter
        self._alike = Alike(header, delimiter, defaults.numbering)
        self._reader = RowReader(path, delimiter, faults, defaults)

    def point(self, line: int, raw: str) -> Point | None:
        """None where the row is empty, or has a fault."""
        try:
            point = self._alike.read(raw)
            if point is not None:
                return point
            cells = cells_of_row(raw, self._delimiter)
        except csv.Error as error:
            self.faults.append(_no_table(self.path, line, error))
            return None
        if _is_blank(cells):
            return None
        point = self._whole(line, cells)
        if point is not None:
            self._alike.note(raw, point)
        return point

    def _whole(self, line: int, cells: list[str]) -> Point | None:
        """Cell by cell."""
        header, delimiter = self._header, self._delimiter
        said = {name: text for name, cell in zip(header, cells, strict=False) if (text := cell.strip())}
        if len(cells) > len(header):
            told = f"has {len(cells)} cells, the headings are {len(header)}"
            self._reader.refuse(line, said, f"{told}; put quotes round a cell that holds {delimiter!r}")
            return None
        return self._reader.read(line, said)


def _is_blank(cells: list[str]) -> bool:
    return not cells or (not cells[0].strip() and not any(cell.strip() for cell in cells))


def csv_words(error: csv.Error) -> str:
    """In words for people."""
    text = str(error)
    return "a cell has over 130 000 characters; is a quote not closed?" if "field limit" in text else text


def _header_faults(path: Path, line: int, header: list[str]) -> list[Fault]:
    missing = [name for name in NEEDED if name not in header]
    found = []
    if missing:
        hint = "".join(suggestion(name, header) for name in missing[:1])
        found.append(
            Fault(
                path, line, f"lacks the column {', '.join(missing)}{hint}; the headings needed are name, table, address"
            )
        )
    found += [Fault(path, line, f"has the column {name!r} twice") for name in COLUMNS if header.count(name) > 1]
    for name in header:
        close = suggestion(name, COLUMNS) if name and name not in COLUMNS else ""
        if close and not missing:
            found.append(Fault(path, line, f"column {name!r} is not known and left alone{close}", is_warning=True))
    return found
