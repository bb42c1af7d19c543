"""A part of Live: it takes the list's place for a while, with keys of its own."""

from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING, ClassVar, NamedTuple, cast

from msgspec import Struct
from textual import actions

from kanaleto.planning.plan import Identity
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.view import View

if TYPE_CHECKING:
    from kanaleto.tui.parts.trend.data import TrendData


class Doors(NamedTuple):
    """What a part may ask of Live; `data` is what is pinned."""

    data: "TrendData"
    leave: Callable[[], None]
    go_to: Callable[[Identity], None]
    pin: Callable[[Identity], None]
    unpin: Callable[[Identity], None]
    device_here: Callable[[], str]


class PartKind(Struct, frozen=True):
    """A part before it is made: its name, which is that of its folder; its class in `pane` there; its title, the key of
    Live that opens it, what the page of keys says of that, what can be done in it, and keys that are no actions."""

    name: str
    pane: str
    title: str
    key: str
    help_text: str
    actions: tuple[Action, ...]
    keys: tuple[Key, ...] = ()
    needs_device: bool = False

    def make(self, doors: Doors) -> "Part":
        """Loads its module: what it needs costs a start too much."""
        return cast(Part, getattr(import_module(f"kanaleto.tui.parts.{self.name}.pane"), self.pane)(doors))

    @property
    def opens(self) -> Action:
        """Live's action that opens it."""
        return Action(self.key, f"part('{self.name}')", self.title, self.help_text, called=self.name)

    @property
    def page(self) -> tuple[str, tuple[Key, ...]]:
        """For the page of keys."""
        keys = dict.fromkeys((action.key, action.help_text or action.verb) for action in self.actions)
        return self.title, (*self.keys, *keys)


class Part(View):
    kind: ClassVar[PartKind]
    DEFAULT_CSS = "Part { height: 1fr; width: 1fr; layout: vertical; }"

    def __init__(self, doors: Doors) -> None:
        super().__init__()
        self.doors = doors

    def begin(self, device: str, marked: list[Identity]) -> None:
        """It is opened, with what the cursor was on and what is marked."""

    def leave(self) -> None:
        """Go back to where one came from."""
        self.doors.leave()

    def back(self) -> None:
        self.leave()

    def action_write(self) -> object:
        """`w`, in parts where something can be written."""
        self.context.tell("nothing can be written here")
        return None

    def perform(self, action: str) -> object:
        """Do one of its actions, as it stands in its list."""
        _, name, parameters = actions.parse(action)
        return getattr(self, f"action_{name}")(*parameters)
