"""The map file: one row a point, comma, semicolon or tab between cells, headings in any order, UTF-8."""

import csv
from array import array
from collections.abc import Sequence
from itertools import compress
from pathlib import Path

from msgspec import Struct

from kanaleto.files.alike import Alike
from kanaleto.files.mapfaults import MapDefaults, MapRows, between_rows, stand_alike
from kanaleto.files.maplines import cells_of_row, map_delimiter, raw_rows
from kanaleto.files.maprow import WRITING_COLUMNS, RowReader
from kanaleto.files.mapscale import SCALE_COLUMNS
from kanaleto.site.ends import in_common
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
    """A map as it was read last without a fault in its rows: the headings, the text of each row, the point that each
    gives, and the faults between them."""

    head: tuple[str, ...] = ()
    raws: Sequence[str] = ()
    points: Sequence[Point | None] = ()
    between: tuple[MapRows, list[Fault]] | None = None


def read_map(
    path: Path, text: str, defaults: MapDefaults, known: KnownRows | None = None
) -> tuple[tuple[Point, ...], list[Fault]]:
    """The points of a map's text, and every fault and warning with its line. Rows with a fault give no point. Rows that
    are `known` are not read again; they are those of this text afterwards, if its rows are sound."""
    if text.count("\n") > 2 * MOST_ROWS:
        return (), [Fault(path, 2 * MOST_ROWS, f"has more rows than a map may: {MOST_ROWS} points at most")]
    delimiter, _ = map_delimiter(text)
    lines, raws = array("L"), list[str]()
    torn: list[Fault] = []
    try:
        for line, raw in raw_rows(text, delimiter):
            lines.append(line)
            raws.append(raw)
    except csv.Error as error:
        torn.append(_no_table(path, (lines[-1] if lines else 0) + 1, error))
    try:
        top, header = _header(raws, delimiter)
    except csv.Error as error:
        return (), [_no_table(path, 1, error)]
    if not header:
        return (), [*torn, Fault(path, 1, "is empty; its first row must hold the headings name, table, address")]
    if len(header) > MOST_COLUMNS:
        return (), [Fault(path, lines[top], f"has {len(header)} columns; a map has {MOST_COLUMNS} at most")]
    faults = _header_faults(path, lines[top], header)
    if any(not fault.is_warning for fault in faults):
        return (), faults
    head = (delimiter, *header)
    before = known if known is not None and known.head == head else KnownRows(head)
    wrong: list[Fault] = []
    read = _read_rows(_Reading(path, header, delimiter, wrong, defaults), top, lines, raws, before)
    points = tuple([point for point in read if point is not None])
    rows = MapRows(path, points, array("L", compress(lines, [point is not None for point in read])))
    between = _between(rows, defaults, before)
    if known is not None and not wrong and not torn:
        known.head, known.raws, known.points = head, tuple(raws), tuple(read)
        known.between = rows, between
    return points, [*faults, *wrong, *torn, *between]


def _between(rows: MapRows, defaults: MapDefaults, before: KnownRows) -> list[Fault]:
    if before.between is not None:
        old, found = before.between
        if old.lines == rows.lines and stand_alike(rows.points, old.points):
            return found
    return between_rows(rows, defaults)


def _no_table(path: Path, line: int, error: csv.Error) -> Fault:
    return Fault(path, line, f"is no table here: {csv_words(error)}")


def _header(raws: Sequence[str], delimiter: str) -> tuple[int, list[str]]:
    """Which row has the headings, and these; remarks may stand above. Raises csv.Error."""
    for at, raw in enumerate(raws):
        cells = cells_of_row(raw, delimiter)
        if not _is_blank(cells) and not cells[0].lstrip().startswith("#"):
            return at, [cell.strip().lower() for cell in cells]
    return 0, []


def _read_rows(
    reading: "_Reading", top: int, lines: Sequence[int], raws: Sequence[str], before: KnownRows
) -> list[Point | None]:
    """What each row gives. Those that the text has in common with the one `before`, at its beginning and its end, are
    what they were."""
    first, last = in_common(before.raws, raws)
    last = min(last, len(raws) - top - 1)  # the headings are no row
    there, here = len(before.raws) - last, len(raws) - last
    known = {
        raw: point
        for raw, point in zip(before.raws[first:there], before.points[first:there], strict=True)
        if point is not None
    }
    points: list[Point | None] = list(before.points[:first]) if first > top else [None] * (top + 1)
    count = len(points)
    for at in range(len(points), here):
        if count + len(reading.faults) > MOST_ROWS:
            reading.faults.append(
                Fault(reading.path, lines[at], f"has more than {MOST_ROWS} rows with points or faults")
            )
            return points
        point = known.get(raws[at]) or reading.point(lines[at], raws[at])
        count += point is not None
        points.append(point)
    return [*points, *before.points[there:]]


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
