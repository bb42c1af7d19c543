"""What takes the place of Live's list for a while: one folder a part, and one line here. Nothing of a part is loaded
before it is wanted but what can be done in it."""

from kanaleto.tui.parts import across, compare, held, moved, pad, past, trend

PARTS = (pad.KIND, held.KIND, trend.KIND, moved.KIND, compare.KIND, across.KIND, past.KIND)
