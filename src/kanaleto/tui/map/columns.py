"""The rows of an import: its columns with what they are to be, every cause of doubt, and what comes of it; and the list
of fields to pick from."""

from collections.abc import Callable, Sequence

from msgspec import Struct
from textual.binding import Binding

from kanaleto.tables.importing import Imported, grouped
from kanaleto.tables.matching import FIELDS, Matched
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows

_MOST_CAUSES, _MOST_SHOWN = 60, 8
_FIELDS = {
    "name": "what the point is called",
    "address": "where it stands",
    "table": "coil, discrete, input or holding",
    "type": "how its words are read",
    "order": "order of bytes and words",
    "factor": "value = raw × factor + offset",
    "offset": "value = raw × factor + offset",
    "unit": "unit of measure",
    "decimals": "decimals shown",
    "access": "read, written, or both",
    "range_low": "lower end of its range",
    "range_high": "upper end of its range",
    "labels": "names of numbers or bits",
    "bit": "one bit of the word, or a field",
    "initial": "what a simulated device starts with",
    "note": "text",
}


class ColumnRow(Struct, frozen=True):
    """A column of the table; `clash` names another that is to be the same."""

    column: int
    heading: str
    field: str
    samples: tuple[str, ...]
    clash: str = ""


class TextRow(Struct, frozen=True):
    text: str
    tone: str


ImportRow = ColumnRow | TextRow | None


class ImportRows(Rows[ImportRow]):
    """`on_field` receives by how many fields to step, 0 for none, None for the list to pick from."""

    BINDINGS = [
        Binding("left,h", "field(-1)", show=False),
        Binding("right,l", "field(1)", show=False),
        Binding("x", "field(0)", show=False),
        Binding("f", "pick", show=False),
    ]
    DEFAULT_CSS = "ImportRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    def __init__(self, on_field: Callable[[ColumnRow, int | None], None]) -> None:
        super().__init__()
        self._on_field = on_field

    def may_rest(self, row: ImportRow) -> bool:
        return isinstance(row, ColumnRow)

    def draw(self, row: ImportRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put("  ")
        if isinstance(row, TextRow):
            return cells.put(row.text, row.tone.removesuffix("!"), width - 2, bold=row.tone.endswith("!"))
        if isinstance(row, ColumnRow):
            heading = max(min(26, width // 3), 12)
            cells.put(row.heading, "ink", heading).put(" → " if row.field else "   ", "ochre")
            tone = "terracotta" if row.clash else "verdigris" if row.field else "dim"
            cells.put(row.field or "left out", tone, 12, bold=bool(row.field)).put("  ")
            if row.clash:
                cells.put(f"so is {row.clash}", "terracotta", max(width - cells.width - 1, 0))
            else:
                cells.put("  ·  ".join(row.samples), "muted", max(width - cells.width - 1, 0))
        return cells

    def action_field(self, step: int) -> None:
        if isinstance(self.current, ColumnRow):
            self._on_field(self.current, step)

    def action_pick(self) -> None:
        if isinstance(self.current, ColumnRow):
            self._on_field(self.current, None)


def rows_of(matched: Matched, imported: Imported) -> list[ImportRow]:
    """Everything there is to see of an import."""
    headings = matched.headings
    samples = matched.sheet.rows[matched.heading + 1 :][:4]
    clashes = matched.clashes()
    shown: list[ImportRow] = []
    for column, heading in enumerate(headings):
        field = matched.columns.get(column, "")
        other = next((headings[at] for at in clashes.get(field, ()) if at != column), "")
        cells = tuple(row[column][:18] for _, row in samples if column < len(row) and row[column])
        shown.append(ColumnRow(column, heading, field, cells, other))
    causes = grouped(imported.doubts)
    lost = sum(doubt.is_lost for doubt in imported.doubts)
    head = f"{len(causes)} doubt{'s' if len(causes) != 1 else ''}, {lost} rows left out" if causes else "no doubts"
    shown += [None, TextRow(head, "muted!")]
    shown += [TextRow(text, "terracotta" if is_lost else "ochre") for text, is_lost in causes[:_MOST_CAUSES]]
    shown += [None, TextRow("becomes", "muted!")]
    for row in imported.rows[:_MOST_SHOWN]:
        shown.append(TextRow("  ".join(f"{key}={value}" for key, value in row.items()), "ink"))
    return shown


class FieldList(Rows[str]):
    """The fields that a column may be, with which column is that already; enter takes it."""

    BINDINGS = [Binding("enter", "take", show=False), Binding("escape", "leave", show=False)]
    DEFAULT_CSS = """
    FieldList { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $panel; display: none; }
    """
    resting_ground = "panel"

    def __init__(self, on_taken: Callable[[str | None], None]) -> None:
        super().__init__()
        self._on_taken = on_taken
        self._has: dict[str, str] = {}

    def begin(self, matched: Matched, column: int) -> None:
        headings = matched.headings
        self._has = {name: headings[at] for at, name in matched.columns.items() if at != column}
        names: Sequence[str] = ("", *FIELDS)
        self.set_rows(names)
        self.place_cursor(names.index(matched.columns.get(column, "")))

    def draw(self, row: str, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put("  ")
        cells.put(row or "left out", "ink" if row else "dim", 14, bold=bool(row)).put("  ")
        has = self._has.get(row)
        if has:
            return cells.put(f"is {has} now", "ochre", max(width - cells.width - 1, 0))
        return cells.put(_FIELDS.get(row, "" if row else "nothing is taken of it"), "muted", max(width - 18, 0))

    def action_take(self) -> None:
        self._on_taken(self.current)

    def action_leave(self) -> None:
        self._on_taken(None)
