"""What can be done, in one place: from a list of these come bindings, key row, `?` page and palette."""

from msgspec import Struct


class Action(Struct, frozen=True):
    """`do` is the action's method without `action_`, maybe with arguments; `verb` what the key row and the palette say,
    `help_text` what the page of keys says (the verb where it is empty). `shown` is how the keys are written there;
    several actions with one `shown` and `help_text` are one row. `is_found` tells whether the palette has it; `called`
    is its name where that is not its method's."""

    keys: str
    do: str
    verb: str
    help_text: str = ""
    shown: str = ""
    is_found: bool = True
    called: str = ""

    @property
    def key(self) -> str:
        """How the key is written."""
        return self.shown or self.keys.split(",")[0]

    @property
    def name(self) -> str:
        return self.called or self.do.partition("(")[0]


Key = tuple[str, str]
"""A key as it is written, and a verb."""
