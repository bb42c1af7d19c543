"""What came of one exchange."""

from enum import Enum

from msgspec import Struct

from kanaleto.wire.codes import ExceptionCode
from kanaleto.wire.pdu import Answer, Refused

OF_GATEWAY = (ExceptionCode.GATEWAY_PATH_UNAVAILABLE, ExceptionCode.GATEWAY_TARGET_FAILED)


class OutcomeKind(Enum):
    """The value is the word used in JSON."""

    __hash__ = object.__hash__  # members are their own; Enum's hashes its name, in Python, at every look-up

    GOOD = "good"
    EXCEPTION = "exception"
    TIMEOUT = "timeout"
    GARBLED = "garbled"
    UNEXPECTED = "unexpected"
    UNREACHABLE = "unreachable"


class Outcome(Struct, frozen=True, gc=False):
    """One request's only outcome. Times are loop times in seconds: handed over, last byte of the request gone, first
    byte that came back, done. `request` and `answer` are the bytes of the whole frames; `reason` says in words what
    went wrong.

    It is made for every exchange: nothing of it can be part of a cycle, so the collector need not know of it.
    """

    kind: OutcomeKind
    unit_id: int
    request: bytes
    answer: bytes
    content: Answer | None
    asked_at: float
    sent_at: float
    first_at: float
    done_at: float
    reason: str = ""

    @property
    def is_good(self) -> bool:
        return self.kind is OutcomeKind.GOOD

    @property
    def code(self) -> int | None:
        """The exception code, where that is the outcome."""
        return self.content.code if isinstance(self.content, Refused) else None

    @property
    def is_of_gateway(self) -> bool:
        """Whether a gateway says, in its device's place, that nobody is there (application protocol 1.1b3, 7)."""
        return isinstance(self.content, Refused) and self.content.code in OF_GATEWAY

    @property
    def is_answer(self) -> bool:
        """Whether the device itself answered, be it with an exception."""
        return self.kind is OutcomeKind.GOOD or (self.kind is OutcomeKind.EXCEPTION and not self.is_of_gateway)

    @property
    def took_s(self) -> float:
        """From the request's last byte to the answer's last byte."""
        return max(self.done_at - self.sent_at, 0.0)  # a pseudo-terminal may be quicker than its settings
