"""What a socket holds for us that its loop has not read yet. It is asked before each request, so it costs one call of
the system."""

import asyncio
import os

try:
    import fcntl
    import termios
except ImportError:  # Windows: nobody can ask there
    fcntl = None  # type: ignore[assignment]

_NOTHING = bytes(4)


class Readable:
    """Of one transport's socket, as long as that is open: whoever has this drops it before."""

    __slots__ = ("_count", "_number")

    def __init__(self, transport: asyncio.BaseTransport) -> None:
        inner = transport.get_extra_info("socket")
        self._number: int = inner.fileno() if inner is not None and fcntl is not None else -1
        self._count = bytearray(4)

    def __bool__(self) -> bool:
        """Whether there is something to be read."""
        if self._number < 0:
            return False
        try:
            fcntl.ioctl(self._number, termios.FIONREAD, self._count)
        except OSError:
            return False
        return self._count != _NOTHING

    def read(self, most: int) -> bytes:
        """What is there, or nothing. An end or an error is left for the loop, which finds it too."""
        try:
            return os.read(self._number, most)
        except OSError:
            return b""
