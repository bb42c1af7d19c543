"""Who else has a site open: each program holds a lock beside the site as long as it runs, and says there who it is. A
lock that nobody holds any more is taken away by whoever finds it."""

import getpass
import json
import os
import secrets
import socket
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct

from kanaleto.files.beside import folder_beside, make_own, require_own
from kanaleto.files.texts import read_json

_FOLDER = "open"


class Other(Struct, frozen=True):
    """Another program that has the site open."""

    user: str
    host: str
    pid: int
    since: str

    def __str__(self) -> str:
        return f"{self.user} on {self.host} since {self.since} (process {self.pid})"


class Presence:
    """Being there, until `leave`."""

    def __init__(self, site: Path) -> None:
        from filelock import FileLock  # a start need not wait for it

        folder = folder_beside(site) / _FOLDER
        make_own(folder)
        self.path = folder / f"{os.getpid()}-{secrets.token_hex(4)}.json"
        self._lock = FileLock(self.path.with_suffix(".lock"))
        self._lock.acquire(timeout=1)
        fields = {
            "user": user_name(),
            "host": socket.gethostname(),
            "pid": os.getpid(),
            "since": f"{datetime.now():%Y-%m-%d %H:%M}",
        }
        self.path.write_text(json.dumps(fields) + "\n", encoding="utf-8")  # half of it is read as somebody, too

    def leave(self) -> None:
        with suppress(OSError):
            self.path.unlink(missing_ok=True)
            self._lock.release()
            self.path.with_suffix(".lock").unlink(missing_ok=True)
            self.path.parent.rmdir()  # fails while others are there


def others_at(site: Path, presence: Presence | None = None) -> list[Other]:
    """Who else has it open now, on any machine that shares the folder."""
    found: list[Other] = []
    folder = folder_beside(site) / _FOLDER
    try:
        paths = sorted(folder.glob("*.json"))
    except OSError:
        return []
    for path in paths:
        if presence is None or path != presence.path:
            other = _look(path)
            found += [other] if other is not None else []
    return found


def _look(path: Path) -> Other | None:
    from filelock import FileLock, Timeout

    lock = FileLock(path.with_suffix(".lock"))
    try:
        require_own(path.with_suffix(".lock"))
        lock.acquire(timeout=0)
    except (Timeout, OSError):
        return _other_in(path)
    with suppress(OSError):
        path.unlink(missing_ok=True)
        lock.release()
        path.with_suffix(".lock").unlink(missing_ok=True)
    return None


def _other_in(path: Path) -> Other | None:
    if not path.exists():
        return None
    said: Any = read_json(path)
    try:
        return Other(str(said["user"])[:40], str(said["host"])[:40], int(said["pid"]), str(said["since"])[:20])
    except (ValueError, KeyError, TypeError):
        return Other("somebody", "this machine", 0, "a while")


def user_name() -> str:
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):  # no name for this number, or no names at all
        return str(os.getuid()) if hasattr(os, "getuid") else "somebody"
