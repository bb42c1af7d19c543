"""The line of Find to type into."""

from collections.abc import Callable

from kanaleto.tui.shared.line import InputLine


class LinkLine(InputLine):
    """Where a link, a port or a range is typed."""

    def __init__(self, on_entered: Callable[[str], None], on_left: Callable[[], None]) -> None:
        super().__init__(placeholder="type a link or a port")
        self._on_entered, self._on_left = on_entered, on_left

    def entered(self, text: str) -> None:
        self._on_entered(text)

    def left(self) -> None:
        self._on_left()
