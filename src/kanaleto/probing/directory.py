"""Devices that carry a directory of themselves in their registers: a marker, then blocks of an id, a length and so many
registers.

Kept generic: where to look, which marker, and which id ends the chain are the caller's. Without a marker any two
registers of four printable characters are tried as one, and only a chain that comes to its end is believed.
"""

from collections.abc import Sequence

from msgspec import Struct

from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.question import LAST_ADDRESS, Ask, Never, is_forbidden
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer

LIKELY_STARTS = (40000, 50000, 0)
END_ID = 0xFFFF
_MOST_BLOCKS = 250
_MARKER_WORDS = 2


class DirectoryBlock(Struct, frozen=True):
    """One block: its id, the address of its first register behind id and length, and how many there are."""

    id: int
    address: int
    length: int


class Directory(Struct, frozen=True):
    """What was walked: where, the marker's bytes, the blocks, and why the walk ended, in words. `is_whole` when it met
    the end id."""

    table: Table
    start: int
    marker: bytes
    blocks: tuple[DirectoryBlock, ...]
    is_whole: bool
    text: str


async def find_directory(
    ask: Ask,
    unit_id: int,
    timeout_s: float = 0.5,
    starts: Sequence[int] = LIKELY_STARTS,
    marker: bytes | None = None,
    table: Table = Table.HOLDING,
    end_id: int = END_ID,
    never: Never = (),
) -> Directory | None:
    """The first directory found at `starts`, walked to its end; None when there is none. `marker` is of an even number
    of bytes."""
    words = len(marker) // 2 if marker is not None else _MARKER_WORDS
    if marker is not None and (not marker or len(marker) % 2):
        raise ValueError("a marker is whole registers: an even number of bytes, and not none")
    for start in starts:
        data = await _read(ask, unit_id, timeout_s, table, start, words, never)
        if data is None or (data != marker if marker is not None else not _may_be_marker(data)):
            continue
        found = await _walk(ask, unit_id, timeout_s, table, start, data, end_id, never)
        if found.is_whole or (marker is not None and found.blocks):
            return found
    return None


async def _walk(
    ask: Ask, unit_id: int, timeout_s: float, table: Table, start: int, marker: bytes, end_id: int, never: Never
) -> Directory:
    blocks: list[DirectoryBlock] = []
    at = start + len(marker) // 2
    while len(blocks) < _MOST_BLOCKS:
        head = await _read(ask, unit_id, timeout_s, table, at, 2, never)
        if head is None:
            # the end may stand in the very last register
            one = await _read(ask, unit_id, timeout_s, table, at, 1, never)
            if one is not None and int.from_bytes(one) == end_id:
                return Directory(table, start, marker, tuple(blocks), True, f"{len(blocks)} blocks, then the end")
            return Directory(
                table, start, marker, tuple(blocks), False, f"the chain breaks at {at}: nothing reads there"
            )
        block_id, length = int.from_bytes(head[:2]), int.from_bytes(head[2:])
        if block_id == end_id:
            return Directory(table, start, marker, tuple(blocks), True, f"{len(blocks)} blocks, then the end")
        if at + 2 + length > LAST_ADDRESS + 1:
            return Directory(
                table, start, marker, tuple(blocks), False, f"the block at {at} runs past the last address"
            )
        blocks.append(DirectoryBlock(block_id, at + 2, length))
        at += 2 + length
    return Directory(
        table, start, marker, tuple(blocks), False, f"more than {_MOST_BLOCKS} blocks, and no end: no directory"
    )


async def _read(
    ask: Ask, unit_id: int, timeout_s: float, table: Table, at: int, count: int, never: Never
) -> bytes | None:
    if at + count > LAST_ADDRESS + 1 or is_forbidden(never, table, at, at + count - 1):
        return None
    for _ in range(2):
        outcome = await ask(unit_id, Read(table, at, count), timeout_s)
        if outcome.kind is OutcomeKind.GOOD and isinstance(outcome.content, ReadAnswer):
            return outcome.content.data
        if outcome.kind is OutcomeKind.EXCEPTION:
            return None
    return None


def _may_be_marker(data: bytes) -> bool:
    return all(0x20 < byte < 0x7F for byte in data) and any(byte > 0x40 for byte in data)
