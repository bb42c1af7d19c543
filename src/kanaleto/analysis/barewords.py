"""Registers of a device as bare words: what was read of them."""

from collections.abc import Iterator

from msgspec import Struct

from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.blocks import Block
from kanaleto.wire.codes import Table


class Words(Struct, frozen=True):
    """A stretch that one request reads, and what it read: loop times and the bytes as they came, the oldest first."""

    first: int
    count: int
    read: tuple[tuple[float, bytes], ...]


class BareState(Struct, frozen=True):
    """What is watched, as it stands. `text` is what there is to say of it."""

    device: str
    table: Table
    first: int
    last: int
    words: tuple[Words, ...] = ()
    refused: tuple[tuple[int, int], ...] = ()
    text: str = ""


def read_along(snapshot: Snapshot) -> Iterator[tuple[BareState, frozenset[int]]]:
    """What is polled between points and is none, where `max_gap` reads it along, as it was read in the last minute:
    each block that has such, and their addresses."""
    for part in snapshot.plan.parts:
        for block in part.blocks:
            between = _between(block)
            if between:
                request = block.request
                words = Words(request.address, request.count, tuple(snapshot.board.traces[block.index].read()))
                last = request.address + request.count - 1
                yield BareState(part.device.name, request.table, request.address, last, (words,)), between


def _between(block: Block) -> frozenset[int]:
    """Addresses of a block at which no point is."""
    request = block.request
    if sum(point.size for point in block.points) >= request.count:
        return frozenset()
    taken = {at for point in block.points for at in range(point.address, point.end)}
    return frozenset(range(request.address, request.address + request.count)) - taken
