"""The texts of a site's files: as they are on disk, or as they would be after an edit that is only being looked at.

Whatever stands at a path, it is read in bounded time and memory: a pipe or a device is not, nor is more than a file of
its kind may be."""

import json
import os
import stat
from collections.abc import Mapping
from pathlib import Path

from kanaleto.site.filefaults import Fault, FaultyFile

Stamp = tuple[int, int, int]
"""When a file was changed last (ns), its size, and which one it is on its disk."""


MOST_BYTES = 32 * 1024 * 1024
"""Of a site file or a map; a hundred thousand rows take a quarter of it."""


class CannotRead(ValueError):
    """One sentence without the path: why a file cannot be read."""


class SiteTexts:
    """`overlay` has the texts of files that are not written yet; None is a file that would not be there. `texts` and
    `stamps` tell what was read, the stamp of each file from before it was read."""

    def __init__(self, overlay: Mapping[Path, str | None] | None = None) -> None:
        self._overlay = overlay or {}
        self.texts: dict[Path, str] = {}
        self.stamps: dict[Path, Stamp | None] = {}

    def exists(self, path: Path) -> bool:
        if path in self._overlay:
            return self._overlay[path] is not None
        self.stamps.setdefault(path, stamp(path))
        return stamp(path) is not None

    def text(self, path: Path) -> str:
        """The text of a file in UTF-8, the same however often it is asked. Raises FaultyFile."""
        if path not in self.texts:
            over = self._overlay.get(path)
            if over is None:
                self.stamps.setdefault(path, stamp(path))
                over = read_text(path)
            self.texts[path] = over
        return self.texts[path]

    def are_torn(self) -> bool:
        """Whether a file was written while all of them were read."""
        return any(stamp(path) != seen for path, seen in self.stamps.items())


def stamp(path: Path) -> Stamp | None:
    """None where there is no such file."""
    try:
        status = path.stat()
    except (OSError, ValueError):
        return None
    return status.st_mtime_ns, status.st_size, status.st_ino


def read_bounded(path: Path, most: int = MOST_BYTES) -> bytes:
    """The bytes of an ordinary file of at most `most`. Raises CannotRead."""
    try:
        descriptor = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
        with os.fdopen(descriptor, "rb") as file:
            status = os.fstat(descriptor)
            if stat.S_ISDIR(status.st_mode):
                raise CannotRead("is a folder, not a file")
            if not stat.S_ISREG(status.st_mode):
                raise CannotRead("is no ordinary file")
            data = file.read(most + 1)
    except FileNotFoundError:
        raise CannotRead("there is no such file") from None
    except IsADirectoryError:
        raise CannotRead("is a folder, not a file") from None
    except OSError as error:
        raise CannotRead(f"cannot be read: {(error.strerror or str(error)).lower()}") from None
    except CannotRead:
        raise
    except ValueError:  # a NUL in the path
        raise CannotRead("cannot be read: that is no name of a file") from None
    if len(data) > most:
        raise CannotRead(f"has more than {most // 1024 // 1024} MB, and is not read")
    return data


def read_text(path: Path) -> str:
    """The text of a file in UTF-8. Raises FaultyFile."""
    try:
        data = read_bounded(path)
    except CannotRead as error:
        raise FaultyFile([Fault(path, 0, str(error))]) from None
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise FaultyFile([Fault(path, line, "is not UTF-8 text; save it as UTF-8")]) from None


def read_json(path: Path, most: int = 1024 * 1024) -> object:
    """What we keep for ourselves as JSON, or None: it may be missing, broken, or somebody else's."""
    try:
        return json.loads(read_bounded(path, most))
    except (ValueError, RecursionError):
        return None


def expanded(path: Path) -> Path:
    """With a leading ~ or ~user as the home folder it means. Raises CannotRead."""
    try:
        return path.expanduser()
    except RuntimeError:
        raise CannotRead("there is no home folder of that name") from None
