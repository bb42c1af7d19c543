"""Across: all devices of one map as rows, points as columns, what differs from most of them marked; one line a device,
the worst state first."""

from collections.abc import Hashable, Sequence

from msgspec import Struct
from rich.cells import cell_len
from textual.app import ComposeResult
from textual.binding import Binding
from textual.strip import Strip

from kanaleto.analysis.comparing import badness, columns_of, devices_like, odd_ones
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import Identity, Place
from kanaleto.site.model import Device
from kanaleto.tui.parts.across import KIND
from kanaleto.tui.parts.below import Below, last_minute
from kanaleto.tui.parts.part import Doors, Part
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import SHAPES, TONES
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.readings import brief_text, value_tone
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import device_phrase, device_state

_LEAST, _MOST = 9, 16


class AcrossRow(Struct, frozen=True):
    """`odd` are the columns in which it differs from most."""

    device: Device
    places: tuple[Place | None, ...]
    odd: frozenset[int]


class AcrossHead(Drawn):
    DEFAULT_CSS = "AcrossHead { height: 3; }"
    text = ""
    columns: tuple[str, ...] = ()
    first = 0
    widths: tuple[int, ...] = ()

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        if y == 0:
            cells.put(" ACROSS  ", "muted", bold=True).put(self.text, "ink")
        elif y == 2:
            cells.put(f" {'':<3}", "muted").put("", width=name_width(self.size.width))
            for title, width in zip(self.columns[self.first :], self.widths[self.first :], strict=True):
                if cells.width + width > self.size.width:
                    break
                cells.put(title, "muted", width - 1, right=True).put(" ")
        return self.strip_of(y, cells, self.size.width)


def name_width(width: int) -> int:
    return 24 if width >= 110 else 16


class AcrossRows(Rows[AcrossRow]):
    BINDINGS = [
        Binding("left,h", "columns(-1)", show=False),
        Binding("right,l", "columns(1)", show=False),
    ]
    first = 0
    count = 0
    widths: tuple[int, ...] = ()

    def identity(self, row: AcrossRow) -> Hashable:
        return row.device.name

    def draw(self, row: AcrossRow, width: int, ground: str) -> Cells:
        found = self.snapshot.status_of(row.device.name)
        state = device_state(*found) if found is not None else "idle"
        cells = Cells(self.palette, ground).put(f" {SHAPES[state]} ", TONES[state])
        cells.put(row.device.name, "ink", name_width(width) + 1, bold=True)
        for number in range(self.first, len(row.places)):
            each = self.widths[number]
            if cells.width + each > width:
                break
            self._cell(cells, row, number, each)
        if state in ("silent", "garbled") and found is not None and cells.width + 10 < width:
            cells.put(" ").put(device_phrase(*found), TONES[state], width - cells.width - 1)
        return cells

    def _cell(self, cells: Cells, row: AcrossRow, number: int, width: int) -> None:
        place = row.places[number]
        if place is None:
            cells.put("·", "dim", width - 1, right=True).put(" ")
            return
        reading = self.snapshot.reading(place)
        is_odd = number in row.odd
        text = brief_text(place.point, reading) if reading.value is not None else "—"
        text = text.removesuffix(f" {place.point.unit}") if place.point.unit else text
        tone = value_tone(place.point, reading)
        cells.put(
            f"≠{text}" if is_odd else text, "ochre" if is_odd and tone == "ink" else tone, width - 1, True, is_odd
        )
        cells.put(" ")

    def action_columns(self, step: int) -> None:
        self.first = max(0, min(self.first + step, max(self.count - 1, 0)))
        self.context.redraw()


class AcrossPart(Part):
    kind = KIND
    actions = KIND.actions

    def __init__(self, doors: Doors) -> None:
        super().__init__(doors)
        self._device = ""
        self._marked: list[Identity] = []
        self._worst_first = True
        self._head, self._list, self._below = AcrossHead(), AcrossRows(), Below()

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list
        yield self._below

    def begin(self, device: str, marked: Sequence[Identity]) -> None:
        self._device, self._marked = device, list(marked)
        self._list.first = 0

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        devices = devices_like(snapshot.site, self._device)
        columns = columns_of(snapshot, devices, self._marked)
        parts = [snapshot.plan.part_of(device.name) for device in devices]
        grid = [[part.by_name.get(name) if part is not None else None for name in columns] for part in parts]
        odd: list[set[int]] = [set() for _ in devices]
        for number in range(len(columns)):
            across = [row[number] for row in grid]
            point = next((place.point for place in across if place is not None), None)
            if point is not None:
                values = [snapshot.reading(place).value if place is not None else None for place in across]
                for at in odd_ones(point, values):
                    odd[at].add(number)
        rows = [
            AcrossRow(device, tuple(places), frozenset(marks))
            for device, places, marks in zip(devices, grid, odd, strict=True)
        ]
        if self._worst_first:
            rows.sort(key=lambda row: (-badness(snapshot, row.device), -len(row.odd)))
        self._list.widths = tuple(max(_LEAST, min(cell_len(name) + 2, _MOST)) for name in columns)
        self._list.count = len(columns)
        self._list.empty_text = "put the cursor on a point of a device first"
        self._list.set_rows(rows)
        self._tell(rows, columns)
        room = self._below.room(self._list, self._head.size.height)
        first = self._list.first
        places = [place for row in rows if first < len(row.places) and (place := row.places[first]) is not None]
        title = columns[first].upper() if first < len(columns) else ""
        fits = places[: max((room - 2) // 5, 0)]
        self._below.take(last_minute(snapshot, fits, self.size.width, title), self._list, room)

    def _tell(self, rows: list[AcrossRow], columns: list[str]) -> None:
        if not rows:
            self._head.text, self._head.columns, self._head.widths = "", (), ()
            self._head.redraw()
            return
        off = sum(1 for row in rows if row.odd)
        order = "the worst first" if self._worst_first else "in the site's order"
        self._head.text = (
            f"{len(rows)} device{'s' if len(rows) != 1 else ''} like {self._device} · {order} · "
            f"{off} differ{'s' if off == 1 else ''} from most (≠)"
        )
        self._head.columns, self._head.widths, self._head.first = tuple(columns), self._list.widths, self._list.first
        self._head.redraw()

    def as_table(self) -> tuple[str, list[str], list[list[str]], list[int]]:
        """What is shown, for paper: what it is, headings, rows, and which of these differ from most."""
        rows, marked = [], []
        for number, row in enumerate(self._list.rows):
            texts = []
            for column, place in enumerate(row.places):
                text = brief_text(place.point, self.snapshot.reading(place)) if place is not None else "—"
                texts.append(f"{text} ≠" if column in row.odd else text)
            rows.append([row.device.name, *texts])
            marked += [number] if row.odd else []
        return self._head.text, ["device", *self._head.columns], rows, marked

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        order = self.keys_of("order", order="site's order" if self._worst_first else "worst first")
        return [("← →", "columns"), *self.keys_of("go"), *order, ("x", "export"), ("escape", "back")]

    def action_order(self) -> None:
        self._worst_first = not self._worst_first
        self.context.redraw()

    def action_go(self) -> None:
        row = self._list.current
        if row is not None and row.device.points:
            self.doors.go_to((row.device.name, row.device.points[0].name))
