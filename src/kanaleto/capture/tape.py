"""The tape of a site: the last two hours of exchanges, always, in a ring of files; and what was laid aside of it, the
minutes round an event, until somebody has looked. For the keeper's thread."""

import os
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Generic, TypeVar

from kanaleto.capture.packing import body_of, head_line, heads
from kanaleto.files.beside import make_own, require_own

KEPT_US, KEPT_BYTES = 2 * 3600 * 1_000_000, 200_000_000
LITTLE_BYTES = 20_000_000  # is kept however old it is: a clock that is set forward costs nothing then
FILE_US, FILE_BYTES = 600 * 1_000_000, 16_000_000
BEFORE_US, AFTER_US = 600 * 1_000_000, 120 * 1_000_000
MOST_ASIDE, ASIDE_BYTES = 20, 200_000_000
_BLOCK_ROWS, _BLOCK_US = 4000, 1_000_000
_LOOKED_AT = ".seen"
_SEEN_KEPT_S = 7 * 86400
_NAME = "%Y%m%d-%H%M%S-%f"

T = TypeVar("T")


class Tape(Generic[T]):
    """`folder` is the site's own; `head` stands in the first line of each file; `pack` makes a block of what is put.
    Raises OSError as it comes; what could not be written then is dropped by `forget`."""

    def __init__(self, folder: Path, head: dict[str, object], pack: Callable[[Sequence[T]], bytes]) -> None:
        self.folder = folder
        self._head = head
        self._pack = pack
        self._rows: list[T] = []
        self._since_us = 0
        self._path: Path | None = None
        self._begun_us = 0
        self._size = 0

    def put(self, rows: Sequence[T], now_us: int) -> bool:
        """What has come; on disk after a second at the latest. Whether anything was written."""
        written = 0
        if rows and not self._rows:
            self._since_us = now_us
        self._rows += rows
        while len(self._rows) >= _BLOCK_ROWS:
            self._write(self._rows[:_BLOCK_ROWS], now_us)
            written += 1
            del self._rows[:_BLOCK_ROWS]
            self._since_us = now_us
        if self._rows and not 0 <= now_us - self._since_us < _BLOCK_US:
            written += self.write_rest(now_us)
        return written > 0

    def write_rest(self, now_us: int) -> bool:
        """All that has come is on disk. Whether anything was written."""
        if not self._rows:
            return False
        self._write(self._rows, now_us)
        self._rows = []
        return True

    @property
    def waiting(self) -> Sequence[T]:
        """What has come and is not on disk yet."""
        return self._rows

    @property
    def end(self) -> "tuple[Path | None, int]":
        """The file that is written, and how much of it holds whole blocks."""
        return self._path, self._size

    def forget(self) -> None:
        """What could not be written is not held for ever."""
        self._rows = []

    def _write(self, rows: Sequence[T], now_us: int) -> None:
        block = self._pack(rows)
        is_full = self._size + len(block) > FILE_BYTES or not 0 <= now_us - self._begun_us < FILE_US
        if self._path is None or is_full or not self._path.exists():
            make_own(self.folder)
            stamp = datetime.fromtimestamp(now_us / 1e6, UTC).strftime(_NAME)
            self._path = self.folder / f"{stamp}-{os.getpid()}.tape"
            self._begun_us, head = now_us, head_line(self._head)
            require_own(self._path)
            self._path.write_bytes(head)
            self._size = len(head)
            self.prune(now_us)
        require_own(self._path)
        with self._path.open("ab") as file:
            try:
                file.write(block)
            except OSError:
                with suppress(OSError):
                    file.truncate(self._size)  # half a block is none
                raise
        self._size += len(block)

    def prune(self, now_us: int) -> None:
        """Let go of what is older than two hours, and of the oldest where it is too much."""
        total = 0
        for path in reversed(files_of(self.folder)):
            with suppress(OSError):
                stat = path.stat()
                total += stat.st_size
                is_old = now_us - stat.st_mtime_ns // 1000 > KEPT_US
                if path != self._path and total > (LITTLE_BYTES if is_old else KEPT_BYTES):
                    path.unlink()
        prune_aside(self.folder)

    def lay_aside(self, at_us: int, why: str, before_us: int = BEFORE_US, after_us: int = AFTER_US) -> Path | None:
        """Keep the minutes round a moment in a file of their own; None where there is nothing of them."""
        first_us, last_us = at_us - before_us, at_us + after_us
        aside = self.folder / "aside"
        make_own(aside)
        path = aside / f"{datetime.fromtimestamp(at_us / 1e6, UTC).strftime(_NAME)}.tape"
        staged, count = path.with_suffix(".part"), 0
        require_own(staged)
        with staged.open("wb") as out:
            out.write(head_line({**self._head, "why": why, "at_us": at_us}))
            for source in files_of(self.folder):
                with suppress(FileNotFoundError), source.open("rb") as file:
                    for head in heads(file, [], source.name):
                        if head.first_us <= last_us and head.last_us >= first_us:
                            with suppress(ValueError):
                                body_of(file, head)
                                file.seek(head.place)
                                out.write(file.read(head.end - head.place))
                                count += head.rows
        if not count:
            staged.unlink()
            return None
        os.replace(staged, path)
        prune_aside(self.folder)
        return path


def files_of(folder: Path) -> list[Path]:
    """The files of a tape, the oldest first."""
    return sorted(path for path in folder.glob("*.tape") if path.is_file())


def aside_of(folder: Path) -> list[tuple[Path, bool]]:
    """What was laid aside, the oldest first, and whether somebody has looked at it."""
    return [(path, path.with_suffix(_LOOKED_AT).exists()) for path in sorted((folder / "aside").glob("*.tape"))]


def note_looked_at(path: Path) -> None:
    """Somebody has looked at what was laid aside: it may go in a week."""
    if path.parent.name == "aside":
        with suppress(OSError):
            require_own(path.with_suffix(_LOOKED_AT))
            path.with_suffix(_LOOKED_AT).touch()


def prune_aside(folder: Path) -> None:
    """Bounded: what was looked at goes first, a week after; the oldest where there is too much."""
    kept = aside_of(folder)
    total = 0
    now_s = datetime.now(UTC).timestamp()
    for number, (path, is_seen) in enumerate(reversed(kept)):
        with suppress(OSError):
            total += path.stat().st_size
            is_old = is_seen and now_s - path.with_suffix(_LOOKED_AT).stat().st_mtime > _SEEN_KEPT_S
            if is_old or number >= MOST_ASIDE or total > ASIDE_BYTES:
                path.unlink()
                path.with_suffix(_LOOKED_AT).unlink(missing_ok=True)
