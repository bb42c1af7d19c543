"""The key row: the keys that matter here and now, with verbs."""

from typing import Protocol, cast

from textual.strip import Strip

from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.line import InputLine
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.view import View


class _Speaks(Protocol):
    notice: str

    def keys_here(self) -> list[Key]: ...


class KeyRow(Drawn):
    DEFAULT_CSS = "KeyRow { height: 1; }"

    def draw_line(self, y: int) -> Strip:
        width, app = self.size.width, cast(_Speaks, self.app)
        cells = Cells(self.palette, "panel")
        if app.notice:
            return cells.put(" ").put(app.notice, "ochre", max(width - 2, 1)).strip(width)
        keys = app.keys_here()
        last = keys[-1]
        for key, verb in keys:
            need = len(key) + len(verb) + 4
            if (key, verb) != last and cells.width + need + len(last[0]) + len(last[1]) + 4 > width:
                continue
            cells.put(f" {key}", "ochre", bold=True).put(f" {verb}  ", "ink")
        return cells.strip(width)


def keys_here(
    context: Context, view: View | None, is_page: bool, is_asked: bool, typed: InputLine | None, has_list: bool = False
) -> list[Key]:
    """In `view`, or (None) on the page of keys or in the finder; while something is asked for, or typed. The last one
    is always shown."""
    if view is None and is_page:
        return [("up down", "scroll"), ("escape", "go back"), ("ctrl+q", "quit")]
    if view is None:
        return [("enter", "do it"), ("up down", "choose"), ("escape", "go back"), ("ctrl+q", "quit")]
    if is_asked:
        listed = [("?", "what may stand here")] if has_list else []
        return [
            ("enter", "answer"),
            *listed,
            ("up down", "earlier answers"),
            ("escape", "leave it"),
            ("ctrl+q", "quit"),
        ]
    if typed is not None:
        return [*(typed.KEYS or view.keys_here()), ("ctrl+q", "quit")]
    of_view = view.keys_here()
    taken = {key for keys, _ in of_view for key in keys.split()}
    hold = [("space", "resume polling" if context.snapshot.is_held else "hold polling")]
    everywhere = [
        *(hold if context.capture is None else []),
        ("n", "manual's count" if context.counts_as_wire else "wire's count"),
        ("q", "quit"),
        ("?", "all keys"),
    ]
    return [*of_view, *(key for key in everywhere if key[0] not in taken)]
