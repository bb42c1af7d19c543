"""The step between a table and the map: how its columns are understood, what its rows become, and every doubt. Nothing
is kept before it is taken over."""

from collections.abc import Callable
from functools import partial
from pathlib import Path
from threading import Thread

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.strip import Strip

from kanaleto.editing.adding import NewPoint, add_device, device_of
from kanaleto.editing.news import Done
from kanaleto.editing.news import Opened as SiteOpened
from kanaleto.editing.pointedit import take_points
from kanaleto.site.counting import Counting, Numbering, to_wire
from kanaleto.site.leading import real_link
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device
from kanaleto.tables.anyfile import read_tables
from kanaleto.tables.csvtext import CannotImport, Sheet, read_text_table
from kanaleto.tables.importing import Imported, Known, grouped, import_rows
from kanaleto.tables.matching import FIELDS, Matched, guess_numbering, match_columns, plain_word
from kanaleto.tui.map.columns import ColumnRow, FieldList, ImportRows, rows_of
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.context import Stoppable
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.wishes import LookAtDevice
from kanaleto.wire.codes import Table

_COUNTS = {
    Numbering.PROTOCOL: "addresses count from 0, as on the wire",
    Numbering.ONE: "addresses count from 1",
    Numbering.REFERENCE: "addresses are references such as 40001",
}


def _counting(numbering: Counting) -> str:
    return (
        _COUNTS[numbering] if isinstance(numbering, Numbering) else "addresses count as the device's own numbering says"
    )


class ImportHead(Drawn):
    """What is imported, for whom, and how it counts."""

    DEFAULT_CSS = "ImportHead { height: 3; }"

    def __init__(self, pane: "ImportPane") -> None:
        super().__init__()
        self._pane = pane

    def draw_line(self, y: int) -> Strip:
        pane, width = self._pane, self.size.width
        cells = Cells(self.palette).put(" ")
        if y == 0 and pane.matched is not None:
            more = f" · sheet {pane.at + 1} of {len(pane.sheets)}" if len(pane.sheets) > 1 else ""
            cells.put(f"Import {pane.matched.sheet.title}", bold=True)
            cells.put(f"   {pane.said()}{more}", "muted", max(width - cells.width, 0))
        elif y == 1:
            cells.put(f"for {pane.target()} · {pane.counting()}", "muted", max(width - 1, 0))
        return cells.strip(width)


