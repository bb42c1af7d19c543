"""Which keys matter here and now."""

from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.view import View


def keys_here(context: Context, view: View | None, is_page: bool, is_asked: bool, is_typed: bool) -> list[Key]:
    """In `view`, or (None) on the page of keys or in the finder; while something is asked for, or typed. The last one
    is always shown."""
    if view is None and is_page:
        return [("up down", "scroll"), ("escape", "go back"), ("ctrl+q", "quit")]
    if view is None:
        return [("enter", "do it"), ("up down", "choose"), ("escape", "go back"), ("ctrl+q", "quit")]
    if is_asked:
        return [("enter", "answer"), ("up down", "earlier answers"), ("escape", "leave it"), ("ctrl+q", "quit")]
    if is_typed:
        return [*view.keys_here(), ("ctrl+q", "quit")]
    return [
        *view.keys_here(),
        ("space", "resume polling" if context.snapshot.is_held else "hold polling"),
        ("n", "manual's count" if context.counts_as_wire else "wire's count"),
        ("q", "quit"),
        ("?", "all keys"),
    ]
