"""The texts of a site's files: as they are on disk, or as they would be after an edit that is only being looked at."""

from collections.abc import Mapping
from pathlib import Path

from kanaleto.site.faults import Fault, FaultyFile

Stamp = tuple[int, int, int]
"""When a file was changed last (ns), its size, and which one it is on its disk."""


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
        return path.is_file()

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


def read_text(path: Path) -> str:
    """The text of a file in UTF-8. Raises FaultyFile."""
    data = b""
    try:
        data = path.read_bytes()
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise FaultyFile([Fault(path, line, "is not UTF-8 text; save it as UTF-8")]) from None
    except OSError as error:
        reason = {"FileNotFoundError": "there is no such file", "IsADirectoryError": "is a folder, not a file"}.get(
            type(error).__name__, f"cannot be read: {error.strerror}"
        )
        raise FaultyFile([Fault(path, 0, reason)]) from None
