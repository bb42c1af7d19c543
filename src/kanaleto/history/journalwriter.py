"""Writes in the journal: each on disk before its bytes go, by a thread and a connection of its own."""

import asyncio
import json
import sqlite3
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import TypeVar

from kanaleto.control.ledger import CannotWriteDown, LedgerRow, Left
from kanaleto.events.log import EventKind
from kanaleto.history.journalfile import NewerFile, connect, micros, read_data

_OPEN_S = 5.0
_LOOK_S = 0.02
_MOST_LEFT = 500
T = TypeVar("T")

Where = Callable[[], tuple[Path, int] | str]
"""The journal's file and the number of this program's run in it; or why there is none, empty while it is opened."""


class JournalLedger:
    """See the head of this file; a `control.ledger.Ledger`. `close` may be called from any thread."""

    def __init__(self, where: Where, who: str) -> None:
        self.who = who
        self._where = where
        self._db: sqlite3.Connection | None = None
        self._opened: tuple[Path, int, int] | None = None
        self._thread = ThreadPoolExecutor(1, "ledger")

    async def begin(self, row: LedgerRow) -> int:
        return await self._do(lambda: self._insert(row))

    async def complete(
        self, number: int, wall_s: float, data: dict[str, object], count: int = 1, goes_on: bool = False
    ) -> None:
        at = micros(wall_s)
        ended = None if goes_on else at
        text = f": {data['told']}" if data.get("told") and not goes_on else ""
        values = (ended, count, at, json.dumps(data, ensure_ascii=False), text, number)
        statement = "UPDATE event SET ended = ?, count = ?, last = ?, data = ?, text = text || ? WHERE id = ?"
        await self._do(lambda: self._change(statement, values))

    async def take_back(self, number: int) -> None:
        await self._do(lambda: self._change("DELETE FROM event WHERE id = ?", (number,)))

    async def settle(self, number: int, wall_s: float, text: str) -> None:
        statement = (
            "UPDATE event SET data = json_set(COALESCE(data, '{}'), '$.settled', ?), ended = COALESCE(ended, ?), "
            "text = text || '; ' || ? WHERE id = ?"
        )
        await self._do(lambda: self._change(statement, (text, micros(wall_s), text, number)))

    async def left(self) -> list[Left]:
        return await self._do(self._left)

    def _left(self) -> list[Left]:
        db, run = self._open()
        rows = db.execute(
            "SELECT id, begun, ended, line, device, point, data FROM event WHERE kind = ? AND run != ? "
            "AND ended IS NOT NULL AND data LIKE '%\"owed\"%' ORDER BY id DESC LIMIT ?",
            (EventKind.WRITE.value, run, _MOST_LEFT),
        )
        found = []
        for number, begun, ended, line, device, point, text in rows:
            data = read_data(text)
            if isinstance(data.get("owed"), dict) and "settled" not in data:
                found.append(
                    Left(
                        number=number, begun_wall_s=begun / 1e6, ended_wall_s=ended / 1e6, line=line, device=device,
                        point=point, data=data,
                    )
                )  # fmt: skip
        return found

    async def _do(self, what: Callable[[], T]) -> T:
        try:
            return await asyncio.get_running_loop().run_in_executor(self._thread, what)
        except (sqlite3.Error, OSError, NewerFile) as error:
            self._forget()
            raise CannotWriteDown(f"the journal cannot be written ({error}), so nothing is sent") from None
        except RuntimeError:
            raise CannotWriteDown("the journal is closed already, so nothing is sent") from None

    def _insert(self, row: LedgerRow) -> int:
        db, run = self._open()
        at = micros(row.wall_s)
        with db:
            found = db.execute(
                "INSERT INTO event (run, kind, line, device, point, begun, ended, count, last, who, data, text) "
                "VALUES (?, ?, ?, ?, ?, ?, NULL, 1, ?, ?, ?, ?)",
                (run, EventKind.WRITE.value, row.line, row.device, row.point, at, at, self.who,
                 json.dumps(row.data, ensure_ascii=False), row.text),
            )  # fmt: skip
        return int(found.lastrowid or 0)

    def _change(self, statement: str, values: tuple[object, ...]) -> None:
        db, _ = self._open()
        with db:
            db.execute(statement, values)

    def _open(self) -> tuple[sqlite3.Connection, int]:
        place = self._where()
        end_s = time.monotonic() + _OPEN_S
        while place == "" and time.monotonic() < end_s:
            time.sleep(_LOOK_S)  # it is opened beside the first frame
            place = self._where()
        if isinstance(place, str):
            raise OSError(place or "it has not been opened")
        path, run = place
        key = (path, run, path.stat().st_ino)  # one that was taken away is not written to
        if self._db is not None and self._opened == key:
            return self._db, run
        self._forget()
        self._db = connect(path, is_shared=True)
        self._db.execute("PRAGMA synchronous = FULL")
        self._opened = key
        return self._db, run

    def _forget(self) -> None:
        db, self._db, self._opened = self._db, None, None
        if db is not None:
            try:
                db.close()
            except sqlite3.Error:
                return

    def on_its_thread(self, what: Callable[[], object]) -> None:
        """Done when it gives back, but for a disk that hangs."""
        with suppress(TimeoutError):
            self._thread.submit(what).result(_OPEN_S)

    def release(self) -> None:
        """Let go of the file; it is opened again when it is needed."""
        self.on_its_thread(self._forget)

    def close(self) -> None:
        """Nothing more is written down."""
        self._thread.submit(self._forget)
        self._thread.shutdown(wait=False)
