"""The process that writes a record: `python -m kanaleto.history.writer PID`, where PID is whoever started it. It takes
messages as JSON lines from its standard input (`history.recording` says which), and says on its standard output what
it has kept, and what it cannot. It ends when its input does: whoever started it may be killed, and what had come is
kept, unless the store takes nothing for some seconds. A thread of its own takes in what comes.

The first message is `open`. What a database does not take is tried again and again; meanwhile nothing more is taken in.
"""

import os
import signal
import sys
import threading
import time
from functools import partial
from pathlib import Path
from queue import Queue
from typing import Any

import msgspec

from kanaleto.editing.crashes import keep_fault
from kanaleto.history.recording import Recording
from kanaleto.history.store import CannotRecord, Store, StoreError, path_of, sentence, url_of

_AGAIN_S = 1.0
_LOOK_S, _ALONE_S = 0.25, 4.0
_MOST_BESIDE = 9
_PRUNED_EVERY_US = 3_600_000_000
_MOST_ROWS = 20_000
_MOST_HEARD = 20_000  # messages, of some hundred bytes each


class _Guard:
    """Ends the process where whoever started it is gone: at once before there is a store, which may never answer, and
    some seconds later afterwards."""

    def __init__(self, parent: int) -> None:
        self.has_store = False
        self._parent = parent
        threading.Thread(target=self._watch, name="guard", daemon=True).start()

    def _watch(self) -> None:
        while os.getppid() == self._parent:
            time.sleep(_LOOK_S)
        if self.has_store:
            time.sleep(_ALONE_S)
        os._exit(1)


def main() -> int:
    guard = _Guard(int(sys.argv[1]) if len(sys.argv) > 1 else os.getppid())
    for name in ("SIGINT", "SIGHUP"):  # the terminal sends it to all; whoever started this decides
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    source = sys.stdin.buffer
    command = msgspec.json.decode(source.readline() or b"{}")
    if "open" not in command:
        return 2
    asked = command["open"]
    try:
        store, beside = open_store(asked["store"], bool(asked["may_stand_beside"]))
    except CannotRecord as error:
        _say({"failed": str(error)})
        return 1
    guard.has_store = True
    try:
        if asked["may_stand_beside"]:  # the site's own: it may be called otherwise since
            store.adopt(asked["site"])
        lived_us = store.last_lived(asked["site"])
        for at_us, old, new in asked["renamed"]:
            if at_us > lived_us:  # what came before was done then
                store.rename(asked["site"], (old[0], old[1]), (new[0], new[1]))
        recording = Recording(store, asked["site"], asked["program"], asked["who"], asked["host"], asked["at_us"])
        _say({"ready": {"store": store.name, "told": beside}})
        _Writer(store, recording, asked["days"], asked["most_mb"] * 1_000_000).run()
    except StoreError as error:
        _say({"failed": str(sentence(error, store.url))})
        return 1
    except _Gone as gone:
        _say({"trouble": str(gone)})
        return 1
    except Exception as error:  # an internal error: its details are in a file, and whoever started this starts it again
        keep_fault(error)
        return 1
    finally:
        store.close()
    return 0


def open_store(text: str, may_stand_beside: bool) -> tuple[Store, str]:
    """The store, or one beside it where it is damaged or somebody else writes it, with what is to be reported of that.
    Raises CannotRecord."""
    url, message = url_of(text), ""
    path = path_of(url)
    for number in range(1, _MOST_BESIDE + 1):
        target = url if number == 1 or path is None else url_of(str(path.with_stem(f"{path.stem}-{number}")))
        try:
            store = Store(target)
        except CannotRecord as error:
            if path is None or not may_stand_beside or not (error.is_taken or error.is_damaged):
                raise
            message = message or str(error)
            continue
        return store, f"{message}: recorded to {Path(store.name).name} beside it" if message else ""
    raise CannotRecord(message)


class _Gone(Exception):
    """One sentence: what is written does not stand where it is looked for."""


class _Writer:
    def __init__(self, store: Store, recording: Recording, days: int, most_bytes: int) -> None:
        self._store, self._recording = store, recording
        self._days, self._most_bytes = days, most_bytes
        self._next_prune_us = 0
        self._is_troubled = False
        self._heard: Queue[bytes] = Queue(_MOST_HEARD)
        threading.Thread(target=self._hear, name="hears", daemon=True).start()

    def _hear(self) -> None:
        """What comes is here at once, however long the database takes: whoever sent it may be killed."""
        for line in sys.stdin.buffer:
            self._heard.put(line)
        self._heard.put(b"")

    def run(self) -> None:
        decode = msgspec.json.Decoder().decode
        while line := self._heard.get():
            message: dict[str, Any] = decode(line)
            if "commit" in message:
                self._do(self._commit)
                continue
            self._do(partial(self._recording.take, message))
            if self._recording.waiting > _MOST_ROWS:
                self._do(self._commit)
        self._do(self._commit, is_last=True)

    def _commit(self) -> None:
        if not self._store.is_there:
            raise _Gone(f"{self._store.name} was deleted or moved: a new one is begun")
        self._recording.commit()
        beat_us = self._recording.beat_us
        if not 0 <= self._next_prune_us - beat_us <= _PRUNED_EVERY_US:
            self._store.prune(beat_us, self._days, self._most_bytes)
            self._next_prune_us = beat_us + _PRUNED_EVERY_US
        _say({"kept": self._recording.rows_kept, "through_us": beat_us})

    def _do(self, what: Any, is_last: bool = False) -> None:
        """Until it is done; at the end once only."""
        while True:
            try:
                what()
            except StoreError as error:
                self._store.roll_back()
                if not self._is_troubled:  # once, whatever else it says while it is away
                    _say({"trouble": str(sentence(error, self._store.url))})
                self._is_troubled = True
                if is_last:
                    return
                time.sleep(_AGAIN_S)
                try:
                    self._store.reconnect()
                except StoreError:
                    continue
            else:
                if self._is_troubled:
                    self._is_troubled = False
                    _say({"trouble": ""})
                return


def _say(what: dict[str, Any]) -> None:
    try:
        sys.stdout.buffer.write(msgspec.json.encode(what) + b"\n")
        sys.stdout.buffer.flush()
    except OSError:  # nobody hears it any more
        return


if __name__ == "__main__":
    sys.exit(main())
