"""Rows of a map that say the same but for name, address and note are read once: the others are copies of the first,
with those three of their own. What is wrong, or out of the ordinary, is left to whoever reads a row cell by cell."""

from collections.abc import Sequence
from typing import Any

from msgspec.structs import force_setattr

from kanaleto.site.counting import Counting, Numbering, to_wire
from kanaleto.site.model import Point
from kanaleto.wire.codes import Table

MOST_NAME = 200
_LAST = 0xFFFF


class Alike:
    """Points of rows under one head, by all that they say but for name, address and note."""

    def __init__(self, header: Sequence[str], numbering: Counting) -> None:
        self._name, self._address = header.index("name"), header.index("address")
        self._note = header.index("note") if header.count("note") == 1 else None
        self._counts_as_wire = numbering is Numbering.PROTOCOL
        self._numbering = numbering
        self._columns = len(header)
        self._first: dict[tuple[str, ...], Any] = {}  # points; that structs can be copied is not in their types

    def read(self, line: int, cells: list[str]) -> Point | None:
        """The point of a row like one that was noted; None where there is none, or something is wrong with it."""
        like = self._first.get(self._rest(cells))
        if like is None:
            return None
        name, address = cells[self._name].strip(), self._wire(cells[self._address], like.table)
        if not name or len(name) > MOST_NAME or address is None or address + like.size > _LAST + 1:
            return None
        point: Point = like.__copy__()
        force_setattr(point, "name", name)
        force_setattr(point, "address", address)
        force_setattr(point, "end", address + like.size)
        force_setattr(point, "row", line)
        if self._note is not None:
            force_setattr(point, "note", cells[self._note].strip() if self._note < len(cells) else "")
        return point

    def note(self, cells: list[str], point: Point) -> None:
        """A row that was read cell by cell, and its point."""
        self._first[self._rest(cells)] = point

    def _rest(self, cells: list[str]) -> tuple[str, ...]:
        """What a row says beyond; nothing that is ever noted where the row is too short or too long for that."""
        rest = cells.copy()
        if len(rest) > self._columns:
            return ()
        try:
            rest[self._name] = rest[self._address] = ""
        except IndexError:
            return ()
        if self._note is not None and self._note < len(rest):
            rest[self._note] = ""
        return tuple(rest)

    def _wire(self, text: str, table: Table) -> int | None:
        if self._counts_as_wire and text.isascii() and text.isdigit() and len(text) <= len(str(_LAST)):
            return int(text)  # as most are
        try:
            return to_wire(text.strip(), table, self._numbering)
        except ValueError:
            return None
