"""Asks for a file, and has something drawn to it by a process of its own."""

from collections.abc import Callable
from pathlib import Path

from kanaleto.paper.drawing import write_elsewhere
from kanaleto.paper.look import NoPaper, form_of
from kanaleto.paper.sheets import Sheet
from kanaleto.tui.shared.context import Context, Stoppable
from kanaleto.tui.shared.elsewhere import begin_elsewhere
from kanaleto.tui.shared.holder import expanded


def ask_paper(context: Context, question: str, answer: str, make: Callable[[], Sheet]) -> None:
    """`make` is called on a thread, once it is known where to."""

    def take(text: str) -> Stoppable | str | None:
        try:
            path = expanded(text)
            form_of(path)
        except (ValueError, NoPaper) as error:
            return str(error)
        return draw_to(context, path, make)

    context.ask(question, answer, take)


def draw_to(context: Context, path: Path, make: Callable[[], Sheet]) -> Stoppable | str | None:
    """What is there already is only written over when it is meant."""
    if path.is_dir() or not path.parent.is_dir():
        return f"{path} cannot be written: " + ("it is a folder" if path.is_dir() else "its folder does not exist")
    if not path.exists():
        return _draw(context, path, make)

    def sure(text: str) -> Stoppable | None:
        if text.strip().lower() in ("y", "yes"):
            return _draw(context, path, make)
        context.tell("left as it is")
        return None

    context.ask(f"{path.name} is there already: overwrite it? y does, anything else leaves it", "", sure)
    return None


def _draw(context: Context, path: Path, make: Callable[[], Sheet]) -> Stoppable:
    def work() -> str:
        write_elsewhere(make(), path)
        return f"written to {path}"

    return begin_elsewhere(context, "paper", "drawing …", work, (NoPaper,))
