"""The trend of the pinned points, of now and of what was recorded."""

from kanaleto.tui.parts.part import PartKind
from kanaleto.tui.shared.actions import Action

KIND = PartKind(
    "trend",
    "TrendPane",
    "trend",
    "t",
    "the trend of the pinned points, of now and of what was recorded",
    (
        Action("v", "mark", "mark", "set the mark at the cursor: differences are counted from it; again takes it off"),
        Action("percent_sign", "scale", "scale", "one scale, each its own, or per cent of range", shown="%"),
        Action("g", "live", "go live", "follow what is read now"),
        Action("d", "today", "today's definition", "read old words, recorded under another definition, with today's"),
        Action("p", "unpin", "take off", "take the chosen point off the trend"),
        Action("enter", "exchanges", "exchanges then", "what was exchanged at the cursor, and how the lines were"),
    ),
    keys=(
        ("← →", "move the cursor; with shift by ten"),
        ("up down", "choose the curve whose axis and figures are shown"),
        ("+ -", "zoom"),
        ("[ ]", "earlier, later; page up and page down by a whole screen"),
    ),
)
