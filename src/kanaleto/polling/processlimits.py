"""How a process that polls is set: open files, the collector of cycles, and threads that give way to each other."""

import sys

from kanaleto.lines.openfiles import raise_limit
from kanaleto.supervision.collector import settle

SWITCH_INTERVAL_S = 0.0002  # a busy interface thread gives way to the engine after this long


def prepare_process() -> None:
    """Make a process ready to poll."""
    raise_limit()
    settle()
    sys.setswitchinterval(SWITCH_INTERVAL_S)
