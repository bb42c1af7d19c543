"""One line at the foot to type an answer into: no dialog for what a line can ask.

It owns the keys while it is open. An answer that is refused stays to be corrected. While an edit is under way the line
waits for what comes of it: keys that are typed ahead are kept, for whoever has the focus when all went well, and
dropped when it did not.
"""

from collections import deque
from concurrent.futures import Future
from typing import Any, cast

from textual import events
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.strip import Strip
from textual.widget import Widget
from textual.widgets import Label

from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.context import Listed, Stoppable, Then
from kanaleto.tui.shared.line import InputLine
from kanaleto.tui.shared.pane import Drawn
from kanaleto.values.visible import visible

_MOST_HISTORY, _MOST_AHEAD = 100, 200


class _Answer(InputLine):
    @property
    def _prompt(self) -> "Prompt":
        return cast("Prompt", self.parent)

    def entered(self, text: str) -> None:
        self._prompt.answer(text)

    def left(self) -> None:
        self._prompt.close()

    async def take_key(self, event: events.Key) -> bool:
        if self._prompt.holds_back(event):
            return True
        before = self.value[: self.cursor_position]
        is_between = before[-1:] in ("", " ") and not before.count('"') % 2 and not before.count("'") % 2
        if event.character == "?" and is_between and self._prompt.show_list():
            return True
        if event.key in ("pageup", "pagedown") and self._prompt.scroll_list(-1 if event.key == "pageup" else 1):
            return True
        if event.key in ("up", "down"):
            self._prompt.remember(-1 if event.key == "up" else 1)
            return True
        is_taken = await super().take_key(event)
        self._prompt.follow()
        return is_taken

    def take_paste(self, text: str) -> bool:
        return self._prompt.holds_back(events.Paste(text)) or super().take_paste(text)


class PromptList(Drawn):
    """What may stand in the line below, a row each: those that begin as what is being typed, or all."""

    DEFAULT_CSS = "PromptList { height: 1; display: none; }"

    def __init__(self) -> None:
        super().__init__()
        self._all: Listed = ()
        self._rows: Listed = ()
        self._first = 0

    def begin(self, listed: Listed) -> None:
        self._all, self.display = listed, False

    @property
    def is_possible(self) -> bool:
        return bool(self._all)

    def toggle(self) -> None:
        self.display = not self.display
        self._first = 0
        self.follow("")

    def follow(self, word: str) -> None:
        """`word` is what is being typed."""
        if not self.display:
            return
        rows = tuple(row for row in self._all if row[0].startswith(word)) or self._all
        if rows != self._rows:
            self._rows, self._first = rows, 0
        self.styles.height = min(len(self._rows) + 1, self._room)
        self.refresh()

    @property
    def _room(self) -> int:
        return max(self.app.size.height // 2, 6)

    def scroll_by(self, step: int) -> None:
        shown = self._room - 1
        self._first = max(0, min(self._first + step * shown, len(self._rows) - shown))
        self.refresh()

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette, "panel")
        width = max((len(name) for name, _ in self._rows), default=0) + 3
        if y == 0:
            shown = min(self.size.height - 1, len(self._rows))
            of = (
                f"{self._first + 1}–{self._first + shown} of {len(self._rows)}, page up and page down"
                if shown < len(self._rows)
                else ""
            )
            return cells.put(" WHAT MAY STAND HERE  ", "muted", bold=True).put(of, "muted").strip(self.size.width)
        at = self._first + y - 1
        if at < len(self._rows):
            name, text = self._rows[at]
            cells.put(f" {name}", "ink", width).put(text, "muted", max(self.size.width - width - 2, 1))
        return cells.strip(self.size.width)


