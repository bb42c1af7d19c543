"""A long list of which only the visible rows are drawn, with a cursor."""

from collections.abc import Callable, Hashable, Sequence
from typing import Generic, Protocol, TypeVar, runtime_checkable

from textual import events
from textual.binding import Binding
from textual.geometry import Region, Size
from textual.scroll_view import ScrollView
from textual.strip import Strip

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.words import wrapped

RowT = TypeVar("RowT")
_MOST_MADE = 300
_ROLLED = 3  # lines a step of the wheel


@runtime_checkable
class Findable(Protocol):
    """Rows that know where what stands."""

    def find(self, identity: Hashable) -> int | None: ...


class Scrolled(Drawn, ScrollView):
    """Draws lines that scroll."""

    def have_lines(self, count: int, width: int | None = None) -> None:
        """So many there are. The screen is not laid out again for it: nothing but this widget depends on it."""
        size = Size(self.size.width if width is None else width, count)
        if size != self.virtual_size:
            self.set_reactive(ScrollView.virtual_size, size)
            self.scroll_y = self.validate_scroll_y(self.scroll_y)

    def action_by(self, lines: int) -> None:
        self.scroll_to(y=self.scroll_offset.y + lines, animate=False, force=True)
        self.redraw()


class Rows(Scrolled, Generic[RowT], can_focus=True):
    """Subclasses say how a row is drawn and which rows the cursor may rest on."""

    BINDINGS = [
        Binding("up,k", "move(-1)", show=False),
        Binding("down,j", "move(1)", show=False),
        Binding("pageup", "page(-1)", show=False),
        Binding("pagedown", "page(1)", show=False),
        Binding("home", "end(-1)", show=False),
        Binding("end", "end(1)", show=False),
    ]

    resting_ground = "ground"
    are_kept = False
    """Whether rows are known by their identity, and drawn once wherever they stand."""

    def __init__(self, **arguments: object) -> None:
        super().__init__(**arguments)  # type: ignore[arg-type]
        self.rows: Sequence[RowT] = ()
        self.cursor = 0
        self.empty_text = "nothing here"
        self._made: dict[Hashable, tuple[Hashable, Strip]] = {}
        self.when_moved: Callable[[], None] = lambda: None  # the cursor rests on another row, by a key or the mouse

    # For subclasses

    def draw(self, row: RowT, width: int, ground: str) -> Cells:
        raise NotImplementedError

    def redraw_key(self, row: RowT) -> Hashable:
        """All that what is drawn of a row depends on, beside its place, the cursor, the width and the colours; None
        where it is drawn at each look."""
        return None

    def may_rest(self, row: RowT) -> bool:
        return True

    def identity(self, row: RowT) -> Hashable:
        """What a row is about, whatever its place; None for what is nothing of its own."""
        return None

    # The list

    def set_rows(self, rows: Sequence[RowT], last: bool = False) -> None:
        """Take other rows; the cursor stays on what it was on, or at its place, or the nearest that it may rest on; or
        it goes to the `last`."""
        has_new_length = len(rows) != len(self.rows)
        current = self.current
        rested_on = self.identity(current) if current is not None and not last else None
        self.rows = rows
        if not self.are_kept or len(self._made) > _MOST_MADE:
            self._made.clear()  # another row may stand at the same place
        if has_new_length:
            self.have_lines(len(rows))
        at = self.find(rested_on) if rested_on is not None else None
        if last:
            self._go_to(len(rows) - 1, -1)
        elif at is None:
            self.cursor = self._nearest(min(self.cursor, max(len(rows) - 1, 0)), 1)
        elif has_new_length:
            self._go_to(at, 1)
        else:
            self.cursor = at
        self.redraw()

    def find(self, identity: Hashable) -> int | None:
        """Where the row about that stands; looked for first where the cursor is."""
        rows, of = self.rows, self.identity
        if self.cursor < len(rows) and of(rows[self.cursor]) == identity:
            return self.cursor
        if isinstance(rows, Findable):
            return rows.find(identity)
        return next((at for at, row in enumerate(rows) if of(row) == identity), None)

    @property
    def current(self) -> RowT | None:
        return (
            self.rows[self.cursor] if self.cursor < len(self.rows) and self.may_rest(self.rows[self.cursor]) else None
        )

    def _nearest(self, index: int, step: int) -> int:
        for direction in (step, -step):
            at = index
            while 0 <= at < len(self.rows):
                if self.may_rest(self.rows[at]):
                    return at
                at += direction
        return index

    def place_cursor(self, index: int, step: int = 1) -> None:
        """Put the cursor on a row and bring it into sight."""
        if self.rows:
            self._go_to(index, step)
            self.redraw()

    def _go_to(self, index: int, step: int) -> None:
        if not self.rows:
            return
        self.cursor = self._nearest(max(0, min(index, len(self.rows) - 1)), step)
        above = 1 if self.cursor > 0 and not self.may_rest(self.rows[self.cursor - 1]) else 0
        self.scroll_to_region(Region(0, self.cursor - above, 1, 1 + above), animate=False, force=True)

    def action_move(self, step: int) -> None:
        self.place_cursor(self.cursor + step, step)
        self.when_moved()

    def action_page(self, step: int) -> None:
        self.place_cursor(self.cursor + step * max(self.size.height - 1, 1), step)
        self.when_moved()

    def action_end(self, step: int) -> None:
        self.place_cursor(0 if step < 0 else len(self.rows) - 1, -step)
        self.when_moved()

    def on_click(self, event: events.Click) -> None:
        index = event.y + self.scroll_offset.y
        if index < len(self.rows) and self.may_rest(self.rows[index]):
            self.place_cursor(index)
            self.when_moved()

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        self._roll(event, -_ROLLED)

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        self._roll(event, _ROLLED)

    def _roll(self, event: events.MouseEvent, lines: int) -> None:
        """The wheel moves the list; the cursor comes along, so that it stays in sight."""
        event.stop()
        event.prevent_default()
        height = max(self.size.height, 1)
        before = self.scroll_offset.y
        top = max(0, min(before + lines, len(self.rows) - height))
        if not self.rows or top == before:
            return
        self.scroll_to(y=top, animate=False, force=True)
        self.cursor = self._nearest(max(top, min(self.cursor, top + height - 1)), 1 if lines > 0 else -1)
        self.redraw()
        self.when_moved()

    def on_resize(self, event: events.Resize) -> None:
        self.have_lines(len(self.rows), event.size.width)

    def begin_drawing(self) -> None:
        self._frame = (self.size.width, self.scroll_offset.y, self.palette)

    def draw_line(self, y: int) -> Strip:
        width, top, palette = self._frame
        index = y + top
        if not self.rows and y > 0:
            lines = [part for text in self.empty_text.split("\n") for part in wrapped(text, max(width - 3, 10))]
            text = lines[y - 1] if y <= len(lines) else ""
            return Cells(palette, self.resting_ground).put("  ").put(text, "muted").strip(width)
        if index >= len(self.rows):
            return self.strip_of(y, Cells(palette, self.resting_ground), width)
        row = self.rows[index]
        is_cursor = index == self.cursor and self.may_rest(row)
        parts = self.redraw_key(row)
        if parts is None:
            return self.strip_of(y, self.draw(row, width, "rules" if is_cursor else self.resting_ground), width)
        key = self.identity(row) if self.are_kept else y
        redraw_key = (parts, None if self.are_kept else index, is_cursor, width, palette)
        drawn = self._made.get(key)
        if drawn is None or drawn[0] != redraw_key:
            cells = self.draw(row, width, "rules" if is_cursor else self.resting_ground)
            if len(self._made) >= _MOST_MADE:
                self._made.clear()
            drawn = self._made[key] = (redraw_key, self.strip_of(y, cells, width))
        return drawn[1]
