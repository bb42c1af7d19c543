"""A question whose answer writes: what it is about, and which key does what."""

from collections.abc import Callable

from msgspec import Struct

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import Palette
from kanaleto.tui.shared.words import wrapped

_MOST_ROWS = 7


class Choice(Struct, frozen=True):
    """A key, what it does in words, and what it does. What `ends` something counts at once, however it was pressed."""

    key: str
    verb: str
    do: Callable[[], None]
    ends: bool = False


class WriteQuestion(Struct, frozen=True):
    """`title` says about what, `text` what is to be decided."""

    title: str
    text: str
    choices: tuple[Choice, ...]

    def choice(self, key: str) -> Choice | None:
        return next((choice for choice in self.choices if choice.key == key), None)


def question_rows(palette: Palette, question: WriteQuestion, width: int) -> list[Cells]:
    rows = [Cells(palette, "panel").put("  ").put(question.title, bold=True)]
    for part in question.text.splitlines():
        rows += [Cells(palette, "panel").put("  ").put(piece) for piece in wrapped(part, max(width - 4, 20))]
    rows = rows[: _MOST_ROWS - 1]
    keys = Cells(palette, "panel").put("  ")
    for choice in question.choices:
        keys.put(choice.key, "ochre", bold=True).put(f" {choice.verb}   ")
    return [*rows, keys.put("escape", "ochre", bold=True).put(" leaves it")]
