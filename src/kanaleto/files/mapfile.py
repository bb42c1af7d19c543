"""The map file: one row a point, comma, semicolon or tab between cells, headings in any order, UTF-8."""

import csv
from pathlib import Path

from msgspec import Struct, field

from kanaleto.files.alike import Alike, in_row
from kanaleto.files.mapfaults import MapDefaults, between_rows
from kanaleto.files.maplines import cells_of_row, raw_rows
from kanaleto.files.maprow import WRITING_COLUMNS, RowReader
from kanaleto.files.mapscale import SCALE_COLUMNS
from kanaleto.files.sitetext import map_delimiter
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
    """Rows that were sound when a map was read last, by their text, under the headings of then, and their points."""

    head: tuple[str, ...] = ()
    rows: dict[str, Point] = field(default_factory=dict)

    def rows_under(self, head: tuple[str, ...]) -> dict[str, Point]:
        return self.rows if head == self.head else {}


def read_map(
    path: Path, text: str, defaults: MapDefaults, known: KnownRows | None = None
) -> tuple[tuple[Point, ...], list[Fault]]:
    """The points of a map's text, and every fault and warning with its line. Rows with a fault give no point. A row
    that is `known` is not read again; they are those of this text afterwards."""
    if text.count("\n") > 2 * MOST_ROWS:
        return (), [Fault(path, 2 * MOST_ROWS, f"has more rows than a map may: {MOST_ROWS} points at most")]
    delimiter, _ = map_delimiter(text)
    faults: list[Fault] = []
    reader = RowReader(path, delimiter, faults, defaults)
    before: dict[str, Point] = {}
    rows: dict[str, Point] = {}
    header: list[str] | None = None
    alike = Alike(NEEDED, defaults.numbering)
    points: list[Point] = []
    line = 0
    try:
        for line, raw in raw_rows(text, delimiter):
            if len(points) + len(faults) > MOST_ROWS:
                faults.append(Fault(path, line, f"has more than {MOST_ROWS} rows with points or faults"))
                break
            point = before.get(raw)
            if point is None:
                cells = cells_of_row(raw, delimiter)
                point = alike.read(line, cells) if header is not None else None
            if point is None:
                if _is_blank(cells) or (header is None and cells[0].lstrip().startswith("#")):
                    continue
                if header is None:
                    header = [cell.strip().lower() for cell in cells]
                    if len(header) > MOST_COLUMNS:
                        return (), [Fault(path, line, f"has {len(header)} columns; a map has {MOST_COLUMNS} at most")]
                    faults += _header_faults(path, line, header)
                    if any(not fault.is_warning for fault in faults):
                        return (), faults
                    before = known.rows_under((delimiter, *header)) if known is not None else before
                    alike = Alike(header, defaults.numbering)
                    continue
                point = _read_row(reader, line, header, cells, delimiter)
                if point is not None:
                    alike.note(cells, point)
            elif point.row != line:
                point = in_row(point, line)
            if point is not None:
                rows[raw] = point
                points.append(point)
    except csv.Error as error:
        faults.append(Fault(path, line + 1, f"is no table here: {csv_words(error)}"))
    if header is None:
        faults.append(Fault(path, 1, "is empty; its first row must hold the headings name, table, address"))
    faults += between_rows(path, points, defaults)
    if known is not None:
        known.head, known.rows = (delimiter, *(header or ())), rows
    return tuple(points), faults


def _read_row(reader: RowReader, line: int, header: list[str], cells: list[str], delimiter: str) -> Point | None:
    said = {name: text for name, cell in zip(header, cells, strict=False) if (text := cell.strip())}
    if len(cells) > len(header):
        reader.refuse(
            line,
            said,
            f"has {len(cells)} cells, the headings are {len(header)}; put quotes round a cell that holds {delimiter!r}",
        )
        return None
    return reader.read(line, said)


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
