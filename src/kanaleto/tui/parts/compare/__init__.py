"""Side by side: two devices of one map, points that are marked, or what is expected beside what is seen."""

from kanaleto.tui.parts.part import PartKind
from kanaleto.tui.shared.actions import Action

KIND = PartKind(
    "compare",
    "ComparePart",
    "compare",
    "c",
    "compare: points that are marked, two devices of one map, or what is expected",
    (
        Action("c", "next", "compare with", "compare with another device, with each other, with what is expected"),
        Action("less_than_sign", "other(-1)", "another device", "choose the other device", "< >", False),
        Action("greater_than_sign", "other(1)", "another device", "choose the other device", "< >"),
        Action("e", "expect", "expected", "what is expected of the point, as its display or the manual says"),
        Action("o", "only", "only what differs", "only rows that differ"),
        Action("enter", "go", "to the point", "go to the point in the list"),
    ),
)
