"""Another map for a device: its points, and what takes their place, to be settled before anything is done."""

from collections.abc import Callable, Hashable
from pathlib import Path

from msgspec.structs import replace
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.strip import Strip

from kanaleto.editing.anothermap import Found, carried, find_again, read_other, taken_map, used_by
from kanaleto.editing.news import Opened
from kanaleto.editing.workingcopy import CannotEdit
from kanaleto.files.texts import read_text
from kanaleto.site.counting import from_wire
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.model import Device, Point
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.rows import Rows


class MatchHead(Drawn):
    DEFAULT_CSS = "MatchHead { height: 3; }"
    texts: tuple[str, str] = ("", "")

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette).put(" ")
        if y < 2:
            cells.put(self.texts[y], "ink" if not y else "muted", bold=not y)
        return self.strip_of(y, cells, self.size.width)


class MatchRows(Rows[Found]):
    """`new` are the points of the other map; `used` says what needs a point."""

    BINDINGS = [
        Binding("less_than_sign,left", "other(-1)", show=False),
        Binding("greater_than_sign,right", "other(1)", show=False),
        Binding("delete,backspace", "leave_out", show=False),
    ]
    new: tuple[Point, ...] = ()
    device: Device | None = None
    used: dict[str, list[str]]
    on_settled: Callable[[], None]

    def identity(self, row: Found) -> Hashable:
        return row.old.name

    def draw(self, row: Found, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put(" ")
        each = max(min((width - 46) // 2, 34), 14)
        unit = f" {row.old.unit}" if row.old.unit else ""
        cells.put(f"{row.old.name}{unit}", "ink", each).put(" → ", "muted")
        if row.new is None:
            used = self.used.get(row.old.name, [])
            cells.put("nothing" if not used else f"nothing, and {used[0]} needs it", "terracotta" if used else "dim")
            return cells
        point = self.new[row.new]
        unit = f" {point.unit}" if point.unit else ""
        tone = "verdigris" if row.how.startswith("the same") else "ochre"
        cells.put(f"{point.name}{unit}", tone, each).put(" ")
        count = from_wire(point.address, point.table, self.device.numbering) if self.device is not None else ""
        cells.put(f"{point.table.value} {count}", "sky", 16).put(f"{point.codec}", "muted", 12)
        _, lost = carried(row.old, point)
        if lost:
            return cells.put(f"lost: {', '.join(lost)}", "terracotta")
        return cells.put(row.how, "muted")

    def action_other(self, step: int) -> None:
        row = self.current
        if row is None:
            return
        others = {other.new for other in self.rows if other is not row}
        free = [None, *(number for number in row.candidates if number not in others)]
        at = free.index(row.new) if row.new in free else 0
        self._settle(row, free[(at + step) % len(free)])

    def action_leave_out(self) -> None:
        row = self.current
        if row is not None:
            self._settle(row, None)

    def _settle(self, row: Found, new: int | None) -> None:
        settled = replace(row, new=new, how="as you say" if new is not None else "left out")
        self.set_rows([settled if other is row else other for other in self.rows])
        self.on_settled()


class AnotherMapPane(Drawn, Vertical):
    """Shown instead of the ruler."""

    BINDINGS = [Binding("enter", "take", show=False)]
    DEFAULT_CSS = "AnotherMapPane { height: 1fr; display: none; }"

    def __init__(self, on_begun: Callable[[], None], on_ended: Callable[[], None]) -> None:
        super().__init__()
        self._on_begun, self._on_ended = on_begun, on_ended
        self._head, self._list = MatchHead(), MatchRows()
        self._list.used, self._list.on_settled = {}, self._tell
        self._text, self._path = "", Path()
        self._device: Device | None = None
        self._opened: Opened | None = None

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list

    def ask(self, device: Device) -> None:
        """Ask for the other map."""
        holder, opened = self.context.holder, self.context.door.opened
        names = holder.library()
        known = f", or one of the library: {', '.join(names[:4])}" if names else ""

        def take(text: str) -> str | None:
            if not text.strip():
                return "name a map file; escape leaves"
            try:
                path = holder.beside(text, self.context.snapshot.site.path) or holder.map_path(text)
                content = read_text(path)
                new = read_other(path, content, device)
            except FaultyFile as error:
                return str(error.faults[0])
            except (CannotEdit, ValueError) as error:
                return str(error)
            self._begin(device, path, content, new, opened)
            return None

        self.context.ask(f"another map for {device.name}: a map file (CSV){known}", "", take)

    def _begin(self, device: Device, path: Path, text: str, new: tuple[Point, ...], opened: Opened) -> None:
        self._device, self._path, self._text, self._opened = device, path, text, opened
        rows = self._list
        rows.new, rows.device = new, device
        site = self.context.snapshot.site
        rows.used = {point.name: used for point in device.points if (used := used_by(site, device, point.name))}
        rows.set_rows(find_again(device.points, new))
        self._tell()
        self._on_begun()

    def _tell(self) -> None:
        device, rows = self._device, self._list.rows
        if device is None:
            return
        found = sum(1 for row in rows if row.new is not None)
        more = len(self._list.new) - found
        likes = [
            other.name
            for _, other in self.context.snapshot.site.devices()
            if other.map_path == device.map_path and other.name != device.name
        ]
        shared = f" · {', '.join(likes[:3])} keep{'s' if len(likes) == 1 else ''} the map of now" if likes else ""
        lost_of = [row for row in rows if row.new is not None and carried(row.old, self._list.new[row.new])[1]]
        limits = f", {len(lost_of)} lose limits or states" if lost_of else ""
        needed = sum(1 for row in rows if row.new is None and row.old.name in self._list.used)
        lacking = f", {needed} of them needed elsewhere" if needed else ""
        self._head.texts = (
            f"{device.name} gets the map of {self._path.name}",
            f"{found} of {len(rows)} points found again, {len(rows) - found} lost{lacking}{limits}, {more} new{shared}",
        )
        self._head.refresh()

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        return [("enter", "take over"), ("< >", "another in its place"), ("delete", "nothing"), ("escape", "leave")]

    def action_take(self) -> None:
        device = self._device
        if device is None:
            return
        rows = self._list.rows
        for row in rows:
            used = self._list.used.get(row.old.name)
            if row.new is None and used:
                self.context.tell(f"{row.old.name} is needed by {used[0]}: choose what takes its place (< >) first")
                return
        pairs = {row.new: row.old for row in rows if row.new is not None}
        lost = [row.old.name for row in rows if row.new is None]

        def done(came: object) -> None:
            self._on_ended()
            text = f"; no more: {', '.join(lost[:4])}{' …' if len(lost) > 4 else ''}" if lost else ""
            self.context.tell(f"{device.name} has the map of {self._path.name}{text}; ctrl+z takes it back")

        edit = taken_map(device.name, self._path, self._text, self._list.new, pairs)
        self.context.edit(edit, self._opened, done)
