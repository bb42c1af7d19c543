"""What is under way on a channel, what went over it, and what belonged to nobody."""

from collections.abc import Callable
from dataclasses import dataclass, field

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.wire.frames import Frame
from kanaleto.wire.pdu import Request

OnDone = Callable[[Outcome], None]
OnLate = Callable[[Frame, float], None]
"""An answer to a request that had been given up, known by its transaction, and how many seconds after it."""


@dataclass(slots=True)
class Waiting:
    """A request in flight."""

    unit_id: int
    request: Request
    frame: bytes
    on_done: OnDone
    asked_at: float
    starts_at: float
    sent_at: float
    deadline: float
    cap: float
    first_at: float = 0.0
    has_grace: bool = False
    is_broadcast: bool = False
    strange: tuple[OutcomeKind, bytes, str] | None = None


@dataclass(slots=True)
class Strays:
    """Frames and bytes that belonged to no request."""

    late: int = 0
    unasked: int = 0
    bytes: int = 0
    gateway_late_s: float = 0.0  # how long after the request a gateway's 0A or 0B came, when it came too late


@dataclass(slots=True)
class Traffic:
    """Bytes that went out and came in."""

    sent: int = 0
    received: int = 0
    strays: Strays = field(default_factory=Strays)
