"""Snapshots of a device: what it held then and now, and the way back."""

from kanaleto.tui.parts.part import PartKind
from kanaleto.tui.shared.actions import Action

KIND = PartKind(
    "held",
    "HeldPart",
    "snapshots",
    "S",
    "snapshots of the device: what it held then and now, and the way back",
    (
        Action("s", "save", "save a snapshot", "save what the device holds now"),
        Action("less_than_sign", "other(1)", "another snapshot", "an earlier snapshot, a later one", "< >", False),
        Action("greater_than_sign", "other(-1)", "another snapshot", "an earlier snapshot, a later one", "< >"),
        Action("f", "file", "from a file", "compare with a file: a snapshot, defaults, a list of what is required"),
        Action("c", "copy", "another device", "compare with what another device holds now"),
        Action("w", "restore", "write back", "write back what differs, in the snapshot's order"),
        Action("o", "only", "only what can be written", "only what can be written, or all values"),
        Action("enter", "go", "to the point", "go to the point in the list"),
    ),
    needs_device=True,
)
