"""A line to type into."""

from typing import ClassVar

from textual import events
from textual.widgets import Input

from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.keyed import Keyed
from kanaleto.values.visible import visible


class InputLine(Keyed, Input):
    """Subclasses say what enter and escape do."""

    KEYS: ClassVar[tuple[Key, ...]] = ()
    """What the key row says while it is typed into; nothing: what its view says."""
    DEFAULT_CSS = (
        "InputLine { height: 1; border: none; padding: 0 1; background: $panel; } InputLine:focus { border: none; }"
    )

    def __init__(self, placeholder: str = "") -> None:
        # selected by `begin`, not when the toolkit comes round to telling the focus: that is after what is typed ahead
        super().__init__(placeholder=placeholder, select_on_focus=False)

    def begin(self, is_typed_over: bool = True) -> None:
        """Take the keys; what stands here is typed over by the first of them, or mended with the arrows; or else it is
        added to."""
        self.screen.set_focus(self)
        if is_typed_over:
            self.action_select_all()
        else:
            self.action_end()

    def validate_value(self, value: str) -> str:
        """Whatever is put or pasted here."""
        return visible(value)

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
            self.replace(event.character or "", *self.selection)
        else:
            return False
        return True

    def take_paste(self, text: str) -> bool:
        first = next(iter(text.splitlines()), "")
        if first:
            self.replace(first, *self.selection)
        return True
