"""All keys on one page, made from the lists of actions; it scrolls where there is little room."""

from collections.abc import Callable, Iterable, Sequence

from textual.binding import Binding
from textual.geometry import Size
from textual.scroll_view import ScrollView
from textual.strip import Strip

from kanaleto.tui.shared.actions import Action
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.page import Page
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.words import wrapped

MOVING = (
    ("arrows, h j k l", "move; page up, page down, home, end"),
    ("enter", "open what the cursor is on"),
    ("escape", "go back; clears a filter, or marks"),
    ("tab", "from panel to panel"),
)
_SHAPES = (
    ("●", "verdigris", "answers"),
    ("◐", "ochre", "late, or answers with exceptions"),
    ("✕", "terracotta", "silent"),
    ("◇", "violet", "garbled"),
    ("◌", "dim", "not polled, or not answered yet"),
)
_KEY_WIDTH = 18


class Keys(Page, ScrollView, can_focus=True):
    """The page behind `?`."""

    BINDINGS = [
        Binding("escape,enter", "app.leave", show=False),
        Binding("up,k", "by(-1)", show=False),
        Binding("down,j", "by(1)", show=False),
        Binding("pageup", "by(-10)", show=False),
        Binding("pagedown,space", "by(10)", show=False),
        Binding("home", "by(-999)", show=False),
        Binding("end", "by(999)", show=False),
    ]
    DEFAULT_CSS = "Keys { height: 100%; width: 100%; scrollbar-size: 1 1; background: $background; }"

    def __init__(
        self, views: Sequence[type[View]], everywhere: Iterable[Action], here: Callable[[], str], id: str
    ) -> None:
        super().__init__(id=id)
        self._here = here
        digits = "  ".join(view.digit for view in views)
        rows = [(digits, f"go to {', '.join(view.title for view in views)}"), *MOVING, *key_rows(everywhere)]
        self._everywhere, self._views = ("EVERYWHERE", rows), views
        self._parts = self._in_order("")
        self._laid: tuple[int, list[tuple[str, str, str]]] = (0, [])

    def _in_order(self, digit: str) -> list[tuple[str, list[tuple[str, str]]]]:
        """The view that one is in first."""
        of_views = [part for view in self._views if view.digit == digit for part in parts_of(view)]
        others = [part for view in self._views if view.digit != digit for part in parts_of(view)]
        return [*of_views, self._everywhere, *others]

    def begin(self) -> None:
        """With the keys of the view that one comes from first."""
        self._parts, self._laid = self._in_order(self._here()), (0, [])
        self.scroll_to(y=0, animate=False, force=True)
        self.virtual_size = Size(self.size.width, len(self._rows()))
        self.refresh()

    def focus_rows(self) -> None:
        self.screen.set_focus(self)

    def on_resize(self) -> None:
        self.virtual_size = Size(self.size.width, len(self._rows()))

    def action_by(self, rows: int) -> None:
        self.scroll_to(y=self.scroll_offset.y + rows, animate=False, force=True)

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        rows = self._rows()
        index = y + self.scroll_offset.y
        if index < len(rows):
            key, tone, text = rows[index]
            if tone == "head":
                cells.put(f"  {key}", "muted", bold=True)
            elif key or text:
                cells.put("  ").put(key, tone or "ink", width=_KEY_WIDTH, bold=True).put(text)
        return cells.strip(self.size.width)

    def _rows(self) -> list[tuple[str, str, str]]:
        width = max(self.size.width - _KEY_WIDTH - 4, 20)
        if self._laid[0] != width:
            rows: list[tuple[str, str, str]] = []
            for title, part in self._parts:
                rows += [("", "", ""), (title, "head", "")]
                for key, text in part:
                    lines = wrapped(text, width)
                    rows += [(key if not at else "", "ochre", line) for at, line in enumerate(lines)]
            rows += [("", "", ""), ("SHAPES", "head", ""), *_SHAPES]
            self._laid = (width, rows)
        return self._laid[1]


def parts_of(view: type[View]) -> list[tuple[str, list[tuple[str, str]]]]:
    more = [(f"{view.title.upper()}: {where}", list(keys)) for where, keys in view.more_keys]
    return [(view.title.upper(), key_rows(view.actions)), *more]


def key_rows(actions: Iterable[Action]) -> list[tuple[str, str]]:
    """Keys with what they do, each row once; what has no key is in the palette alone."""
    return list(dict.fromkeys((action.key, action.help_text or action.verb) for action in actions if action.keys))
