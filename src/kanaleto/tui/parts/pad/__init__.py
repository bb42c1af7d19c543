"""The pad of a device: commands, status, set points, routines, last writes."""

from kanaleto.tui.parts.part import PartKind
from kanaleto.tui.shared.actions import Action

KIND = PartKind(
    "pad",
    "PadPart",
    "pad",
    "W",
    "the pad of the device: commands, status, set points, routines, last writes",
    (
        Action("enter", "act", "write or run", "write what the cursor is on, or run the routine"),
        Action("w", "write", "write", "write what the cursor is on"),
        Action(
            "K", "keep", "keep alive", "keep it alive: repeated until it is stopped; on what is kept alive: stop it"
        ),
        Action("tab", "section(1)", "next part", "the next part of the pad", is_found=False),
        Action("shift+tab", "section(-1)", "part before", is_found=False),
        Action("d", "dry", "dry run", "what the routine would send, without sending it"),
    ),
    needs_device=True,
)
