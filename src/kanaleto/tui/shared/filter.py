"""The filter line under a list."""

from collections.abc import Callable

from kanaleto.tui.shared.line import Line


class Filter(Line):
    """Narrows the list as one types; enter keeps it, escape clears it. Both go back to the list, by `on_left`."""

    def __init__(self, on_left: Callable[[], None]) -> None:
        super().__init__(placeholder="filter: words that must all stand in the row · enter keeps it, escape clears it")
        self.display = False
        self._on_left = on_left

    @property
    def words(self) -> list[str]:
        return self.value.lower().split()

    def matches(self, text: str) -> bool:
        """Whether every word stands in `text`."""
        lowered = text.lower()
        return all(word in lowered for word in self.words)

    def open(self) -> None:
        self.display = True
        self.begin()

    def clear_filter(self) -> None:
        self.value = ""
        self.display = False

    def entered(self, text: str) -> None:
        self.display = bool(text)
        self._on_left()

    def left(self) -> None:
        self.clear_filter()
        self._on_left()
