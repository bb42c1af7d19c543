"""The journal's file: events of a site in SQLite, by all programs that have it open at once. For one thread; raises
sqlite3.Error and OSError as they come.

A run is an event of its own, held by a lock beside the file as long as its program lives. Whoever opens the journal
closes what dead programs have left open: how that ended is not known.
"""

import json
import sqlite3
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from msgspec import Struct

from kanaleto.events.log import Ended, Event, EventKind
from kanaleto.files.beside import make_own, place_of, require_own, require_own_database
from kanaleto.history.sound import why_unsound

KEPT_DAYS, KEPT_BYTES = 400, 64_000_000
_BUSY_S = 5.0
_MOST_CHECKED_BYTES = 4_000_000
_DAY_US = 86_400_000_000
_MIGRATIONS = (
    """
    CREATE TABLE event (
      id INTEGER PRIMARY KEY, run INTEGER, kind TEXT NOT NULL, line TEXT NOT NULL, device TEXT NOT NULL,
      point TEXT NOT NULL, begun INTEGER NOT NULL, ended INTEGER, count INTEGER NOT NULL, last INTEGER NOT NULL,
      who TEXT NOT NULL, data TEXT, text TEXT NOT NULL, note TEXT NOT NULL DEFAULT '');
    CREATE INDEX event_begun ON event (begun);
    CREATE INDEX event_open ON event (run) WHERE ended IS NULL;
    """,
)
"""Each makes the next version; a journal says in `user_version` how many of them it has had."""


class NewerFile(Exception):
    """One sentence: a newer version of Kanaleto wrote it."""


class JournalEvent(Struct, frozen=True):
    """An event as the journal has it; times are microseconds since 1970, `data` may say how it ended."""

    id: int
    run: int | None
    kind: str
    line: str
    device: str
    point: str
    begun: int
    ended: int | None
    count: int
    last: int
    who: str
    data: dict[str, Any]
    text: str
    note: str

    @property
    def end_is_unknown(self) -> bool:
        return self.data.get("end") == Ended.UNKNOWN.value


