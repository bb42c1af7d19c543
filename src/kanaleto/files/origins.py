"""Where the answers of a line come from. What is served by Kanaleto says so in a mark of its own, beside its
site and in the user's folder: that decides before the rule by place."""

import json
import os
import secrets
import socket
import time
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from threading import Lock
from typing import Any

from msgspec import Struct
from platformdirs import user_state_path

from kanaleto.files.beside import folder_beside, make_own
from kanaleto.files.texts import read_json
from kanaleto.site.links.link import Link, is_loopback, is_same_place
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Line
from kanaleto.site.origin import Origin

_EACH_S = 2.0
_MOST_MARKS, _MOST_LINKS = 64, 500
_ENDING = ".serves"
_PTS = ("/dev/pts/", "/dev/ttys")


class Serves(Struct, frozen=True):
    """One place at which a program answers for a line. `port` is the serial port that it holds, where that is read
    through there."""

    line: str
    link: Link
    origin: Origin
    port: str = ""


class ServingMark:
    """What this program serves, declared as long as it does. `site` is its file, where it serves one."""

    def __init__(self, site: Path | None) -> None:
        self._folders = [_of_user(), *([folder_beside(site) / "open"] if site is not None else [])]
        self._name = f"{os.getpid()}-{secrets.token_hex(4)}"
        self._locks: dict[Path, Any] = {}
        self._turn = Lock()
        self._is_over = False

    def say(self, serves: Iterable[Serves]) -> None:
        """A folder that cannot be written is no reason to fail. For any thread."""
        with self._turn:
            if self._is_over:
                return
            entries = [
                {"line": served.line, "link": str(served.link), "origin": served.origin.value}
                | ({"port": served.port} if served.port else {})
                for served in serves
            ]
            text = json.dumps({"pid": os.getpid(), "host": socket.gethostname(), "serves": entries}) + "\n"
            for folder in self._folders:
                with suppress(OSError, TimeoutError):
                    self._write(folder, text)

    def _write(self, folder: Path, text: str) -> None:
        from filelock import FileLock  # a start need not wait for it

        make_own(folder)
        path = folder / f"{self._name}{_ENDING}"
        if path not in self._locks:
            lock = FileLock(path.with_suffix(".lock"))
            lock.acquire(timeout=1)
            self._locks[path] = lock
        beside = path.with_suffix(".part")
        beside.write_text(text, encoding="utf-8")
        beside.replace(path)

    def leave(self) -> None:
        with self._turn:
            self._is_over = True
            for path, lock in self._locks.items():
                with suppress(OSError):
                    path.unlink(missing_ok=True)
                    lock.release()
                    path.with_suffix(".lock").unlink(missing_ok=True)
                    path.parent.rmdir()  # fails while others are there
            self._locks.clear()


class _Marks:
    """What programs of this user serve on this machine, as it was when it was looked at last."""

    def __init__(self) -> None:
        self.version = 0
        self._due_s = 0.0
        self._serves: list[Serves] = []

    def look(self) -> None:
        """Read them again, every few seconds at most. It looks at the disk."""
        now_s = time.monotonic()
        if now_s < self._due_s:
            return
        self._due_s = now_s + _EACH_S
        found = [served for path in _marks_in(_of_user()) for served in _read(path)]
        if found != self._serves:
            self._serves = found
            self.version += 1

    def at(self, link: Link) -> Origin | None:
        return next((serves.origin for serves in self._serves if is_same_place(serves.link, link)), None)

    def through(self, port: str) -> Link | None:
        real = os.path.realpath(port)
        return next(
            (serves.link for serves in self._serves if serves.port and os.path.realpath(serves.port) == real), None
        )


_marks = _Marks()


def look_around() -> int:
    """Look who serves what, every few seconds at most; a number that is another one when something has changed."""
    _marks.look()
    return _marks.version


def origins_known() -> int:
    """That number, without a look at the disk."""
    return _marks.version


def is_declared(line: Line) -> bool:
    """Whether a Kanaleto program says that it answers there, as far as `look_around` has seen."""
    return _marks.at(line.link) is not None


def read_through(port: str) -> Link | None:
    """Where a serial port that another Kanaleto program holds can be read through, as far as `look_around` has seen."""
    return _marks.through(port)


def origin_of(line: Line) -> Origin:
    """What serves it says, as far as `look_around` has seen; else what the site says of the line; else a stand-in at a
    pseudo-terminal or the loopback address, and real elsewhere."""
    address, port = line.link.address, line.link.local_port
    is_here = is_loopback(address[0]) if address is not None else port is not None and _is_pseudo_terminal(port)
    served = _marks.at(line.link) if is_here else None
    if served is not None:
        return served
    if line.origin:
        return Origin(line.origin)
    return Origin.STAND_IN if is_here else Origin.REAL


def _is_pseudo_terminal(port: str) -> bool:
    return os.path.realpath(port).startswith(_PTS)


def _of_user() -> Path:
    return user_state_path("kanaleto") / "open"


def _marks_in(folder: Path) -> list[Path]:
    try:
        return sorted(folder.glob(f"*{_ENDING}"))[:_MOST_MARKS]
    except OSError:
        return []


def _read(path: Path) -> list[Serves]:
    """What it says, where the program that said so still runs."""
    from filelock import FileLock, Timeout

    lock = FileLock(path.with_suffix(".lock"))
    try:
        lock.acquire(timeout=0)
    except Timeout:
        return _said(read_json(path))
    except OSError:
        return []
    with suppress(OSError):
        path.unlink(missing_ok=True)
        lock.release()
        path.with_suffix(".lock").unlink(missing_ok=True)
    return []


def _said(entry: Any) -> list[Serves]:
    found: list[Serves] = []
    try:
        if entry["host"] != socket.gethostname():  # a home folder that machines share: its loopback is another one
            return []
        for served in entry["serves"][:_MOST_LINKS]:
            link, origin = parse_link(str(served["link"])), Origin(served["origin"])
            found.append(Serves(str(served["line"]), link, origin, str(served.get("port", ""))))
    except (ValueError, KeyError, TypeError):
        return []
    return found
