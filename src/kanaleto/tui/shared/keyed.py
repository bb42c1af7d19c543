"""Who has the keys. The application hands them over one after the other, each done before the next, so that what is
typed ahead goes where the focus is by then."""

from typing import cast

from textual import events
from textual.widget import Widget


class Keyed:
    """Mix-in for widgets that may have the keys."""

    @property
    def has_keys(self) -> bool:
        """As it is now; the toolkit's own `has_focus` follows later."""
        widget = cast(Widget, self)
        return widget.is_attached and widget.screen.focused is widget

    async def take_key(self, event: events.Key) -> bool:
        """A key that means something here before any binding does; whether it was taken."""
        return False

    def take_paste(self, text: str) -> bool:
        """Pasted text; whether it was taken."""
        return False
