"""Where a line's answers come from: what is not real never counts as proved, and is reported wherever it is shown."""

from enum import Enum


class Origin(Enum):
    """The value is the word used in files."""

    REAL = "real"
    STAND_IN = "stand-in"  # simulated devices answer
    REPLAY = "replay"
    BRIDGE = "bridge"
    OVERHEARD = "overheard"  # another master asked; nothing was sent
