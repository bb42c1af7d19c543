"""What can be done in the view Find."""

from kanaleto.finding.placestates import PlaceState
from kanaleto.tui.shared.actions import Action, Key

ACTIONS = (
    Action("y", "type_link", "type a link", "type a link, a port or a range of hosts"),
    Action("t", "settings", "try settings", "try the settings of a serial line, the likeliest first"),
    Action("g", "units", "ask units", "ask which units answer, or which hosts of a range"),
    Action("f", "everything", "find everything", "find settings, units, registers and types of a whole line"),
    Action("d", "roll", "which one is it?", "ask the units found in turn, and show large which one is unplugged"),
    Action("e", "registers", "look for registers", "look for the registers of a unit"),
    Action("o", "listen", "listen only", "listen to another master, without a byte sent; escape stops it"),
    Action("a", "add", "add device", "add what was found as a device, or a word as a point"),
    Action("A", "draft", "add with its registers", "add with a point a register"),
    Action("s", "keep_settings", "keep settings", "keep the settings found for a line of the site"),
    Action("w", "write", "write", "write the word that the cursor is on, of a scratch reading"),
    Action("T", "timing", "timeout and pace", "how long surveys here wait for an answer, and between requests"),
    Action("i", "import", "import map", "import a table for the unit in the fields"),
    Action("enter", "open", "read", "read some registers of the unit, or open what the cursor is on", is_found=False),
)

IN_LINK: list[Key] = [("enter", "look there"), ("escape", "to the list")]
IN_FORM: list[Key] = [("enter", "read"), ("tab", "next field"), ("up down", "turn"), ("escape", "go back")]
IN_WORDS: list[Key] = [
    ("w", "write"),
    ("a", "keep as point"),
    ("v", "choose"),
    ("[ ]", "step"),
    ("+ -", "widen"),
    ("{ }", "unit"),
    ("r", "fields"),
]
MORE_KEYS = (
    ("the line to type a link into", tuple(IN_LINK)),
    ("the fields of a scratch reading", tuple(IN_FORM)),
    ("what a scratch reading has brought", tuple(IN_WORDS)),
)


def at_place(state: PlaceState | None) -> list[str]:
    """Which actions matter at a place."""
    settings, listen = (["settings"], ["listen"]) if state is not None and state.is_serial else ([], [])
    return ["open", *settings, "everything", "units", "registers", *listen, "add", "type_link"]
