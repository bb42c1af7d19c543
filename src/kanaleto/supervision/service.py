"""What a service tells its manager: that it is ready, that it still lives, that it ends. By the protocol of the socket
in NOTIFY_SOCKET; where that is not set, nothing is reported."""

import asyncio
import os
import socket
from contextlib import suppress

_IDLE_S = 3600.0
_SHARE = 0.5  # of the time within which the manager wants to hear of it


class ServiceManager:
    """Who has started us and watches over us, where somebody does."""

    def __init__(self) -> None:
        self._place = os.environ.get("NOTIFY_SOCKET", "")
        self._watchdog_s: float | None = None
        is_ours = os.environ.get("WATCHDOG_PID", str(os.getpid())) == str(os.getpid())
        with suppress(ValueError):
            microseconds = int(os.environ.get("WATCHDOG_USEC", "0"))
            if self._place and is_ours and microseconds > 0:
                self._watchdog_s = _SHARE * microseconds / 1e6

    async def run(self) -> None:
        """Ready now; alive as long as this loop turns; ending once this is cancelled."""
        self._tell("READY=1")
        try:
            while True:
                await asyncio.sleep(self._watchdog_s or _IDLE_S)
                if self._watchdog_s is not None:
                    self._tell("WATCHDOG=1")
        finally:
            self._tell("STOPPING=1")

    def _tell(self, text: str) -> None:
        if not self._place:
            return
        place = "\0" + self._place[1:] if self._place.startswith("@") else self._place
        with suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as sending:
            sending.sendto(text.encode(), place)
