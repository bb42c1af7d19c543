"""Where a line's answers come from: what is not real never counts as proved, and is told wherever it is shown."""

import os
from enum import Enum

from kanaleto.site.links.link import is_loopback
from kanaleto.site.model import Line


class Origin(Enum):
    """The value is the word used in files."""

    REAL = "real"
    STAND_IN = "stand-in"  # simulated devices answer
    REPLAY = "replay"
    BRIDGE = "bridge"
    OVERHEARD = "overheard"  # another master asked; nothing was sent


def origin_of(line: Line) -> Origin:
    """What the site says of the line; else a pseudo-terminal and the loopback address are a stand-in, all else is
    real. It looks at the disk."""
    if line.origin:
        return Origin(line.origin)
    address, port = line.link.address, line.link.local_port
    if address is not None:
        return Origin.STAND_IN if is_loopback(address[0]) else Origin.REAL
    return Origin.STAND_IN if port is not None and _is_pseudo_terminal(port) else Origin.REAL


def _is_pseudo_terminal(port: str) -> bool:
    real = os.path.realpath(port)
    return real.startswith(("/dev/pts/", "/dev/ttys"))
