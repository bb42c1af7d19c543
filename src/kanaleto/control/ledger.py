"""Where every write is written down before its bytes go. What cannot be written down is not sent."""

from typing import Protocol

from msgspec import Struct


class CannotWriteDown(Exception):
    """One sentence: why the journal does not take it."""


class Row(Struct, frozen=True, kw_only=True):
    """A write as the journal has it; `wall_s` is when it was about to go."""

    wall_s: float
    line: str
    device: str
    point: str
    text: str
    data: dict[str, object]


class Ledger(Protocol):
    """On disk when awaited."""

    async def begin(self, row: Row) -> int:
        """Write it down; gives its number. Raises CannotWriteDown."""
        ...

    async def complete(
        self, number: int, wall_s: float, data: dict[str, object], count: int = 1, goes_on: bool = False
    ) -> None:
        """What came of it, or (for what is repeated, and `goes_on`) how often it went so far. Raises
        CannotWriteDown: the row stays as it is then."""
        ...

    async def take_back(self, number: int) -> None:
        """Nothing was sent after all."""
        ...


class MemoryLedger:
    """Keeps rows in memory, for what has no disk."""

    def __init__(self) -> None:
        self.rows: dict[int, Row] = {}
        self.ends: dict[int, dict[str, object]] = {}
        self.counts: dict[int, int] = {}
        self.why_not = ""
        self._number = 0

    async def begin(self, row: Row) -> int:
        if self.why_not:
            raise CannotWriteDown(self.why_not)
        self._number += 1
        self.rows[self._number] = row
        return self._number

    async def complete(
        self, number: int, wall_s: float, data: dict[str, object], count: int = 1, goes_on: bool = False
    ) -> None:
        self.ends[number], self.counts[number] = data, count

    async def take_back(self, number: int) -> None:
        self.rows.pop(number, None)
