"""All devices of one map as rows, points as columns."""

from kanaleto.tui.parts.part import PartKind
from kanaleto.tui.shared.actions import Action

KIND = PartKind(
    "across",
    "AcrossPart",
    "across",
    "a",
    "across: all devices of one map as rows, points as columns",
    (
        Action("enter", "go", "to the device", "go to the device in the list"),
        Action("o", "order", "site's order", "the worst first, or in the order of the site"),
    ),
    keys=(("← →", "columns to the left and right"),),
)
