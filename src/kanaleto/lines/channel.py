"""A channel carries bytes to the far end and back; it knows nothing of frames. Everything behind it may use threads."""

from collections.abc import Callable
from enum import Enum
from typing import Protocol

from kanaleto.lines.portcounters import PortCounters

OnData = Callable[[bytes, float], None]
"""Bytes that came, and the loop time at which the last of them came."""
OnLost = Callable[[str], None]
"""The channel is gone: why, in words."""


class Cause(Enum):
    """Why a link cannot be reached."""

    REFUSED = "refused"
    NO_ROUTE = "no route"
    ADAPTER_DOWN = "own adapter down"
    NO_NAME = "no such name"
    NO_ANSWER = "no answer"
    NO_PORT = "no such port"
    HELD = "port held"
    PERMISSION = "no permission"
    LOST = "connection lost"
    TLS = "no secure connection"
    OTHER = "other"


class Unreachable(Exception):
    """No connection, or no port. The text is one sentence for people."""

    def __init__(self, text: str, cause: Cause = Cause.OTHER) -> None:
        super().__init__(text)
        self.cause = cause


class Channel(Protocol):
    """All calls come from the loop's thread."""

    @property
    def character_s(self) -> float:
        """Seconds that one byte takes on the wire; 0 where the link has no such speed."""

    @property
    def gap_s(self) -> float:
        """Least silence between two frames."""

    @property
    def keeps_time(self) -> bool:
        """Whether bytes really take that long, so that none can come sooner."""

    @property
    def is_datagram(self) -> bool:
        """Whether each delivery is a whole frame or none."""

    @property
    def is_open(self) -> bool: ...

    async def open(self, on_data: OnData, on_lost: OnLost) -> None:
        """Connect. Raises Unreachable."""

    def empty(self) -> None:
        """Deliver what is readable now, before a request is written: it is no answer to that. Where that cannot be done
        at once, what is delivered for it later has a time before now."""

    def write(self, data: bytes, not_before: float) -> float:
        """Send `data` at loop time `not_before` (0 for now) or as soon after as can be; gives the time its last byte
        will have left, which where bytes take no time is `not_before`."""

    def drop(self) -> None:
        """What was written and may wait on its way is not sent any more once the channel is closed, which follows. A
        network connection would deliver it minutes later."""

    def counted(self) -> PortCounters | None:
        """What its port itself has counted since it was opened; None where it counts nothing."""

    def close(self) -> None:
        """Close at once; nothing is delivered any more."""
