"""`ctrl+p`: any action by name. A line to type into, and below it what its words find; shown in place of the view until
something is chosen."""

from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct
from textual import events
from textual.app import ComposeResult
from textual.containers import Vertical

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.line import InputLine
from kanaleto.tui.shared.page import Page
from kanaleto.tui.shared.rows import Rows

_NAME_WIDTH = 56
_MOVING = {"up": ("move", -1), "down": ("move", 1), "pageup": ("page", -1), "pagedown": ("page", 1)}


class Command(Struct, frozen=True):
    """What can be chosen: its name, its key or what it is about, and what it does."""

    name: str
    about: str
    run: Callable[[], object]


class FoundCommands(Rows[Command]):
    DEFAULT_CSS = "FoundCommands { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    def draw(self, row: Command, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put("  ")
        room = min(_NAME_WIDTH, max(width * 2 // 3, 20))
        return cells.put(row.name, "ink", room).put("  ").put(row.about, "muted", max(width - room - 5, 0))


class _Words(InputLine):
    def __init__(self, on_entered: Callable[[], None], on_left: Callable[[], None], rows: FoundCommands) -> None:
        super().__init__(placeholder="words of what you want to do; enter does it, escape goes back")
        self._on_entered, self._on_left, self._rows = on_entered, on_left, rows

    def entered(self, text: str) -> None:
        self._on_entered()

    def left(self) -> None:
        self._on_left()

    async def take_key(self, event: events.Key) -> bool:
        if event.key in _MOVING:
            what, step = _MOVING[event.key]
            (self._rows.action_move if what == "move" else self._rows.action_page)(step)
            return True
        return await super().take_key(event)


class Finder(Page, Vertical):
    """`leave` goes back to the view that was in sight."""

    DEFAULT_CSS = "Finder { height: 100%; width: 100%; padding: 1 2; }"

    def __init__(self, leave: Callable[[], None], offered: Callable[[], Iterable[Command]], id: str) -> None:
        super().__init__(id=id)
        self._leave, self._offered = leave, offered
        self._commands: Sequence[Command] = ()
        self._rows = FoundCommands()
        self._rows.empty_text = "nothing is called so"
        self._words = _Words(self._do, leave, self._rows)
        self._found_for: str | None = None

    def compose(self) -> ComposeResult:
        yield self._words
        yield self._rows

    def begin(self) -> None:
        """Offer what can be done now."""
        self._commands = tuple(self._offered())
        self._words.value = ""
        self._found_for = None
        self._fill()

    def focus_rows(self) -> None:
        self._words.begin()

    def on_input_changed(self) -> None:
        self._fill()

    def _fill(self) -> None:
        """What the words find; done before anything is done with it, since keys may come in bursts."""
        if self._words.value == self._found_for:
            return
        self._found_for = self._words.value
        words = self._words.value.lower().split()
        found = [one for one in self._commands if all(word in f"{one.name} {one.about}".lower() for word in words)]
        if words:  # what begins with the words goes first, and what is called so before what is only about that
            found.sort(key=lambda one: (not one.name.lower().startswith(words[0]), -_named(one.name.lower(), words)))
        self._rows.set_rows(found)
        self._rows.place_cursor(0)

    def _do(self) -> None:
        self._fill()
        chosen = self._rows.current
        if chosen is None:
            return
        self._leave()
        chosen.run()


def _named(name: str, words: Sequence[str]) -> int:
    return sum(word in name for word in words)
