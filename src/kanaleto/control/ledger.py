"""Where every write is written down before its bytes go. What cannot be written down is not sent."""

import asyncio
from typing import Any, Protocol

from msgspec import Struct

PATIENCE_S = 3.0


class CannotWriteDown(Exception):
    """One sentence: why the journal does not take it."""


class LedgerRow(Struct, frozen=True, kw_only=True):
    """A write as the journal has it; `wall_s` is when it was about to go."""

    wall_s: float
    line: str
    device: str
    point: str
    text: str
    data: dict[str, object]


class Ledger(Protocol):
    """On disk when awaited."""

    async def begin(self, row: LedgerRow) -> int:
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

    async def settle(self, number: int, wall_s: float, text: str) -> None:
        """Nothing is owed any more for what that row wrote. Raises CannotWriteDown."""
        ...

    async def left(self) -> "list[Left]":
        """What programs that have ended still owed."""
        ...


class Left(Struct, frozen=True, kw_only=True):
    """A row of a program that ended without giving back what it wrote."""

    number: int
    begun_wall_s: float
    ended_wall_s: float
    line: str
    device: str
    point: str
    data: dict[str, Any]


class PatientLedger:
    """Another ledger, waited for no longer than `PATIENCE_S`: a disk that hangs holds no line up. What comes of it
    later is put right."""

    def __init__(self, inner: Ledger) -> None:
        self.inner = inner
        self._late: set[asyncio.Task[Any]] = set()

    async def begin(self, row: LedgerRow) -> int:
        task = asyncio.ensure_future(self.inner.begin(row))
        if not await self._is_done(task):
            task.add_done_callback(self._undo)
            raise CannotWriteDown(f"the journal's disk has not answered for {PATIENCE_S:g} s, so nothing is sent")
        return task.result()

    def _undo(self, task: "asyncio.Task[int]") -> None:
        """It was written down after all, and nothing had been sent."""
        if not task.cancelled() and task.exception() is None:
            self._keep(asyncio.ensure_future(self.inner.take_back(task.result())))

    async def complete(
        self, number: int, wall_s: float, data: dict[str, object], count: int = 1, goes_on: bool = False
    ) -> None:
        task = asyncio.ensure_future(self.inner.complete(number, wall_s, data, count, goes_on))
        if await self._is_done(task):
            task.result()

    async def take_back(self, number: int) -> None:
        task = asyncio.ensure_future(self.inner.take_back(number))
        if await self._is_done(task):
            task.result()

    async def settle(self, number: int, wall_s: float, text: str) -> None:
        task = asyncio.ensure_future(self.inner.settle(number, wall_s, text))
        if await self._is_done(task):
            task.result()

    async def left(self) -> "list[Left]":
        return await self.inner.left()

    async def _is_done(self, task: "asyncio.Task[Any]") -> bool:
        self._keep(task)
        done, _ = await asyncio.wait({task}, timeout=PATIENCE_S)
        return bool(done)

    def _keep(self, task: "asyncio.Task[Any]") -> None:
        self._late.add(task)
        task.add_done_callback(self._forget)

    def _forget(self, task: "asyncio.Task[Any]") -> None:
        self._late.discard(task)
        if not task.cancelled():
            task.exception()  # whoever waited has had it


class MemoryLedger:
    """Keeps rows in memory, for what has no disk."""

    def __init__(self) -> None:
        self.rows: dict[int, LedgerRow] = {}
        self.settled: dict[int, str] = {}
        self.lefts: list[Left] = []
        self.ends: dict[int, dict[str, object]] = {}
        self.counts: dict[int, int] = {}
        self.why_not = ""
        self._number = 0

    async def begin(self, row: LedgerRow) -> int:
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

    async def settle(self, number: int, wall_s: float, text: str) -> None:
        self.settled[number] = text

    async def left(self) -> list[Left]:
        return self.lefts
