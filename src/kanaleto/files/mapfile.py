"""The map file: one row a point, comma, semicolon or tab between cells, headings in any order, UTF-8."""

import csv
from pathlib import Path

from msgspec import Struct, field

from kanaleto.files.alike import Alike
from kanaleto.files.mapcolumns import COLUMNS
from kanaleto.files.mapfaults import MapDefaults, MapRows, between_rows
from kanaleto.files.maplines import MapLines, cells_of_row, map_delimiter, rows_of
from kanaleto.files.maprow import RowReader
from kanaleto.site.filefaults import Fault, suggestion
from kanaleto.site.model import Point

NEEDED = ["name", "table", "address"]
MOST_ROWS, MOST_COLUMNS = 100_000, 500


class KnownRows(Struct):
    """The points of a map that was read last without a fault, by the characters of their rows, and its headings. A row
    that is still the same keeps its very point, so that only what differs is planned again."""

    head: tuple[str, ...] = ()
    points: dict[str, Point] = field(default_factory=dict)


def read_map(
    path: Path, text: str, defaults: MapDefaults, known: KnownRows | None = None
) -> tuple[tuple[Point, ...], list[Fault]]:
    """The points of a map's text, and every fault and warning with its line. Rows with a fault give no point. Rows that
    are `known` are not read again; they are those of this text afterwards, if its rows are sound."""
    if text.count("\n") > 2 * MOST_ROWS:
        return (), [Fault(path, 2 * MOST_ROWS, f"has more rows than a map may: {MOST_ROWS} points at most")]
    delimiter, _ = map_delimiter(text)
    rows = rows_of(text, delimiter)
    torn = [_no_table(path, (rows.lines[-1] if rows.lines else 0) + 1, rows.error)] if rows.error is not None else []
    try:
        top, header = _header(rows, delimiter)
    except csv.Error as error:
        return (), [_no_table(path, 1, error)]
    if not header:
        return (), [*torn, Fault(path, 1, "is empty; its first row must hold the headings name, table, address")]
    if len(header) > MOST_COLUMNS:
        return (), [Fault(path, rows.lines[top], f"has {len(header)} columns; a map has {MOST_COLUMNS} at most")]
    faults = _header_faults(path, rows.lines[top], header)
    if any(not fault.is_warning for fault in faults):
        return (), faults
    head = (delimiter, *header)
    before = known.points if known is not None and known.head == head else {}
    wrong: list[Fault] = []
    points, lines, now = _read_rows(_MapReading(path, header, delimiter, wrong, defaults), top + 1, rows, before)
    if known is not None and not wrong and not torn:
        known.head, known.points = head, now
    return points, [*faults, *wrong, *torn, *between_rows(MapRows(path, points, lines), defaults)]


def _no_table(path: Path, line: int, error: csv.Error) -> Fault:
    return Fault(path, line, f"is no table here: {csv_words(error)}")


def _header(rows: MapLines, delimiter: str) -> tuple[int, list[str]]:
    """Which row has the headings, and these; remarks may stand above. Raises csv.Error."""
    for at, raw in enumerate(rows.rows):
        cells = cells_of_row(raw, delimiter)
        if not _is_blank(cells) and not cells[0].lstrip().startswith("#"):
            return at, [cell.strip().lower() for cell in cells]
    return 0, []


def _read_rows(
    reading: "_MapReading", begin: int, rows: MapLines, before: dict[str, Point]
) -> tuple[tuple[Point, ...], list[int], dict[str, Point]]:
    """The points of the rows from `begin` on, the line of each, and the points by the characters of their rows."""
    points, lines, now = list[Point](), list[int](), dict[str, Point]()
    for raw, line in zip(rows.rows[begin:], rows.lines[begin:], strict=True):
        if len(points) + len(reading.faults) >= MOST_ROWS:
            text = f"has more than {MOST_ROWS} rows with points or faults"
            reading.faults.append(Fault(reading.path, line, text))
            break
        point = before.get(raw) or reading.point(line, raw)
        if point is not None:
            points.append(point)
            lines.append(line)
            now[raw] = point
    return tuple(points), lines, now


class _MapReading:
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
            message = f"has {len(cells)} cells, the headings are {len(header)}"
            self._reader.refuse(line, said, f"{message}; put quotes round a cell that holds {delimiter!r}")
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
