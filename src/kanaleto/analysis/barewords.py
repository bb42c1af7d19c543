"""Registers of a device as bare words: what was read of them."""

from msgspec import Struct

from kanaleto.wire.codes import Table


class Words(Struct, frozen=True):
    """A stretch that one request reads, and what it read: loop times and the bytes as they came, the oldest first."""

    first: int
    count: int
    read: tuple[tuple[float, bytes], ...]


class BareState(Struct, frozen=True):
    """What is watched, as it stands. `told` is what there is to say of it."""

    device: str
    table: Table
    first: int
    last: int
    words: tuple[Words, ...] = ()
    refused: tuple[tuple[int, int], ...] = ()
    told: str = ""
