"""What was read of one block lately: times and the bytes as they came, in a ring. Values are decoded from them when
somebody looks; a thousand blocks cost no more than their bytes.

The engine's thread appends, others read: what is read is a copy, taken again where something came meanwhile.
"""

import time
from array import array

TRACE_EVERY_S = 0.5
TRACE_LENGTH = 120

_NO_TIMES, _NO_DATA = array("d"), bytearray()
"""Of traces that nothing was put into yet."""


class Trace:
    """The last `TRACE_LENGTH` answers, each `size` bytes; none sooner than `TRACE_EVERY_S` behind another."""

    __slots__ = ("_at", "_count", "_data", "_size", "_version")

    def __init__(self) -> None:
        self._version = 0  # odd while something is written
        self._size = -1  # before the first
        self._count = 0  # since the beginning
        self._at, self._data = _NO_TIMES, _NO_DATA

    def append(self, at_s: float, data: bytes) -> None:
        """An answer that came then; all of a trace are of one length."""
        if (
            len(data) == self._size
            and self._count
            and 0 <= at_s - self._at[(self._count - 1) % TRACE_LENGTH] < TRACE_EVERY_S
        ):
            return
        self._version += 1
        if len(data) != self._size:
            self._size, self._count = len(data), 0
            self._at, self._data = array("d"), bytearray()
        place = self._count % TRACE_LENGTH
        if place == len(self._at):
            self._at.append(at_s)
            self._data += data
        else:
            self._at[place] = at_s
            self._data[place * self._size : (place + 1) * self._size] = data
        self._count += 1
        self._version += 1

    def __len__(self) -> int:
        return len(self._at)

    def read(self) -> list[tuple[float, bytes]]:
        """When each came, and its bytes, the newest last."""
        while True:
            version = self._version
            count, size, at, data = self._count, self._size, self._at[:], bytes(self._data)
            if self._version == version and not version & 1:
                break
            time.sleep(0)
        length = len(at)
        first = count % TRACE_LENGTH if length == TRACE_LENGTH else 0
        order = (*range(first, length), *range(first))
        return [(at[place], data[place * size : (place + 1) * size]) for place in order]
