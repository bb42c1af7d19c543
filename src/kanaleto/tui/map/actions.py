"""What can be done in the view Map."""

from kanaleto.tui.shared.actions import Action

ACTIONS = (
    Action("d", "display", "what the display says", "what the display on the device says"),
    Action("b", "take_best", "take reading", "take the reading that is marked, mark another", "b  < >"),
    Action(
        "less_than_sign",
        "candidate(-1)",
        "choose it",
        "take the reading that is marked, mark another",
        "b  < >",
        False,
    ),
    Action(
        "greater_than_sign",
        "candidate(1)",
        "choose it",
        "take the reading that is marked, mark another",
        "b  < >",
        False,
    ),
    Action("z", "off_by_one", "off by one?", "off by one? The words one address up and down, decoded the same way"),
    Action("Z", "move_point", "move it there", "move the point one address up or down, where off by one was right"),
    Action("a", "add", "add", "add points; in the list of devices: add a device by its unit ID"),
    Action("", "add_device", "add a device by its unit ID"),
    Action("c", "change", "change", "change cells, of the point or of all that are marked"),
    Action("C", "copy", "copy", "copy the point"),
    Action("delete,backspace", "delete", "delete", "delete the point, or all that are marked"),
    Action("w", "write", "write", "write the point, or all that are marked"),
    Action("A", "writable", "make writable", "make the point, or all that are marked, writable: asked once"),
    Action("v", "mark", "mark", "mark points: what changes or deletes does so to all of them"),
    Action("F", "fit", "fit the scale", "fit the scale to what the display shows"),
    Action("i", "import", "import map", "import a table or description; a pasted table is imported too"),
    Action(
        "M", "another_map", "another map", "another map for the device: points are found again and keep their names"
    ),
    Action("x", "export", "export map", "export the map"),
    Action(
        "B", "stand_in", "stand in",
        "stand in for the device on a free port of this machine, beside polling (5 Bench); again: end it",
    ),
    Action("I", "instead", "instead of it", "lead its line to what stands in for it, nothing is saved; again: back"),
    Action("y", "clipboard", "copy rows", "copy rows with words and values"),
    Action("enter", "open", "open point", "on a narrow screen: open the point", is_found=False),
)  # fmt: skip
MORE_KEYS = (
    (
        "the list of devices",
        (
            ("a", "add a device by its unit ID, to the line of the one that the cursor is on"),
            ("c", "its settings: name, unit, line, numbering, periods, timeouts, limits, notes"),
            ("C", "copy the device with its map, as another unit"),
            ("delete", "take the device out of the site"),
        ),
    ),
    (
        "a table that is imported",
        (
            ("enter", "take over what is shown"),
            ("f", "what a column is, from a list"),
            ("left right", "the next field that no other column is"),
            ("x", "leave the column out"),
            ("n", "how its addresses count"),
            ("m", "points whose names are there: leave, replace or add"),
            ("s", "the next sheet"),
            ("g", "guess again what the columns are"),
        ),
    ),
    (
        "another map for a device",
        (
            ("enter", "take over what is settled"),
            ("< >", "another point in its place"),
            ("delete", "nothing in its place"),
        ),
    ),
)
