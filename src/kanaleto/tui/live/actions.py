"""What can be done in the view Live, and in the parts that take the place of its list."""

from collections.abc import Iterator

from kanaleto.tui.shared.actions import Action, Key

ACTIONS = (
    Action("enter", "open", "open point", "open the point: its chain, its figures, its limits, what brought it"),
    Action("w", "write", "write", "write the point, or all that are marked; on a device: its pad"),
    Action("W", "pad", "pad", "the pad of the device: commands, status, set points, routines, last writes"),
    Action("S", "held", "snapshots", "snapshots of the device: what it held then and now, and the way back"),
    Action("p", "pin", "pin to trend", "pin the point, or all that are marked, to the trend, or take it off"),
    Action("t", "trend", "trend", "the trend of the pinned points, of now and of what was recorded"),
    Action("m", "moved", "what moved", "what moved: from now on, points ranked by how much they change"),
    Action("s", "sort", "sort", "sort: by device, name, how much it moves, age, how near its limit"),
    Action("o", "only", "only", "only what changed, only what is bad, only what is past a limit"),
    Action("f", "fold", "fold device", "fold the points of a device away, or open them"),
    Action("F", "fold_all", "fold all devices", "fold all devices, or open them"),
    Action("A", "writable", "make writable", "make the point, or all that are marked, writable: asked once"),
    Action("v", "mark", "mark", "mark points: to pin, compare, or lay across"),
    Action("V", "mark_device", "mark all of a device", "mark all points of a device"),
    Action("c", "compare", "compare", "compare: points that are marked, two devices of one map, or what is expected"),
    Action("a", "across", "across", "across: all devices of one map as rows, points as columns"),
    Action("b", "past", "past a limit", "what is past a limit, since when, and who has seen it"),
    Action("z", "figures", "figures from now on", "least, most, mean, slope and noise of the open point from now on"),
    Action("i", "exchange", "its exchange", "the exchange that brought the point, in Wire"),
    Action("x", "export", "export", "export what is shown, for paper: trend, values, comparison"),
)

TREND = (
    Action("v", "mark", "mark", "set the mark at the cursor: differences are told to it; again takes it off"),
    Action("percent_sign", "scale", "scale", "one scale, each its own, or per cent of range", shown="%"),
    Action("g", "live", "go live", "follow what is read now"),
    Action("d", "today", "today's definition", "read old words, recorded under another definition, with today's"),
    Action("p", "unpin", "take off", "take the chosen point off the trend"),
    Action("enter", "exchanges", "exchanges then", "what was exchanged at the cursor, and how the lines were"),
)

MOVED = (
    Action("enter", "go", "to the point", "go to the point in the list"),
    Action("b", "bare", "bare words too", "watch registers of a device as bare words, named or not"),
    Action("a", "name_it", "make it a point", "make the word that moved a point of the device's map"),
    Action("p", "pin", "pin to trend", "pin the point to the trend"),
)

COMPARE = (
    Action("c", "next", "compare with", "compare with another device, with each other, with what is expected"),
    Action("less_than_sign", "other(-1)", "another device", "choose the other device", "< >", False),
    Action("greater_than_sign", "other(1)", "another device", "choose the other device", "< >"),
    Action("e", "expect", "expected", "what is expected of the point, as its display or the manual says"),
    Action("o", "only", "only what differs", "only rows that differ"),
    Action("enter", "go", "to the point", "go to the point in the list"),
)

ACROSS = (
    Action("enter", "go", "to the device", "go to the device in the list"),
    Action("o", "order", "site's order", "the worst first, or in the order of the site"),
)

PAST = (
    Action("enter", "then", "trend then", "the point's trend at the moment when it passed its limit"),
    Action("s", "seen", "seen", "it was seen: a note may say what is done about it; it goes into the journal"),
    Action("S", "all_seen", "all seen", "all of them were seen"),
    Action("y", "go", "to the point", "go to the point in the list"),
)

PAD = (
    Action("enter", "act", "write or run", "write what the cursor is on, or run the routine"),
    Action("w", "write", "write", "write what the cursor is on"),
    Action("K", "keep", "keep alive", "keep it alive: repeated until it is stopped; on what is kept alive: stop it"),
    Action("tab", "section(1)", "next part", "the next part of the pad", is_found=False),
    Action("shift+tab", "section(-1)", "part before", is_found=False),
    Action("d", "dry", "dry run", "what the routine would send, without sending it"),
)

HELD = (
    Action("s", "save", "save a snapshot", "save what the device holds now"),
    Action("less_than_sign", "other(1)", "another snapshot", "an earlier snapshot, a later one", "< >", False),
    Action("greater_than_sign", "other(-1)", "another snapshot", "an earlier snapshot, a later one", "< >"),
    Action("f", "file", "from a file", "compare with a file: a snapshot, defaults, a list of what is required"),
    Action("c", "copy", "another device", "compare with what another device holds now"),
    Action("w", "restore", "write back", "write back what differs, in the snapshot's order"),
    Action("o", "only", "only what can be written", "only what can be written, or all values"),
    Action("enter", "go", "to the point", "go to the point in the list"),
)

_PARTS = (
    ("held", "snapshots", HELD),
    ("pad", "pad", PAD),
    ("trend", "trend", TREND),
    ("moved", "what moved", MOVED),
    ("compare", "compare", COMPARE),
    ("across", "across", ACROSS),
    ("past", "past a limit", PAST),
)
_MOVING: dict[str, tuple[Key, ...]] = {
    "trend": (
        ("← →", "move the cursor; with shift by ten"), ("up down", "choose the curve whose axis and figures are shown"),
        ("+ -", "zoom"), ("[ ]", "earlier, later; page up and page down by a whole screen"),
    ),
    "across": (("← →", "columns to the left and right"),),
}  # fmt: skip

PART_KEYS = tuple(
    (title, (*_MOVING.get(name, ()), *dict.fromkeys((action.key, action.told or action.verb) for action in actions)))
    for name, title, actions in _PARTS
)
"""For the page of keys."""


def part_actions() -> Iterator[Action]:
    """For the palette: they go to the part first. Their keys work there alone."""
    for name, title, actions in _PARTS:
        for action in actions:
            if action.is_found:
                yield Action("", f"in_part('{name}', '{action.do}')", f"{title}: {action.verb}", shown=action.key)
