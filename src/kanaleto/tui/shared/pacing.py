"""How far a terminal is behind: what was written for it and has not gone out yet. A slow one (a radio link, a modem) is
drawn on less often, and so never far behind a key."""

import os
import select
import time
from typing import Any, TextIO

from kanaleto.tui.shared.charset import PLAIN

MOST_BEHIND = 2000
"""Characters: what is drawn at rest waits while more than these are under way."""

_LOOK_MS = 50


class Flow:
    """Stands for the terminal's file, and counts. A terminal that is not read holds nobody up for longer than
    `give_up_at` says: then what is left for it is dropped."""

    def __init__(self, file: TextIO, charset: str = "utf-8") -> None:
        self._file = file
        self._charset = charset
        self._descriptor = _descriptor_of(file)
        self.asked = 0
        self.gone = 0
        self.give_up_at: float | None = None
        """From this time (of the monotonic clock) on nothing is written any more."""

    @property
    def behind(self) -> int:
        return self.asked - self.gone

    def write(self, text: str) -> int:
        if self._descriptor is None:
            self._file.write(text)
            self._file.flush()
        else:
            self._write_bytes(self._descriptor, text.encode(self._charset, PLAIN))
        self.gone += len(text)
        return len(text)

    def _write_bytes(self, descriptor: int, data: bytes) -> None:
        """In pieces, as the terminal takes them; the file itself would block for as long as it likes."""
        ready = select.poll()
        ready.register(descriptor, select.POLLOUT)
        while data and not self._has_given_up:
            if not ready.poll(_LOOK_MS):
                continue
            try:
                data = data[os.write(descriptor, data) :]
            except BlockingIOError:
                continue
            except OSError:  # it has gone away
                self.give_up_at = 0.0

    @property
    def _has_given_up(self) -> bool:
        return self.give_up_at is not None and time.monotonic() >= self.give_up_at

    def flush(self) -> None:
        """All that was written has gone."""

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


def _descriptor_of(file: TextIO) -> int | None:
    """The same terminal once more, so that writing to it need not block; None where there is none."""
    try:
        return os.open(os.ttyname(file.fileno()), os.O_WRONLY | os.O_NONBLOCK | os.O_NOCTTY)
    except (OSError, AttributeError, ValueError):
        return None
