"""The journal: hears of every event of a log, and has them on disk a moment later. Always on. Where it cannot be
written that is reported once, tried again, and nothing else waits for it."""

import sqlite3
from collections import deque
from collections.abc import Callable
from pathlib import Path

from kanaleto.events.log import Event, EventKind, EventLog
from kanaleto.history.journalfile import JournalFile, NewerFile, events_of, micros
from kanaleto.history.renames import Rename

FILE = "journal.db"
_MOST_WAITING = 5000
_AGAIN_S = 10.0
_BEAT_S = 10.0
_PRUNED_EVERY_S = 3600.0
_MOST_BESIDE = 9

OnTrouble = Callable[[str], None]
"""Told on the keeper's thread what cannot be kept and why, in one sentence; and "" when it can again."""


class Journal:
    """`folder` is the one beside the site; `program` says who writes. `flush` and `close` are for the keeper's thread,
    `follow` for the log's."""

    def __init__(self, folder: Path, program: str, who: str, wall: Callable[[], float], on_trouble: OnTrouble) -> None:
        self._folder, self._program, self._who, self._wall = folder, program, who, wall
        self._on_trouble = on_trouble
        self._waiting: deque[Event] = deque()
        self._ids: dict[int, int] = {}
        self._file: JournalFile | None = None
        self._begun_us = micros(wall())
        self._message = ""
        self._next_try_s = self._next_beat_s = self._next_prune_s = 0.0
        self.lost = 0

    def follow(self, log: EventLog) -> None:
        """Hear of all that happens from now on."""
        log.follow(self._on_event)

    def leave(self, log: EventLog) -> None:
        log.leave(self._on_event)

    @property
    def place(self) -> tuple[Path, int] | str:
        """The file, and the number of this run in it; or why there is none, empty where it was not opened yet."""
        file = self._file
        return (file.path, file.run) if file is not None else self._message

    def _on_event(self, event: Event) -> None:
        if event.is_queued or event.kind is EventKind.WRITE:  # those are on disk before they happen
            return
        if len(self._waiting) >= _MOST_WAITING:
            self._waiting.popleft().is_queued = False
            self.lost += 1
        event.is_queued = True
        self._waiting.append(event)

    def flush(self) -> None:
        now_s = self._wall()
        if not self._open(now_s) or self._file is None:
            return
        taken: list[Event] = []
        while self._waiting:
            event = self._waiting.popleft()
            event.is_queued = False  # what changes from here on is queued again
            taken.append(event)
        try:
            if taken:
                self._file.put(taken, self._ids)
            if not 0 <= self._next_beat_s - now_s <= _BEAT_S:
                self._file.beat(micros(now_s))
                self._next_beat_s = now_s + _BEAT_S
            if not 0 <= self._next_prune_s - now_s <= _PRUNED_EVERY_S:
                self._file.prune(micros(now_s))
                self._next_prune_s = now_s + _PRUNED_EVERY_S
        except (sqlite3.Error, OSError) as error:
            self._put_back(taken)
            self._fail(f"the journal cannot be written: {_why(error)}", now_s)
            return
        self._tell("")

    def _put_back(self, taken: list[Event]) -> None:
        for event in reversed(taken):
            if not event.is_queued and len(self._waiting) < _MOST_WAITING:
                event.is_queued = True
                self._waiting.appendleft(event)

    def _open(self, now_s: float) -> bool:
        """Whether it is open, or was tried not long ago."""
        if self._file is not None and not self._file.is_there:
            self._on_trouble(f"{self._file.path} was deleted or moved: events go on in a new one there")
            self._close_file(None)
            self._ids.clear()
            self._next_try_s = 0.0
        if 0 <= self._next_try_s - now_s <= _AGAIN_S:
            return False
        if self._file is not None:
            return True
        damaged = ""
        for number in range(1, _MOST_BESIDE + 1):
            path = self._folder / (FILE if number == 1 else f"journal-{number}.db")
            try:
                self._file = JournalFile(path, self._program, self._who, self._begun_us)
            except NewerFile as error:
                self._fail(str(error), now_s)
                return False
            except sqlite3.DatabaseError as error:
                if isinstance(error, sqlite3.OperationalError):  # locked, full, read-only: not its contents
                    self._fail(f"the journal cannot be opened: {_why(error)} ({path})", now_s)
                    return False
                damaged = f"{path} is damaged ({error}) and was left as it is; events are kept beside it"
                continue
            except OSError as error:
                self._fail(f"the journal cannot be opened: {_why(error)} ({path})", now_s)
                return False
            if damaged:
                self._on_trouble(damaged)
            return True
        self._fail(damaged, now_s)
        return False

    def _fail(self, text: str, now_s: float) -> None:
        self._next_try_s = now_s + _AGAIN_S
        self._tell(text)

    def _tell(self, text: str) -> None:
        if text != self._message:
            self._message = text
            self._on_trouble(text)

    def _close_file(self, now_us: int | None) -> None:
        if self._file is not None:
            self._file.end(now_us)
            self._file = None

    def close(self) -> None:
        self._next_try_s = 0.0
        self.flush()
        self._close_file(micros(self._wall()))


def _why(error: Exception) -> str:
    return (error.strerror or str(error)) if isinstance(error, OSError) else str(error)


def renames_in(path: Path) -> list[tuple[int, Rename]]:
    """When points were called otherwise, and how, in order."""
    found: list[tuple[int, Rename]] = []
    for event in events_of(path):
        rows = event.data.get("renamed") if event.kind == EventKind.RENAME.value else None
        for row in rows if isinstance(rows, list) else ():
            if isinstance(row, list) and len(row) == 4 and all(isinstance(name, str) for name in row):
                found.append((event.begun, ((row[0], row[1]), (row[2], row[3]))))
    return found


def journals_of(folder: Path) -> list[Path]:
    """The journal of a folder, and those that came to stand beside it."""
    return sorted(path for path in folder.glob("journal*.db") if path.is_file())
