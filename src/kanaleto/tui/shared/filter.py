"""The filter line under a list."""

import re
from collections.abc import Callable

from kanaleto.tui.shared.line import InputLine

_NUMBER = re.compile(r"[0-9]+")


class Filter(InputLine):
    """Narrows the list as one types; enter keeps it, escape clears it. Both go back to the list, by `on_left`."""

    KEYS = (("enter", "keep it"), ("escape", "clear it"))

    def __init__(self, on_left: Callable[[], None]) -> None:
        super().__init__(placeholder="filter: words that must all stand in the row · enter keeps it, escape clears it")
        self.display = False
        self._on_left = on_left

    @property
    def words(self) -> list[str]:
        return self.value.lower().split()

    @property
    def text(self) -> str:
        """That one is on, where nothing is left by it."""
        return f"a filter is on, and nothing has {self.value!r}: escape clears it" if self.words else ""

    @property
    def narrows(self) -> Callable[[str], bool] | None:
        """`matches`, or None where nothing is left out."""
        return self.matches if self.words else None

    def matches(self, text: str) -> bool:
        """Whether every word stands in `text`; a number as a number of its own, not as a part of one."""
        words = self.words
        if not words:
            return True
        lowered = text.lower()
        numbers = _NUMBER.findall(lowered) if any(word.isdecimal() for word in words) else ()
        return all(word in numbers if word.isdecimal() else word in lowered for word in words)

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
