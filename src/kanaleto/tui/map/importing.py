"""The step between a table and the map: how its columns are understood, what its rows become, and every doubt."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.strip import Strip

from kanaleto.editing.adding import NewPoint, add_device, device_of
from kanaleto.editing.news import Done
from kanaleto.editing.news import Opened as SiteOpened
from kanaleto.editing.pointedit import add_points
from kanaleto.site.counting import Counting, Numbering, to_wire
from kanaleto.site.link import Link
from kanaleto.site.model import Device
from kanaleto.tables.importing import Imported, import_rows
from kanaleto.tables.matching import FIELDS, Matched, guess_numbering, match_columns, plain_word
from kanaleto.tables.sheets import CannotImport, Sheet, read_sheets, read_text_table, sheet_of_rows
from kanaleto.tables.things import rows_of_thing
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.requests import LookAtDevice
from kanaleto.tui.shared.rows import Rows
from kanaleto.wire.codes import Table

_COUNTS = {
    Numbering.PROTOCOL: "addresses count from 0, as on the wire",
    Numbering.ONE: "addresses count from 1",
    Numbering.REFERENCE: "addresses are references such as 40001",
}
_MOST_DOUBTS = 500


@dataclass(frozen=True, slots=True)
class ColumnRow:
    column: int
    heading: str
    field: str
    samples: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class TextRow:
    text: str
    tone: str


ImportRow = ColumnRow | TextRow | None


def _counting(numbering: Counting) -> str:
    return (
        _COUNTS[numbering] if isinstance(numbering, Numbering) else "addresses count as the device's own numbering says"
    )


class ImportRows(Rows[ImportRow]):
    BINDINGS = [
        Binding("left,h", "field(-1)", show=False),
        Binding("right,l", "field(1)", show=False),
        Binding("x", "field(0)", show=False),
    ]
    DEFAULT_CSS = "ImportRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    def may_rest(self, row: ImportRow) -> bool:
        return isinstance(row, ColumnRow)

    def draw(self, row: ImportRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put("  ")
        if isinstance(row, TextRow):
            return cells.put(row.text, row.tone.removesuffix("!"), bold=row.tone.endswith("!"))
        if isinstance(row, ColumnRow):
            cells.put(row.heading, "ink", 26).put(" → " if row.field else "   ", "ochre")
            cells.put(row.field or "left out", "verdigris" if row.field else "dim", 14, bold=bool(row.field))
            cells.put("  ").put("  ·  ".join(row.samples), "muted")
        return cells

    def action_field(self, step: int) -> None:
        pane = self.parent
        assert isinstance(pane, ImportPane)
        row = self.current
        if isinstance(row, ColumnRow):
            pane.turn(row, step)


class ImportHead(Drawn):
    DEFAULT_CSS = "ImportHead { height: 3; }"

    def render_line(self, y: int) -> Strip:
        pane = self.parent
        assert isinstance(pane, ImportPane)
        cells = Cells(self.palette).put(" ")
        if y == 0 and pane.matched is not None:
            cells.put(f"Import {pane.matched.sheet.title}", bold=True)
            more = f" · sheet {pane.at + 1} of {len(pane.sheets)}" if len(pane.sheets) > 1 else ""
            cells.put(f"   {pane.said()}{more}", "muted")
        elif y == 1:
            cells.put(f"for {pane.target()} · {_counting(pane.numbering)}", "muted")
        return cells.strip(self.size.width)


class ImportPane(Drawn, Vertical):
    """Shown instead of the ruler while a table is looked at. Nothing is taken over before enter."""

    BINDINGS = [
        Binding("enter", "take", show=False),
        Binding("n", "count", show=False),
        Binding("s", "sheet", show=False),
    ]
    DEFAULT_CSS = "ImportPane { height: 1fr; display: none; }"

    def __init__(self, on_begun: Callable[[], None], on_ended: Callable[[], None]) -> None:
        super().__init__()
        self._on_begun, self._on_ended = on_begun, on_ended
        self.sheets: list[Sheet] = []
        self.at = 0
        self.matched: Matched | None = None
        self.numbering: Counting = Numbering.PROTOCOL
        self.imported = Imported((), ())
        self._link: Link | None = None
        self._unit_id = 1
        self._device: Device | None = None
        self._opened: SiteOpened | None = None

    def ask(self, link: Link, unit_id: int) -> None:
        """Ask for a file of a unit's registers."""
        names = self.context.holder.library()
        known = f", or one of the library: {', '.join(names[:4])}" if names else ""
        opened = self.context.door.opened

        def open_table(text: str) -> str | None:
            try:
                sheets, told = sheets_of(self.context.holder.map_path(text))
            except (CannotImport, ValueError) as error:
                return str(error)
            self.begin(sheets, link, unit_id, device_of(self.snapshot.site, link, unit_id), opened)
            if told:
                self.context.tell(told)
            return None

        self.context.ask(f"import a table for unit {unit_id} of {link.place}: file{known}", "", open_table)

    def compose(self) -> ComposeResult:
        yield ImportHead()
        yield ImportRows()

    def begin(
        self, sheets: list[Sheet], link: Link, unit_id: int, device: Device | None, opened: SiteOpened | None = None
    ) -> None:
        """Look at the sheet with most rows first."""
        self.sheets, self._link, self._unit_id, self._device = sheets, link, unit_id, device
        self._opened = opened or self.context.door.opened
        self.at = max(range(len(sheets)), key=lambda at: len(sheets[at].rows))
        self._match()
        self._on_begun()

    def take_pasted(self, text: str, link: Link, device: Device) -> None:
        """A table from the clipboard."""
        try:
            sheet = read_text_table(text)
        except CannotImport as error:
            self.context.tell(str(error))
        else:
            self.begin([sheet], link, device.unit_id, device)

    def _match(self) -> None:
        self.matched = match_columns(self.sheets[self.at], self.context.holder.headings())
        is_old = self._device is not None and self._device.points
        self.numbering = (
            self._device.numbering if is_old and self._device is not None else guess_numbering(self.matched)
        )
        self._understand()

    def _understand(self) -> None:
        assert self.matched is not None
        taken = [point.name for point in self._device.points] if self._device is not None else []
        self.imported = import_rows(self.matched, self.numbering, taken)
        rows = self.matched.sheet.rows[self.matched.heading + 1 :][:4]
        shown: list[ImportRow] = [
            ColumnRow(
                column, heading.replace("\n", " "), self.matched.columns.get(column, ""),
                tuple(cells[column][:18].replace("\n", " ") for _,
                    cells in rows if column < len(cells) and cells[column]),
            )
            for column, heading in enumerate(self.matched.headings)
        ]  # fmt: skip
        lost = sum(doubt.is_lost for doubt in self.imported.doubts)
        shown += [
            None,
            TextRow(
                f"{len(self.imported.doubts)} doubts, {lost} rows left out" if self.imported.doubts else "no doubts",
                "muted!",
            ),
        ]
        shown += [
            TextRow(f"row {doubt.row}: {doubt.text}", "terracotta" if doubt.is_lost else "ochre")
            for doubt in self.imported.doubts[:500]
        ]
        shown += [None, TextRow("becomes", "muted!")]
        for row in self.imported.rows[:8]:
            shown.append(TextRow("  ".join(f"{key}={value}" for key, value in row.items()), "ink"))
        self.query_one(ImportRows).set_rows(shown)
        self.query_one(ImportHead).refresh()

    def said(self) -> str:
        count = len(self.imported.rows)
        return f"{count} point{'s' if count != 1 else ''}, {len(self.imported.doubts)} doubts"

    def target(self) -> str:
        if self._device is not None:
            return f"{self._device.name}, unit {self._unit_id}"
        return f"unit {self._unit_id} of {self._link.place if self._link is not None else ''}, a new device"

    def keys_here(self) -> list[tuple[str, str]]:
        more = [("s", "next sheet")] if len(self.sheets) > 1 else []
        return [
            ("enter", "take over"),
            ("← →", "what a column is"),
            ("x", "leave it out"),
            ("n", "how it counts"),
            *more,
            ("escape", "leave"),
        ]

    def focus_rows(self) -> None:
        self.screen.set_focus(self.query_one(ImportRows))

    def turn(self, row: ColumnRow, step: int) -> None:
        """Another field for a column, remembered for the next table with such a heading."""
        assert self.matched is not None
        order = ("", *FIELDS)
        name = order[(order.index(row.field) + step) % len(order)] if step else ""
        self.matched.assign(row.column, name)
        self.context.holder.remember_heading(plain_word(row.heading), name)
        self._understand()

    def action_count(self) -> None:
        if self._device is not None and self._device.points:
            self.context.tell(f"{self._device.name} has points already, and counts as its numbering says")
            return
        order: list[Counting] = list(_COUNTS)
        self.numbering = order[(order.index(self.numbering) + 1) % len(order)]
        self._understand()

    def action_sheet(self) -> None:
        self.at = (self.at + 1) % len(self.sheets)
        self._match()

    def action_take(self) -> None:
        rows, doubts, link, unit_id, device = (
            self.imported.rows,
            self.imported.doubts,
            self._link,
            self._unit_id,
            self._device,
        )
        if not rows or link is None:
            self.context.tell("no row of this table gives a point: say what its columns are")
            return
        if device is not None and device.points:
            edit = add_points(device.name, rows)
        else:
            try:
                edit = add_device(link, unit_id, "", [_new_point(row, self.numbering) for row in rows], self.numbering)
            except ValueError as error:
                self.context.tell(str(error))
                return

        def done(came: Done) -> None:
            self._on_ended()
            self.context.send(LookAtDevice(link, unit_id))
            self.context.tell(f"{len(rows)} points taken over, {len(doubts)} doubts; ctrl+z takes them back")

        self.context.edit(edit, self._opened, done)


def sheets_of(path: Path) -> tuple[list[Sheet], str]:
    """A table, or a Thing Description, and what there is to say of it. Raises CannotImport."""
    if path.suffix.lower() not in (".json", ".jsonld"):
        return read_sheets(path), ""
    try:
        rows, doubts = rows_of_thing(path.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise CannotImport(f"{path} cannot be read: {error}") from None
    except ValueError as error:
        raise CannotImport(f"{path} {error}") from None
    return [sheet_of_rows(path.name, rows)], f"{len(doubts)} properties left out; {doubts[0]}" if doubts else ""


def _new_point(row: dict[str, str], numbering: Counting) -> NewPoint:
    table = Table(row["table"])
    cells = tuple((key, value) for key, value in row.items() if key not in ("name", "table", "address"))
    return NewPoint(row["name"], table, to_wire(row["address"], table, numbering), cells)
