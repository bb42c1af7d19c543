"""What is under way on a channel, what went over it, and what belonged to nobody."""

from collections.abc import Callable

from msgspec import Struct, field

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.wire.frames import Frame, Framing
from kanaleto.wire.pdu import Request

_SHORTEST_FRAME = 4
LONGEST_FRAME = {"rtu": 256, "ascii": 513, "tcp": 260}
"""Characters, by framing (serial line 1.02, 2.5.1 and 2.5.2; messaging guide, 3.1.2)."""
LONGEST_PAUSE_S = {"rtu": 0.25, "ascii": 1.0, "tcp": 0.25}
"""Inside a frame, whose rest is waited for so long: ASCII bears a second (serial line 1.02, 2.5.2.1), a busy machine or
a radio link needs some of it elsewhere."""
SLOWEST_CHARACTER_S = 11 / 300
"""Of a serial line that may be behind a stream."""

OnDone = Callable[[Outcome], None]
OnStray = Callable[[OutcomeKind, bytes, str, float], None]
"""Bytes that are no request's answer: unexpected or garbled, why, and when they came."""
OnLate = Callable[[Frame, float], None]
"""An answer to a request that had been given up, known by its transaction, and how many seconds after it."""


class Waiting(Struct):
    """A request in flight."""

    unit_id: int
    request: Request
    frame: bytes
    on_done: OnDone
    asked_at: float
    starts_at: float
    sent_at: float
    deadline: float
    first_at: float = 0.0
    has_grace: bool = False
    is_broadcast: bool = False
    strange: tuple[OutcomeKind, bytes, str, float] | None = None
    """What came instead, why it is none, and when."""

    def looks_answered_by(self, raw: bytes, framing: Framing) -> bool:
        """Whether garbled bytes are most likely the answer itself, spoilt: it has come then, and need not be waited
        for. Anything else is noise, and the answer may still come."""
        if framing.has_transactions or len(raw) < _SHORTEST_FRAME:
            return False
        head = 5 if framing.name == "ascii" else 2  # unit and function
        return raw[:head] == self.frame[:head]


class Strays(Struct):
    """Frames and bytes that belonged to no request."""

    late: int = 0
    late_unit_id: int = 0  # whose the last one was, by itself
    unasked: int = 0
    bytes: int = 0
    gateway_late_s: float = 0.0  # how long after the request a gateway's 0A or 0B came, when it came too late


class Traffic(Struct):
    """Bytes that went out and came in."""

    sent: int = 0
    received: int = 0
    strays: Strays = field(default_factory=Strays)
