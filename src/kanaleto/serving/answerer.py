"""Whoever has the answers to what a server is asked: simulated devices at once, others when they have them; and who
asks."""

from abc import ABC, abstractmethod
from collections.abc import Awaitable, Callable, Sequence
from typing import TypeGuard

from msgspec import Struct

from kanaleto.wire.ascii import LINE_FEED

Encode = Callable[[int, bytes], bytes]
"""Unit ID and PDU; gives the whole frame that answers the request at hand: with its transaction, with check bytes."""

Pieces = Sequence[tuple[float, bytes]]
"""Bytes as they go out, each so many seconds after the answer might begin."""


class Master(Struct, eq=False):
    """Who asks, for as long as it is there: the address and port of a connection, or the port of a serial line; on
    which line; the role in its certificate, if it has one."""

    name: str
    line: str
    role: str = ""


NOBODY = Master("", "")


class ShapedAnswer(Struct, gc=False):
    """More than a PDU: later than the line itself makes it, as other bytes than the frame of that PDU (`shape` makes
    them), and with an end to the connection behind it, where there is one. Without a PDU and a shape it is silence."""

    unit_id: int
    pdu: bytes | None
    delay_s: float = 0.0
    shape: Callable[[Encode, "ShapedAnswer"], Pieces] | None = None
    hangs_up: bool = False

    def pieces(self, encode: Encode) -> Pieces:
        """The bytes of it, with their times."""
        if self.shape is not None:
            return [(self.delay_s + after_s, data) for after_s, data in self.shape(encode, self)]
        return [(self.delay_s, encode(self.unit_id, self.pdu))] if self.pdu is not None else []


Answer = bytes | ShapedAnswer | None
"""A PDU, more than that, or None for silence."""

AnyAnswer = Answer | Awaitable[Answer]
"""The same, or either of them later."""


class Answerer(ABC):
    """What stands behind a server."""

    is_strict = False
    """Whether somebody here wants frames as the standard has them: in one piece, between silences (serial line 1.02,
    2.5.1)."""

    @property
    @abstractmethod
    def name(self) -> str:
        """What is served, for messages."""

    @property
    def delimiter(self) -> int:
        """What ends an ASCII request on this line; a master may have changed it."""
        return LINE_FEED

    @abstractmethod
    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> AnyAnswer: ...

    def answer_unclean(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> AnyAnswer:
        """A request that came with pauses in it, or not alone; only where somebody is strict."""
        return self.answer(unit_id, pdu, master)

    def note_twin(self, unit_id: int) -> None:
        """Somebody else answers on the bus under a unit ID that may be ours."""
        return

    @abstractmethod
    def note_garbled(self) -> None:
        """Bytes came that were no frame."""


def is_later(answer: AnyAnswer) -> TypeGuard[Awaitable[Answer]]:
    return answer is not None and type(answer) is not bytes and type(answer) is not ShapedAnswer
