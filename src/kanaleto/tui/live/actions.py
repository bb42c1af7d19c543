"""What can be done in the view Live, and in the parts that take the place of its list."""

from collections.abc import Iterator

from kanaleto.tui.parts import PARTS
from kanaleto.tui.shared.actions import Action

ACTIONS = (
    Action("enter", "open", "open point", "open the point: its chain, its figures, its limits, what brought it"),
    Action("w", "write", "write", "write the point, or all that are marked; on a device: its pad"),
    *(kind.opens for kind in PARTS),
    Action("p", "pin", "pin to trend", "pin the point, or all that are marked, to the trend, or take it off"),
    Action("s", "sort", "sort", "sort: by device, name, how much it moves, age, how near its limit"),
    Action("o", "only", "only", "only what changed, only what is bad, only what is past a limit"),
    Action("f", "fold", "fold device", "fold the points of a device away, or open them"),
    Action("F", "fold_all", "fold all devices", "fold all devices, or open them"),
    Action("A", "writable", "make writable", "make the point, or all that are marked, writable: asked once"),
    Action("v", "mark", "mark", "mark points: to pin, compare, or lay across"),
    Action("V", "mark_device", "mark all of a device", "mark all points of a device"),
    Action("z", "figures", "figures from now on", "least, most, mean, slope and noise of the open point from now on"),
    Action("i", "exchange", "its exchange", "the exchange that brought the point, in Wire"),
    Action("x", "export", "export", "export what is shown, for paper: trend, values, comparison"),
)


def part_actions() -> Iterator[Action]:
    """For the palette: they go to the part first. Their keys work there alone."""
    for kind in PARTS:
        for action in kind.actions:
            if action.is_found:
                do = f"in_part('{kind.name}', '{action.do}')"
                yield Action("", do, f"{kind.title}: {action.verb}", shown=action.key)
