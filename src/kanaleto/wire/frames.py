"""What decoders give: whole frames, and bytes that are none. A framing error is an event with its bytes, never lost."""

from enum import Enum
from typing import Protocol

from msgspec import Struct


class Role(Enum):
    """Which half of the traffic a decoder reads."""

    REQUESTS = "requests"
    ANSWERS = "answers"


class Frame(Struct, frozen=True, gc=False):
    """A sound frame: check bytes right, length right. `transaction` is None where the framing has none."""

    unit_id: int
    pdu: bytes
    raw: bytes
    transaction: int | None = None


class Garbled(Struct, frozen=True):
    """Bytes that are no frame, and why. After a fatal one the stream cannot be read on."""

    raw: bytes
    reason: str
    fatal: bool = False


Event = Frame | Garbled


class Decoder(Protocol):
    """An incremental decoder of one direction of one stream; holds at most a bounded number of bytes."""

    def feed(self, data: bytes) -> list[Event]:
        """Take bytes as they come, in any pieces."""

    def silence(self) -> list[Event]:
        """The line has been quiet longer than a frame may pause: settle what is held."""

    def reset(self) -> None:
        """Forget what is held."""

    def drop(self) -> bytes:
        """The same, and give it back."""

    def end_with(self, delimiter: int) -> list[Event]:
        """The character that ends a frame from now on, where the framing has one (ASCII, diagnostics sub-function 3);
        gives what it ends of the bytes that are held."""

    @property
    def held(self) -> int:
        """Bytes held back, waiting for more."""

    @property
    def lacks_bytes(self) -> bool:
        """Whether what is held is the beginning of a frame whose rest may still come."""


class Framing(Protocol):
    """How PDUs are wrapped on a link."""

    @property
    def name(self) -> str: ...

    @property
    def has_transactions(self) -> bool: ...

    def encode(self, unit_id: int, pdu: bytes, transaction: int = 0) -> bytes: ...

    def decoder(self, role: Role) -> Decoder: ...


def unit_of(framing: str, raw: bytes) -> int:
    """The unit ID that bytes would have, if they were the beginning of a frame; 0 where there is none."""
    if framing == "ascii":
        try:
            return bytes.fromhex(raw[1:3].decode("ascii"))[0] if raw[:1] == b":" else 0
        except (ValueError, IndexError):
            return 0
    at = 6 if framing == "tcp" else 0
    return raw[at] if len(raw) > at else 0


def pdu_of(framing: str, raw: bytes) -> bytes:
    """The PDU in the bytes of a sound frame."""
    if framing == "tcp":
        return raw[7:]
    return bytes.fromhex(raw[1:-2].decode("ascii"))[1:-1] if framing == "ascii" else raw[1:-2]
