"""All devices of one map as rows, points as columns."""

from kanaleto.tui.parts.part import Doors, Part, PartKind
from kanaleto.tui.shared.actions import Action


def _make(doors: Doors) -> Part:
    from kanaleto.tui.parts.across.pane import AcrossPart

    return AcrossPart(doors)


KIND = PartKind(
    "across",
    "across",
    "a",
    "across: all devices of one map as rows, points as columns",
    (
        Action("enter", "go", "to the device", "go to the device in the list"),
        Action("o", "order", "site's order", "the worst first, or in the order of the site"),
    ),
    _make,
    keys=(("← →", "columns to the left and right"),),
)
