"""What is past a limit now, since when, and who has seen it."""

from kanaleto.tui.parts.part import PartKind
from kanaleto.tui.shared.actions import Action

KIND = PartKind(
    "past",
    "PastPart",
    "past a limit",
    "b",
    "what is past a limit, since when, and who has seen it",
    (
        Action("enter", "then", "trend then", "the point's trend at the moment when it passed its limit"),
        Action("s", "seen", "seen", "it was seen: a note may say what is done about it; it goes into the journal"),
        Action("S", "all_seen", "all seen", "all of them were seen"),
        Action("y", "go", "to the point", "go to the point in the list"),
    ),
)
