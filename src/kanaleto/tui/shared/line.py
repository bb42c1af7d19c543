"""A line to type into that answers at once: keys that come right behind enter or escape are for whoever has the focus
by then."""

from textual import events
from textual.widgets import Input


class Line(Input):
    """Subclasses say what enter and escape do."""

    DEFAULT_CSS = "Line { height: 1; border: none; padding: 0 1; background: $panel; } Line:focus { border: none; }"

    def entered(self, text: str) -> None:
        raise NotImplementedError

    def left(self) -> None:
        raise NotImplementedError

    def holds_back(self, event: events.Key) -> bool:
        """Whether a key is kept for later."""
        return False

    async def _on_key(self, event: events.Key) -> None:
        if (
            self.screen.focused is not self
        ):  # typed ahead, while this line was being left; `has_focus` follows only later
            event.stop()
            event.prevent_default()
            if self.app.focused is not self:
                self.app.post_message(events.Key(event.key, event.character))
        elif self.holds_back(event):
            event.stop()
            event.prevent_default()
        elif event.key in ("enter", "escape"):
            event.stop()
            event.prevent_default()
            if event.key == "enter":
                self.entered(self.value)
            else:
                self.left()
        else:
            await super()._on_key(event)
