"""Whoever has the answers to what a server is asked: simulated devices at once, others when they have them."""

from collections.abc import Awaitable
from inspect import isawaitable
from typing import Protocol, TypeGuard

Answer = bytes | None | Awaitable[bytes | None]
"""A PDU, None for silence, or either of them later."""


class Answerer(Protocol):
    """What stands behind a server."""

    @property
    def name(self) -> str:
        """What is served, for messages."""
        ...

    @property
    def delimiter(self) -> int:
        """What ends an ASCII request on this line; a master may have changed it."""
        ...

    def answer(self, unit_id: int, pdu: bytes) -> Answer: ...

    def note_garbled(self) -> None:
        """Bytes came that were no frame."""
        ...


def is_later(answer: Answer) -> TypeGuard[Awaitable[bytes | None]]:
    return isawaitable(answer)
