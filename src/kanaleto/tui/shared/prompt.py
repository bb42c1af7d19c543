"""One line at the foot to type an answer into: no dialog for what a line can ask."""

from collections.abc import Callable
from typing import cast

from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Label

from kanaleto.tui.shared.line import Line


class _Answer(Line):
    @property
    def _prompt(self) -> "Prompt":
        return cast("Prompt", self.parent)

    def entered(self, text: str) -> None:
        self._prompt.answer(text)

    def left(self) -> None:
        self._prompt.close()


class Prompt(Horizontal):
    """Hidden until `ask`; enter gives the answer to whoever asked, escape nobody."""

    DEFAULT_CSS = """
    Prompt { height: 1; display: none; background: $panel; }
    Prompt Label { color: $accent; padding: 0 1; }
    Prompt Line { width: 1fr; padding: 0; }
    """

    def compose(self) -> ComposeResult:
        yield Label()
        yield _Answer()

    def ask(self, what: str, answer: str, then: Callable[[str], object]) -> None:
        """Ask for something, with an answer that is there already to be changed."""
        self._then = then
        self.query_one(Label).update(what)
        answer_line = self.query_one(_Answer)
        answer_line.value = answer
        answer_line.cursor_position = len(answer)
        self.display = True
        self.screen.set_focus(answer_line)

    def close(self) -> None:
        self.display = False
        self.app.action_refocus()  # type: ignore[attr-defined]

    def answer(self, text: str) -> None:
        then = self._then
        self.close()
        then(text)
