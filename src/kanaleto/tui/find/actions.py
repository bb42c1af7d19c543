"""What can be done in the view Find."""

from kanaleto.tui.shared.actions import Action

ACTIONS = (
    Action("y", "type_link", "type a link", "type a link, a port or a range of hosts"),
    Action("t", "settings", "try settings", "try the settings of a serial line, the likeliest first"),
    Action("g", "units", "ask units", "ask which units answer, or which hosts of a range"),
    Action("e", "registers", "look for registers", "look for the registers of a unit"),
    Action("o", "listen", "listen only", "listen to another master, without a byte sent; escape stops it"),
    Action("a", "add", "add device", "add what was found as a device, or a word as a point"),
    Action("A", "draft", "add with its registers", "add with a point a register"),
    Action("s", "keep_settings", "keep settings", "keep the settings found for a line of the site"),
    Action("i", "import", "import map", "import a table for the unit in the fields"),
    Action("enter", "open", "read", "read some registers of the unit, or open what the cursor is on", is_found=False),
)