class Prompt(Drawn, Horizontal):
    """Hidden until `ask`; enter gives the answer to whoever asked, escape nobody. Up and down go through what was
    answered before."""

    DEFAULT_CSS = """
    Prompt { layout: horizontal; height: 1; display: none; background: $panel; }
    Prompt Label { color: $accent; padding: 0 1; }
    Prompt InputLine { width: 1fr; padding: 0; }
    """

    def __init__(self) -> None:
        super().__init__()
        self.is_waiting = False
        self._then: Then = lambda text: None
        self._history: deque[str] = deque(maxlen=_MOST_HISTORY)
        self._at = 0
        self._began = ""
        self._ahead: list[events.Key | events.Paste] = []
        self._asked = 0
        self._came: object = None
        self._before: Widget | None = None  # who had the keys before, and gets them back

    def compose(self) -> ComposeResult:
        yield Label(markup=False)
        yield _Answer()

    @property
    def is_open(self) -> bool:
        return bool(self.display)

    def ask(self, what: str, answer: str, then: Then, is_added_to: bool = False, listed: Listed = ()) -> None:
        """Ask for something, with an answer that is there already: typed over by the first key, or added to. What is
        `listed` may stand in it, and is shown on `?`."""
        self._list.begin(listed)
        self._then, self._at, self._began = then, len(self._history), answer
        self.is_waiting = False
        self._asked += 1
        self._ahead.clear()
        if self.screen.focused is not self.query_one(_Answer):
            self._before = self.screen.focused
        self.query_one(Label).update(visible(what))
        self._write(f"{answer} " if is_added_to and answer else answer)
        self.display = True
        self.query_one(_Answer).begin(is_typed_over=not is_added_to)

    @property
    def _list(self) -> PromptList:
        return self.screen.query_one(PromptList)

    @property
    def has_list(self) -> bool:
        return self._list.is_possible

    def show_list(self) -> bool:
        """Whether there is one."""
        if self._list.is_possible:
            self._list.toggle()
        return self._list.is_possible

    def scroll_list(self, step: int) -> bool:
        if self._list.display:
            self._list.scroll_by(step)
        return bool(self._list.display)

    def follow(self) -> None:
        """The list is of what is being typed."""
        line = self.query_one(_Answer)
        self._list.follow(line.value[: line.cursor_position].rpartition(" ")[2].partition("=")[0])

    def _write(self, text: str) -> None:
        line = self.query_one(_Answer)
        line.value = text
        line.cursor_position = len(text)

    def remember(self, step: int) -> None:
        """What was answered before."""
        at = self._at + step
        if 0 <= at < len(self._history):
            self._at = at
            self._write(self._history[at])
        elif at == len(self._history):
            self._at = at
            self._write(self._began)

    def close(self) -> None:
        if isinstance(self._came, Stoppable):
            self._came.stop.set()
        self._came = None
        self.display = False
        self._list.begin(())
        self.is_waiting = False
        before, self._before = self._before, None
        if self.screen.focused not in (None, self.query_one(_Answer)):
            return  # the answer led elsewhere, and that has the keys
        if before is not None and before.is_attached:
            self.screen.set_focus(before)
        else:
            self.context.refocus()

    def answer(self, text: str) -> None:
        if text.strip() and (not self._history or self._history[-1] != text):
            self._history.append(text)
        asked = self._asked
        came = self._then(text)
        if self._asked != asked:  # it led to another question
            return
        if isinstance(came, str):
            self.context.trouble("answer", came)
        elif isinstance(came, Future):
            self.is_waiting, self._came = True, came
            later = self.context.later  # which is looked up here: the callback comes on another thread
            came.add_done_callback(lambda done: later(lambda: self._settle(asked, done)))
        else:
            self._finish()

    def _finish(self) -> None:
        self.context.trouble("answer", "")
        self.close()

    async def _settle(self, asked: int, done: "Future[Any]") -> None:
        """The edit came to its end: go on, or let the answer be corrected."""
        if self._asked != asked or not self.is_waiting:
            return
        ahead, self._ahead = self._ahead, []
        self.is_waiting = False
        if done.cancelled() or done.exception() is not None:
            return
        self._finish()
        for event in ahead:
            if isinstance(event, events.Paste):
                self.context.take_paste(event.text)
            else:
                await self.context.take_key(event)

    def holds_back(self, event: events.Key | events.Paste) -> bool:
        """Whether a key or a paste is kept for later, while an edit is under way. Escape leaves the line, whatever
        comes of the edit."""
        if not self.is_waiting or (isinstance(event, events.Key) and event.key == "escape"):
            return False
        if len(self._ahead) < _MOST_AHEAD:
            self._ahead.append(event)
        return True
