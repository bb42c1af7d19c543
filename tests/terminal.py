"""Drives the real application in tmux: keys go in, the screen's text comes out."""

import os
import re
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from itertools import count
from pathlib import Path

_numbers = count()
_TOO_SOON = "look first, then press|press it again"
KANALETO = f"{sys.executable} -m kanaleto"


def _outlive(session: int, within_s: float = 20) -> None:
    """Wait until nothing of this session runs: what is ending may still write to its folder."""
    end = time.monotonic() + within_s
    while running := [process for process, _, of in _processes() if of == session]:
        if time.monotonic() > end:
            for process in running:
                with suppress(ProcessLookupError):
                    os.kill(process, signal.SIGKILL)
        time.sleep(0.02)


def _processes() -> Iterator[tuple[int, int, int]]:
    """Each process that runs, with its parent and its session."""
    for stat in Path("/proc").glob("[0-9]*/stat"):
        with suppress(FileNotFoundError, ProcessLookupError):
            state, parent, _, session, *_ = stat.read_text(errors="replace").rpartition(")")[2].split()
            if state not in "ZX":
                yield int(stat.parent.name), int(parent), int(session)


class Terminal:
    """A shell in a tmux server of its own, `size` columns by rows; `environment` is added to it."""

    def __init__(self, size: tuple[int, int] = (160, 47), environment: dict[str, str] | None = None) -> None:
        self._socket = f"kanaleto-test-{os.getpid()}-{next(_numbers)}"
        self._size = size
        self._own = tempfile.TemporaryDirectory()  # so that no test sees what another, or the user, has kept
        self.folder = Path(self._own.name)
        kept = {"XDG_DATA_HOME": f"{self.folder}/data", "XDG_STATE_HOME": f"{self.folder}/state"}
        self._environment = kept | (environment or {})

    def __enter__(self) -> "Terminal":
        columns, rows = self._size
        self._tmux(
            "-f", "/dev/null", "new-session", "-d", "-x", str(columns), "-y", str(rows), "env PS1='$ ' ENV= sh -i"
        )
        self._tmux("set", "-g", "escape-time", "10")
        for name, value in self._environment.items():
            self.type(f"export {name}={value}", "Enter")
        self.wait_for(r"\$")
        return self

    def __exit__(self, *arguments: object) -> None:
        session = int(self._tmux("display-message", "-p", "#{pane_pid}"))
        self._tmux("kill-server")
        _outlive(session)
        self._own.cleanup()

    def _tmux(self, *words: str) -> str:
        return subprocess.run(
            ["tmux", "-L", self._socket, *words], check=True, capture_output=True, text=True, cwd=Path.cwd()
        ).stdout

    def type(self, *keys: str) -> None:
        """Send keys, as tmux names them."""
        for key in keys:
            self._tmux("send-keys", "--", key)
            if key == "Escape":
                time.sleep(0.3)  # or it and the next key would be one with alt

    def paste(self, text: str) -> None:
        """Paste in brackets, as a terminal does."""
        self._tmux("set-buffer", text)
        self._tmux("paste-buffer", "-p")

    def send(self, *keys: str) -> None:
        """Send keys in one go, without waiting for anything."""
        self._tmux("send-keys", "--", *keys)

    def write(self, text: str) -> None:
        """Send text as it stands."""
        self._tmux("send-keys", "-l", "--", text)

    def resize(self, columns: int, rows: int) -> None:
        self._tmux("resize-window", "-x", str(columns), "-y", str(rows))

    def signal(self, number: int) -> None:
        """To what runs in the shell."""
        shell = int(self._tmux("display-message", "-p", "#{pane_pid}"))
        for process in [process for process, parent, _ in _processes() if parent == shell]:
            with suppress(ProcessLookupError):
                os.kill(process, number)

    def roll(self, is_down: bool, column: int, row: int) -> None:
        """One step of the wheel over a cell, counted from 1."""
        self.write(f"\x1b[<{65 if is_down else 64};{column};{row}M")

    def press(self, key: str, pattern: str) -> str:
        """A key, and what comes of it."""
        self.send(key)
        return self.wait_pressing(pattern, key)

    def wait_pressing(self, pattern: str, key: str) -> str:
        """For that; a key that counts only alone, and only where what it confirms could be read, is pressed again where
        the application says so: on a busy machine keys come to it in bursts."""
        for _ in range(20):
            screen = self.wait_until(lambda now: re.search(rf"{pattern}|{_TOO_SOON}", now, re.M), repr(pattern))
            if not re.search(_TOO_SOON, screen):
                return screen
            with suppress(AssertionError):
                return self.wait_for(pattern, 10)
            self.send(key)
        raise AssertionError(f"{pattern!r} did not come about on:\n{self.screen}")

    def run(self, command: str) -> None:
        self.type(command, "Enter")

    @property
    def screen(self) -> str:
        return self._tmux("capture-pane", "-p")

    def wait_until(self, is_there: Callable[[str], object], what: str, within_s: float = 300) -> str:
        """The screen once `is_there` finds what it looks for."""
        end = time.monotonic() + within_s
        while time.monotonic() < end:
            screen = self.screen
            if is_there(screen):
                return screen
            time.sleep(0.1)
        raise AssertionError(f"{what} did not appear within {within_s} s on:\n{self.screen}")

    def wait_for(self, pattern: str, within_s: float = 300) -> str:
        return self.wait_until(lambda screen: re.search(pattern, screen), repr(pattern), within_s)
