"""The shape of a view: a digit, a title, its actions, and how it shows a snapshot. The application knows views only as
these."""

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any, ClassVar

from textual.binding import Binding

from kanaleto.board.snapshot import Snapshot
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.pane import Drawn


class View(Drawn):
    """Subclasses name `digit`, `title` and `actions`, and draw. They reach the rest by `context`, and other views by
    messages."""

    digit: ClassVar[str] = ""
    title: ClassVar[str] = ""
    about: ClassVar[str] = ""
    """What one goes there for, in the palette."""
    actions: ClassVar[tuple[Action, ...]] = ()
    more_keys: ClassVar[tuple[tuple[str, tuple[Key, ...]], ...]] = ()
    """Keys of its parts, for the page of keys: where they work, and what they do."""
    DEFAULT_CSS = "View { height: 100%; width: 100%; }"

    def __init_subclass__(cls, **arguments: Any) -> None:
        bindings = [
            Binding(action.keys, action.do, show=False) for action in cls.__dict__.get("actions", ()) if action.keys
        ]
        if bindings:
            cls.BINDINGS = [*cls.__dict__.get("BINDINGS", []), *bindings]
        beside = Path(sys.modules[cls.__module__].__file__ or "").with_suffix(".tcss")
        if beside.is_file() and "DEFAULT_CSS" not in cls.__dict__:
            cls.DEFAULT_CSS = beside.read_text(encoding="utf-8")
        super().__init_subclass__(**arguments)

    def show(self, snapshot: Snapshot) -> None:
        """Draw from this one, and from no other, until the next."""
        self.shown = snapshot

    def keys_here(self) -> list[Key]:
        """The keys that matter here and now, with verbs."""
        return [(action.key, action.verb) for action in self.actions]

    def keys_of(self, *names: str, **verbs: str) -> list[Key]:
        """Some actions by name, with other verbs where they say something else here and now."""
        by_name = {action.name: action for action in self.actions}
        return [(by_name[name].key, verbs.get(name, by_name[name].verb)) for name in names]

    def focus_rows(self) -> None:
        """Give the keys to the main thing."""
        self.screen.set_focus(self if self.can_focus else None)

    def open_filter(self) -> None:
        """`/`."""

    def back(self) -> None:
        """`escape`."""

    def would_be_lost(self) -> list[str]:
        """What is under way here, and would be lost by quitting, in words."""
        return []

    def close(self) -> None:
        """The application ends."""

    @property
    def device_here(self) -> str:
        """The device that the cursor is on or in; nothing where it is on none."""
        return next((device for device, _ in self.about_here()), "")

    def about_here(self) -> Iterator[tuple[str, str]]:
        """Device and point that the cursor is on, for what the palette offers; nothing where it is on none."""
        yield from ()
