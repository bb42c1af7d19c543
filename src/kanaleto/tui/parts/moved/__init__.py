"""What moved: from now on, points ranked by how much they change."""

from kanaleto.tui.parts.part import PartKind
from kanaleto.tui.shared.actions import Action

KIND = PartKind(
    "moved",
    "MovedPart",
    "what moved",
    "m",
    "what moved: from now on, points ranked by how much they change",
    (
        Action("enter", "go", "to the point", "go to the point in the list"),
        Action("b", "bare", "bare words too", "watch registers of a device as bare words, named or not"),
        Action("a", "name_it", "make it a point", "make the word that moved a point of the device's map"),
        Action("p", "pin", "pin to trend", "pin the point to the trend"),
    ),
)