class JournalFile:
    """Open from the beginning; `run` is the number of this program's own run."""

    def __init__(self, path: Path, program: str, who: str, begun_us: int) -> None:
        from filelock import FileLock  # a start need not wait for it

        require_own_database(path)
        make_own(path.parent)
        self.path, self.who = path, who
        self._db = connect(path)
        self._place = place_of(path)
        try:
            self.run = self._begin(program, begun_us)
            require_own(_lock_path(path, self.run))
            self._lock = FileLock(_lock_path(path, self.run))
            self._lock.acquire(timeout=1)
            self._close_dead(begun_us)
            self.prune(begun_us)
        except BaseException:
            self._db.close()
            raise

    @property
    def is_there(self) -> bool:
        """Whether what is written here can be found again: nobody has deleted or moved the file."""
        return place_of(self.path) == self._place

    def _begin(self, program: str, begun_us: int) -> int:
        with self._db:
            found = self._db.execute(
                "INSERT INTO event (kind, line, device, point, begun, count, last, who, text) "
                "VALUES (?, '', '', '', ?, 1, ?, ?, ?)",
                (EventKind.RUN.value, begun_us, begun_us, self.who, program),
            )
            run = int(found.lastrowid or 0)
            self._db.execute("UPDATE event SET run = ? WHERE id = ?", (run, run))
        return run

    def _close_dead(self, now_us: int) -> None:
        """Runs that nobody holds any more: they, and all that they left open, ended nobody knows how. They lived when
        they were seen last."""
        from filelock import FileLock, Timeout

        rows = self._db.execute("SELECT DISTINCT run FROM event WHERE ended IS NULL AND run != ?", (self.run,))
        for (run,) in rows.fetchall():
            lock_path = _lock_path(self.path, run)
            lock = FileLock(lock_path)
            try:
                require_own(lock_path)
                lock.acquire(timeout=0)
            except (Timeout, OSError):
                continue  # it lives, or cannot be known
            with self._db:
                self._db.execute(
                    "UPDATE event SET data = json_set(COALESCE(data, '{}'), '$.end', ?), ended = MAX(begun, "
                    "(SELECT last FROM event WHERE id = ?)) WHERE run = ? AND ended IS NULL",
                    (Ended.UNKNOWN.value, run, run),
                )
            lock.release()
            with suppress(OSError):
                lock_path.unlink(missing_ok=True)

    def put(self, events: list[Event], ids: dict[int, int]) -> None:
        """Write events down, or what has become of them. `ids` has the rows of those that are open, by their numbers in
        the log; it is brought up to date once all is written."""
        found: dict[int, int] = {}
        with self._db:
            for event in events:
                row = ids.get(event.number)
                if row is None:
                    cursor = self._db.execute(
                        "INSERT INTO event (run, kind, line, device, point, begun, ended, count, last, who, data, text)"
                        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                        (self.run, event.kind.value, event.line, event.device, event.point, micros(event.wall_s),
                         *_standing(event), self.who, _data(event), event.text),
                    )  # fmt: skip
                    found[event.number] = int(cursor.lastrowid or 0)
                else:
                    self._db.execute(
                        "UPDATE event SET kind = ?, begun = ?, ended = ?, count = ?, last = ?, device = ?, data = ?, "
                        "text = ? WHERE id = ?",
                        (
                            event.kind.value,
                            micros(event.wall_s),
                            *_standing(event),
                            event.device,
                            _data(event),
                            event.text,
                            row,
                        ),
                    )
        ids.update(found)
        for event in events:
            if event.ended_wall_s is not None:
                ids.pop(event.number, None)

    def beat(self, now_us: int) -> None:
        """The run lives."""
        with self._db:
            self._db.execute("UPDATE event SET last = ? WHERE id = ?", (now_us, self.run))

    def prune(self, now_us: int, days: int = KEPT_DAYS, most_bytes: int = KEPT_BYTES) -> None:
        """Let go of what is older than so many days, and of the oldest where the file has grown too large."""
        with self._db:
            self._db.execute(
                "DELETE FROM event WHERE begun < ? AND ended IS NOT NULL AND id != ?",
                (now_us - days * _DAY_US, self.run),
            )
        while self._size() > most_bytes:
            (count,) = self._db.execute("SELECT COUNT(*) FROM event WHERE ended IS NOT NULL").fetchone()
            if not count:
                return
            with self._db:
                self._db.execute(
                    "DELETE FROM event WHERE id IN "
                    "(SELECT id FROM event WHERE ended IS NOT NULL ORDER BY begun LIMIT ?)",
                    (max(count // 10, 1),),
                )
            self._db.execute("PRAGMA incremental_vacuum").fetchall()

    def _size(self) -> int:
        (pages,), (free,), (size,) = (
            self._db.execute(f"PRAGMA {name}").fetchone() for name in ("page_count", "freelist_count", "page_size")
        )
        return int((pages - free) * size)

    def end(self, now_us: int | None) -> None:
        """The run ends in good order, or (None) is left as if it had been killed."""
        if now_us is not None:
            with suppress(sqlite3.Error), self._db:
                self._db.execute("UPDATE event SET ended = ?, last = ? WHERE id = ?", (now_us, now_us, self.run))
        self._db.close()
        self._lock.release()
        with suppress(OSError):
            _lock_path(self.path, self.run).unlink(missing_ok=True)


def connect(path: Path, is_shared: bool = False) -> sqlite3.Connection:
    """A journal, made or brought up to this version; `is_shared` where several threads use it, one after the other.
    Raises NewerFile, and sqlite3.Error where it is none."""
    require_own_database(path)
    damage = why_unsound(path, _MOST_CHECKED_BYTES)
    if damage:
        raise sqlite3.DatabaseError(damage)
    db = sqlite3.connect(path, timeout=_BUSY_S, check_same_thread=not is_shared)
    try:
        (version,) = db.execute("PRAGMA user_version").fetchone()
        if version > len(_MIGRATIONS):
            raise NewerFile(
                f"{path} was written by a newer version of Kanaleto (journal {version}; "
                f"this one knows {len(_MIGRATIONS)})"
            )
        if version == 0:
            db.execute("PRAGMA auto_vacuum = INCREMENTAL")
        db.execute("PRAGMA journal_mode = WAL").fetchall()
        db.execute("PRAGMA synchronous = NORMAL")
        for number, migration in enumerate(_MIGRATIONS[version:], version + 1):
            db.executescript(f"BEGIN IMMEDIATE; {migration} PRAGMA user_version = {number}; COMMIT;")
    except BaseException:
        db.close()
        raise
    return db


def add_note(path: Path, note: str, who: str, at_us: int, event_id: int | None) -> bool:
    """Write a note, on an event or as one of its own; whether there is such an event."""
    path.parent.mkdir(parents=True, exist_ok=True)
    db = connect(path)
    try:
        with db:
            if event_id is not None:
                return db.execute("UPDATE event SET note = ? WHERE id = ?", (note, event_id)).rowcount > 0
            db.execute(
                "INSERT INTO event (run, kind, line, device, point, begun, ended, count, last, who, text) "
                "VALUES (NULL, ?, '', '', '', ?, ?, 1, ?, ?, ?)",
                (EventKind.NOTE.value, at_us, at_us, at_us, who, note),
            )
            return True
    finally:
        db.close()


def events_of(path: Path, from_us: int | None = None, to_us: int | None = None) -> Iterator[JournalEvent]:
    """Events that went on at some time from `from_us` to `to_us`, by their beginning. Raises NewerFile and
    sqlite3.Error."""
    db = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=_BUSY_S)
    try:
        (version,) = db.execute("PRAGMA user_version").fetchone()
        if version > len(_MIGRATIONS):
            raise NewerFile(f"{path} was written by a newer version of Kanaleto (journal {version})")
        rows = db.execute(
            "SELECT id, run, kind, line, device, point, begun, ended, count, last, who, data, text, note FROM event "
            "WHERE begun <= ? AND COALESCE(ended, begun, ?) >= ? ORDER BY begun, id",
            (to_us if to_us is not None else 2**62, 2**62, from_us if from_us is not None else -(2**62)),
        )
        for row in rows:
            yield JournalEvent(*(*row[:11], read_data(row[11]), *row[12:]))
    finally:
        db.close()


def read_data(text: str | None) -> dict[str, Any]:
    try:
        data = json.loads(text) if text else {}
    except ValueError:
        return {}
    return data if isinstance(data, dict) else {}


def _lock_path(journal: Path, run: int) -> Path:
    return journal.with_name(f"{journal.stem}-run-{run}.lock")


def _standing(event: Event) -> tuple[int | None, int, int]:
    return (
        micros(event.ended_wall_s) if event.ended_wall_s is not None else None,
        event.count,
        micros(event.last_wall_s),
    )


def _data(event: Event) -> str | None:
    data = dict(event.data or {})
    if event.how is not Ended.OVER:
        data["end"] = event.how.value
    return json.dumps(data, ensure_ascii=False) if data else None


def micros(wall_s: float) -> int:
    """Microseconds since 1970."""
    return round(wall_s * 1_000_000)
