"""The link at a site's port path that leads to our pseudo-terminal, and whose it is.

A hidden file beside the link names the pseudo-terminal and is locked while it is served. So a link left by a crash is
known as ours and replaced, a link that another program serves is reported, and anything else that stands there is left
alone.
"""

import errno
import os
import stat
from contextlib import suppress
from pathlib import Path

from kanaleto.serving.network import CannotServe, PlaceTaken

try:
    import fcntl
except ImportError:  # no pseudo-terminals on such a system either
    fcntl = None  # type: ignore[assignment]


_MOST_MARK = 4096  # bytes; a mark holds the path of a pseudo-terminal


class PortLink:
    """The link at `path`; `line_name` is for messages. `is_joined`: it is an end of a pair, to be opened by others as
    any port is."""

    def __init__(self, path: str, line_name: str, is_joined: bool = False) -> None:
        self._path = Path(path)
        self._mark = self._path.with_name(f".{self._path.name}.{'joined' if is_joined else 'served'}")
        self._line_name = line_name
        self._lock = -1
        self._target = ""

    def is_port_of_others(self) -> bool:
        """Whether a port stands there that we did not make: it is to be opened, not replaced."""
        return self._path.exists() and not self._is_ours()

    def _is_ours(self) -> bool:
        try:
            is_mark = self._mark.is_file() and not self._mark.is_symlink()
            return is_mark and self._path.is_symlink() and os.readlink(self._path) == self._mark.read_text()
        except (OSError, UnicodeDecodeError):
            return False

    def make(self, target: str) -> None:
        """Link to the pseudo-terminal `target`, only in a folder of the user's, never under /dev. Raises
        CannotServe."""
        folder = self._folder()
        if folder == Path("/dev") or Path("/dev") in folder.parents:
            raise CannotServe(
                f"{self._line_name}: there is no port {self._path}, and none is made "
                "under /dev; name a path in a folder of yours"
            )
        try:
            self._lock = os.open(self._mark, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK, 0o600)
            status = os.fstat(self._lock)
            if not stat.S_ISREG(status.st_mode) or status.st_nlink != 1 or status.st_size > _MOST_MARK:
                self._unlock()
                raise CannotServe(f"{self._line_name}: {self._mark} is in the way and not ours; remove it")
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self._unlock()
            raise PlaceTaken(
                f"{self._line_name}: {self._path} is served by another process already; stop that one first"
            ) from None
        except OSError as error:
            if error.errno == errno.ELOOP:
                raise CannotServe(
                    f"{self._line_name}: {self._mark} is a symbolic link, which is not followed; remove it"
                ) from None
            raise CannotServe(f"{self._line_name}: {self._mark} cannot be written: {error.strerror}") from None
        try:
            if self._is_ours():
                self._path.unlink()
            self._path.symlink_to(target)
        except OSError as error:
            self._unlock()
            self._mark.unlink(missing_ok=True)
            if isinstance(error, FileExistsError):
                raise PlaceTaken(
                    f"{self._line_name}: {self._path} is there already and not ours; remove it or name another path"
                ) from None
            raise CannotServe(f"{self._line_name}: {self._path} cannot be linked: {error.strerror}") from None
        os.ftruncate(self._lock, 0)
        os.write(self._lock, target.encode())
        self._target = target

    def _folder(self) -> Path:
        parent = self._path.parent
        try:
            if parent != Path("/dev") and Path("/dev") not in parent.parents:
                parent.mkdir(parents=True, exist_ok=True)
            folder = parent.resolve()
            is_own = not hasattr(os, "getuid") or folder.stat().st_uid == os.getuid()
        except OSError as error:
            raise CannotServe(
                f"{self._line_name}: no folder {parent} for a pseudo-terminal: {error.strerror}"
            ) from None
        if not is_own and folder != Path("/dev"):
            raise CannotServe(f"{self._line_name}: {parent} is not your folder; name a path in one of yours")
        return folder

    def remove(self) -> None:
        """Take our link away; whatever stands there instead by now is left."""
        if not self._target:
            return
        with suppress(OSError):
            if os.readlink(self._path) == self._target:
                self._path.unlink()
            self._mark.unlink()
        self._unlock()

    def _unlock(self) -> None:
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1