class ImportPane(Drawn, Vertical):
    """Shown instead of the ruler while a table is looked at."""

    BINDINGS = [
        Binding("enter", "take", show=False),
        Binding("n", "count", show=False),
        Binding("m", "known", show=False),
        Binding("g", "guess", show=False),
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
        self.known = Known.LEFT
        self.imported = Imported((), ())
        self._picking: ColumnRow | None = None
        self._corrected: dict[str, str] = {}
        self._link: Link | None = None
        self._unit_id = 1
        self._device: Device | None = None
        self._opened: SiteOpened | None = None

    def compose(self) -> ComposeResult:
        yield ImportHead(self)
        yield ImportRows(self._turn)
        yield FieldList(self._picked)

    # A table comes

    def ask(self, link: Link, unit_id: int) -> None:
        """Ask for a file of a unit's registers."""
        names = self.context.holder.library()
        known = f", or one of the library: {', '.join(names[:4])}" if names else ""
        opened = self.context.door.opened

        def open_table(text: str) -> Stoppable | str:
            if not text.strip():
                return "name a file; escape leaves"
            try:
                path = self.context.holder.beside(text, self.context.snapshot.site.path)
                path = path or self.context.holder.map_path(text)
            except ValueError as error:
                return str(error)
            return self._read(path, link, unit_id, opened)

        self.context.ask(f"import a table for unit {unit_id} of {link.place}: file{known}", "", open_table)

    def _read(self, path: Path, link: Link, unit_id: int, opened: SiteOpened) -> Stoppable:
        """Read it on a thread; the prompt waits meanwhile, and escape stops it."""
        context, coming = self.context, Stoppable()
        context.tell(f"reading {path.name} … escape stops it")
        later = context.later

        def begin(sheets: list[Sheet], text: str) -> None:
            if not coming.stop.is_set():
                self.begin(sheets, link, unit_id, device_of(self.snapshot.site, link, unit_id), opened)
                context.tell(text)
            coming.set_result(None)  # only now: the prompt that waits for it closes then

        def fail(error: CannotImport) -> None:
            if not coming.stop.is_set():
                context.trouble("answer", str(error))
            coming.set_exception(error)

        def work() -> None:
            try:
                sheets, text = read_tables(path, coming.stop)
            except CannotImport as error:
                later(partial(fail, error))
            else:
                later(partial(begin, sheets, text))

        Thread(target=work, name="import", daemon=True).start()
        return coming

    def begin(
        self, sheets: list[Sheet], link: Link, unit_id: int, device: Device | None, opened: SiteOpened | None = None
    ) -> None:
        """Look at the sheet with most rows first."""
        self.sheets, self._link, self._unit_id, self._device = sheets, link, unit_id, device
        self._opened = opened or self.context.door.opened
        self.known = Known.LEFT
        self.at = max(range(len(sheets)), key=lambda at: len(sheets[at].rows))
        self._close_list()
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

    # How it is understood

    def _match(self) -> None:
        self.matched = match_columns(self.sheets[self.at], self.context.holder.headings())
        self._corrected.clear()
        self.numbering = guess_numbering(self.matched)
        if self._has_points() and self.numbering is not Numbering.REFERENCE and self._device is not None:
            self.numbering = self._device.numbering  # from 0 or from 1 is harder to recognise than what there is
        self._understand()

    def _has_points(self) -> bool:
        return self._device is not None and bool(self._device.points)

    def _understand(self) -> None:
        assert self.matched is not None
        device = self._device
        taken = [point.name for point in device.points] if device is not None else []
        into = device.numbering if device is not None and device.points else None
        self.imported = import_rows(self.matched, self.numbering, taken, self.known, into)
        self.query_one(ImportRows).set_rows(rows_of(self.matched, self.imported))
        self.query_one(ImportHead).refresh()

    def said(self) -> str:
        count = len(self.imported.rows)
        doubts = len(grouped(self.imported.doubts))
        said = f"{count} point{'s' if count != 1 else ''}, {doubts} doubt{'s' if doubts != 1 else ''}"
        there = len(self.imported.replaced) + self.imported.left
        return f"{said} · {there} of names that are there already: {self.known.value}" if there else said

    def target(self) -> str:
        if self._device is not None:
            return f"{self._device.name}, unit {self._unit_id}"
        return f"unit {self._unit_id} of {self._link.place if self._link is not None else ''}, a new device"

    def counting(self) -> str:
        said, device = _counting(self.numbering), self._device
        if device is None or device.numbering == self.numbering:
            return said
        if device.points:
            return f"{said}, and become what {device.name} counts as"
        return f"{said}, and so will {device.name}"

    def keys_here(self) -> list[tuple[str, str]]:
        if self._picking is not None:
            return [("enter", f"{self._picking.heading} is that"), ("escape", "leave it as it is")]
        more = [("s", "next sheet")] if len(self.sheets) > 1 else []
        there = [("m", "names that are there")] if self._has_points() else []
        return [
            ("enter", "take over"),
            ("f", "what a column is"),
            ("x", "leave it out"),
            ("n", "how it counts"),
            *there,
            *more,
            ("g", "guess again"),
            ("escape", "leave"),
        ]

    def focus_rows(self) -> None:
        self.screen.set_focus(self.query_one(FieldList if self._picking is not None else ImportRows))

    # What is said of it

    def _turn(self, row: ColumnRow, step: int | None) -> None:
        """Another field for a column: the next that no other column is, or one from the list."""
        assert self.matched is not None
        if step is None:
            self._picking = row
            fields = self.query_one(FieldList)
            fields.begin(self.matched, row.column)
            fields.display, self.query_one(ImportRows).display = True, False
            self.focus_rows()
            self.context.redraw()
            return
        others = {name for column, name in self.matched.columns.items() if column != row.column}
        free = ["", *(name for name in FIELDS if name not in others or name == row.field)]
        self._assign(row, free[(free.index(row.field) + step) % len(free)] if step else "")

    def _picked(self, field: str | None) -> None:
        row = self._picking
        self._close_list()
        if row is not None and field is not None:
            self._assign(row, field)
        self.focus_rows()
        self.context.redraw()

    def _close_list(self) -> None:
        self._picking = None
        self.query_one(FieldList).display, self.query_one(ImportRows).display = False, True

    def _assign(self, row: ColumnRow, field: str) -> None:
        assert self.matched is not None
        self.matched.assign(row.column, field)
        self._corrected[plain_word(row.heading)] = field
        self._understand()

    def action_count(self) -> None:
        order: list[Counting] = list(_COUNTS)
        numbering = self._device.numbering if self._device is not None else None
        if numbering is not None and numbering not in order:
            order.append(numbering)
        self.numbering = order[(order.index(self.numbering) + 1) % len(order)]
        self._understand()

    def action_known(self) -> None:
        order = list(Known)
        self.known = order[(order.index(self.known) + 1) % len(order)]
        self._understand()
        if self._has_points():
            self.context.tell(f"points whose names are there already are {self.known.value}")

    def action_guess(self) -> None:
        """As it was understood at first."""
        self._match()
        self.context.tell("understood again; what was said of its columns is forgotten")

    def action_sheet(self) -> None:
        self.at = (self.at + 1) % len(self.sheets)
        self._match()

    # It is taken over

    def action_take(self) -> None:
        rows, link, unit_id, device = self.imported.rows, self._link, self._unit_id, self._device
        if self.matched is None or link is None:
            return
        for field, columns in self.matched.clashes().items():
            names = " and ".join(self.matched.headings[at] for at in columns[:2])
            self.context.tell(f"{names} are both to be the {field}: leave one out (x), or say what it is (f)")
            return
        if not rows:
            left = (
                f"all {self.imported.left} are there already (m)" if self.imported.left else "say what its columns are"
            )
            self.context.tell(f"no row of this table gives a new point: {left}")
            return
        if device is not None:
            numbering = self.numbering if isinstance(self.numbering, Numbering) and not device.points else None
            edit = take_points(device.name, rows, self.imported.replaced, numbering)
        else:
            try:
                real = real_link(self.snapshot.site, link)
                edit = add_device(real, unit_id, "", [_new_point(row, self.numbering) for row in rows], self.numbering)
            except ValueError as error:
                self.context.tell(str(error))
                return
        corrected, replaced = dict(self._corrected), len(self.imported.replaced)

        def done(came: Done) -> None:
            for heading, field in corrected.items():  # for the next table with such headings
                self.context.holder.remember_heading(heading, field)
            self._on_ended()
            self.context.send(LookAtDevice(link, unit_id))
            more = f", {replaced} of them in the place of others" if replaced else ""
            self.context.tell(f"{len(rows)} points taken over{more}; ctrl+z takes them back")

        self.context.edit(edit, self._opened, done)


def _new_point(row: dict[str, str], numbering: Counting) -> NewPoint:
    table = Table(row["table"])
    cells = tuple((key, value) for key, value in row.items() if key not in ("name", "table", "address"))
    return NewPoint(row["name"], table, to_wire(row["address"], table, numbering), cells)
