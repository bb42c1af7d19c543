"""A part of a view that takes the view's place for a while, with keys of its own."""

from collections.abc import Callable
from typing import ClassVar

from textual import actions

from kanaleto.tui.shared.view import View


class Part(View):
    """`name` is how its view calls it; `leave` goes back to where one came from."""

    name: ClassVar[str] = ""
    DEFAULT_CSS = "Part { height: 1fr; width: 1fr; layout: vertical; }"

    def __init__(self, leave: Callable[[], None]) -> None:
        super().__init__()
        self.leave = leave

    def back(self) -> None:
        self.leave()

    def action_write(self) -> object:
        """`w`, in parts where something can be written."""
        self.context.tell("nothing can be written here")
        return None

    def perform(self, action: str) -> object:
        """Do one of its actions, as it stands in its list."""
        _, name, parameters = actions.parse(action)
        return getattr(self, f"action_{name}")(*parameters)
