"""A recording as whoever asks for it has it: begun, going on, ended. The samples are written by a process of its own;
two threads here feed it and hear what it says, and nothing of the engine ever waits for either."""

import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import msgspec

from kanaleto.events.log import length_text
from kanaleto.files.beside import make_own
from kanaleto.history.recordsink import RecordSink
from kanaleto.history.renames import Rename
from kanaleto.history.store_error import CannotRecord
from kanaleto.site.model import Keeping
from kanaleto.supervision.owned import Owned, owned_thread

FILE = "record.db"
_EVERY_S, _COMMITS_EVERY = 0.1, 3  # what the writer has heard is kept, whatever becomes of us
_READY_S = 30.0
_END_S = 2.5  # whoever quits does not wait longer for a store that has hung
_AGAIN_S = 5.0

OnTrouble = Callable[[str], None]
Renamed = tuple[int, Rename]
"""When, in microseconds since 1970, and what."""


class Recorder:
    """`sink` is to hear of all that is polled. `store` is a file or a URL; `may_stand_beside` where a second file is to
    be taken when the first cannot. `begin` raises CannotRecord; later troubles are reported by `on_trouble`, once each,
    on a thread of its own, and "" when they are over; `on_back` then says so in one sentence."""

    def __init__(
        self, sink: RecordSink, store: str, may_stand_beside: bool, site: str, program: str, who: str, keeping: Keeping,
        renamed: list[Renamed], wall: Callable[[], float], on_trouble: OnTrouble,
        on_back: OnTrouble = lambda text: None,
    ) -> None:  # fmt: skip
        self.sink = sink
        self.store = store
        self.kept = self._kept_before = 0  # rows, of all its writers and of those before the one that writes
        self.end_within_s = _END_S
        self._asked: dict[str, Any] = {
            "store": store, "may_stand_beside": may_stand_beside, "site": site, "program": program, "who": who,
            "host": socket.gethostname(), "days": keeping.days, "most_mb": keeping.most_mb,
            "renamed": [[at_us, list(old), list(new)] for at_us, (old, new) in renamed],
        }  # fmt: skip
        self._wall, self._on_trouble, self._on_back = wall, on_trouble, on_back
        self._troubled_s: float | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._answers: threading.Event = threading.Event()
        self._said: dict[str, Any] = {}
        self._is_over = threading.Event()
        self._reported_lost = 0
        self._hearer: threading.Thread | None = None
        self._has_more = False  # was handed on, and is not committed yet
        self._feeder = owned_thread("record: hands on", self._feed)

    def begin(self) -> str:
        """Start the writer, and wait until it has its store; what is to be reported of that. Raises CannotRecord."""
        self._start()
        self._feeder.start()
        return str(self._said.get("ready", {}).get("told", ""))

    def _start(self) -> None:
        self._answers.clear()
        self._said = {}
        self._kept_before = self.kept
        if self._asked["may_stand_beside"]:  # the site's own place
            with suppress(OSError):
                make_own(Path(self._asked["store"]).parent)
        command = [sys.executable, "-m", "kanaleto.history.writer", str(os.getpid())]
        process = self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True
        )  # fmt: skip
        self._hearer = owned_thread("record: hears its writer", partial(self._hear, process))
        self._hearer.start()
        with suppress(OSError):
            self._write([{"open": {**self._asked, "at_us": round(self._wall() * 1e6)}}])
        if not self._answers.wait(_READY_S):
            process.kill()
            raise CannotRecord(f"{self._asked['store']} does not answer: nothing is recorded")
        if "failed" in self._said:
            self._reap(process, 5.0)
            raise CannotRecord(str(self._said["failed"]))
        self.store = str(self._said["ready"]["store"])

    def _hear(self, process: "subprocess.Popen[bytes]") -> None:
        assert process.stdout is not None
        for line in process.stdout:
            try:
                said = msgspec.json.decode(line)
            except msgspec.DecodeError:
                continue
            if process is not self._process:  # another writes by now
                continue
            if "kept" in said:
                self.kept = self._kept_before + int(said["kept"])
            elif "trouble" in said:
                self._stand_still(str(said["trouble"]))
            else:
                self._said = said
                self._answers.set()
        process.stdout.close()
        if process is self._process and not self._answers.is_set():
            self._said = {"failed": "the writer of the record ended before it began"}
            self._answers.set()

    def _stand_still(self, why: str) -> None:
        """One line when it goes, one when it goes on."""
        if why and self._troubled_s is None:
            self._troubled_s = self._wall()
            self._on_trouble(f"recording stands still: {why}")
        elif not why and self._troubled_s is not None:
            lasted, self._troubled_s = length_text(max(self._wall() - self._troubled_s, 0.0)), None
            self._on_trouble("")
            lost = f"; {self.sink.lost} samples were lost" if self.sink.lost else "; what came meanwhile is there"
            self._on_back(f"recording goes on after {lasted}{lost}")

    def _write(self, messages: list[dict[str, Any]]) -> None:
        process = self._process
        if process is None or process.stdin is None:
            raise BrokenPipeError
        for message in messages:
            process.stdin.write(msgspec.json.encode(message) + b"\n")
        process.stdin.flush()

    def _feed(self) -> None:
        turn, owned = 0, Owned("record")
        while not self._is_over.wait(_EVERY_S):
            turn += 1
            with owned:
                self._hand_on(turn % _COMMITS_EVERY == 0)
        with owned:
            self._hand_on(True)
        owned.finish()

    def _hand_on(self, commits: bool) -> None:
        messages = self.sink.take()
        self._has_more = self._has_more or bool(messages)
        if not self._has_more or not (messages or commits):
            return
        try:
            self._write([*messages, {"commit": True}] if commits else messages)
            self._has_more = not commits
        except (OSError, ValueError):
            self._begin_again()
            return
        lost = self.sink.lost
        if lost != self._reported_lost:
            self._reported_lost = lost
            self._on_trouble(f"{lost} samples were not recorded: the store does not keep up")

    def _begin_again(self) -> None:
        """The writer has gone."""
        if self._is_over.is_set():
            return
        self._stand_still("its writer has ended, and is started again")
        if self._process is not None:
            self._reap(self._process, 0.1)
        try:
            self._start()
        except CannotRecord as error:
            self._stand_still(str(error))
            self._is_over.wait(_AGAIN_S)
            return
        self.sink.must_begin_again = True
        self._stand_still("")

    def end(self) -> None:
        """The rest is written, or given up after a while. The sink hears nothing more."""
        self.sink.end(round(self._wall() * 1e6))
        self._is_over.set()
        end_s = time.monotonic() + self.end_within_s
        self._feeder.join(self.end_within_s)
        process = self._process
        if process is None:
            return
        if self._feeder.is_alive():  # its writer takes nothing: to close what is being written to would wait for it
            process.kill()
            self._feeder.join(1.0)
        if not self._reap(process, max(end_s - time.monotonic(), 0.2)) or self._feeder.is_alive():
            self._on_trouble(f"the record did not take the rest within {self.end_within_s:g} s, and was given up")
        if self._hearer is not None:
            self._hearer.join(1.0)  # its last word says how much was kept

    def _reap(self, process: "subprocess.Popen[bytes]", timeout_s: float) -> bool:
        """Its end; whether it came by itself."""
        if process.stdin is not None:
            with suppress(OSError):
                process.stdin.close()
        try:
            process.wait(timeout_s)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        return process.returncode is not None and process.returncode >= 0


def default_store(folder: Path) -> str:
    """Where a site is recorded to unless another place is named."""
    return str(folder / FILE)


def records_of(folder: Path) -> list[Path]:
    """The record of a folder, and those that came to stand beside it."""
    return sorted(path for path in folder.glob("record*.db") if path.is_file())
