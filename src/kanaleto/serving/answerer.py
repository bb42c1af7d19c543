"""Whoever has the answers to what a server is asked: simulated devices at once, others when they have them."""

from abc import ABC, abstractmethod
from collections.abc import Awaitable
from typing import TypeGuard

from kanaleto.wire.ascii import LINE_FEED

Answer = bytes | None | Awaitable[bytes | None]
"""A PDU, None for silence, or either of them later."""


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
    def answer(self, unit_id: int, pdu: bytes) -> Answer: ...

    def answer_unclean(self, unit_id: int, pdu: bytes) -> Answer:
        """A request that came with pauses in it, or not alone; only where somebody is strict."""
        return self.answer(unit_id, pdu)

    @abstractmethod
    def note_garbled(self) -> None:
        """Bytes came that were no frame."""


def is_later(answer: Answer) -> TypeGuard[Awaitable[bytes | None]]:
    return answer is not None and type(answer) is not bytes
