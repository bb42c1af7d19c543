"""What can be done in the view Bench."""

from kanaleto.tui.shared.actions import Action

ACTIONS = (
    Action(
        "B", "stand_in", "stand in",
        "stand in for the device, or for all of the line, on a free port of this machine beside polling; again: end it",
    ),
    Action("I", "instead", "instead of it", "lead the line to what stands in for it, nothing is saved; again: back"),
    Action("enter", "open", "set by hand", "set the register by hand, “40 in 20 s” slowly; switch the fault", "enter"),
    Action("left_square_bracket", "nudge(-1)", "less", "a step less or more, by hand", "[ ]", False),
    Action("right_square_bracket", "nudge(1)", "more", "a step less or more, by hand", "[ ]", False),
    Action("f", "freeze", "freeze", "let the register stand still, or give it back to what moves it"),
    Action("z", "undo_hand", "undo by hand", "take back what was done by hand last"),
    Action("y", "rehearse", "rehearse", "play a rehearsal and judge what the master does; again: end it"),
    Action("x", "export", "export", "export what masters asked and wrote, as CSV"),
)  # fmt: skip
MORE_KEYS = (("faults", (("enter", "switch the fault on or off"),)),)
