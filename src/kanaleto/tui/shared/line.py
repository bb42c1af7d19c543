"""A line to type into."""

from textual import events
from textual.widgets import Input

from kanaleto.tui.shared.keyed import Keyed


class Line(Keyed, Input):
    """Subclasses say what enter and escape do."""

    DEFAULT_CSS = "Line { height: 1; border: none; padding: 0 1; background: $panel; } Line:focus { border: none; }"

    def entered(self, text: str) -> None:
        raise NotImplementedError

    def left(self) -> None:
        raise NotImplementedError

    async def take_key(self, event: events.Key) -> bool:
        if event.key == "enter":
            self.entered(self.value)
        elif event.key == "escape":
            self.left()
        elif event.is_printable:
            await self._on_key(event)
        else:
            return False
        return True

    def take_paste(self, text: str) -> bool:
        first = next(iter(text.splitlines()), "")
        if first:
            self.replace(first, *self.selection)
        return True
