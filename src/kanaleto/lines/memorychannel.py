"""A channel in memory, for tests and trials on a virtual clock: no thread, no socket, only the loop's timers."""

import asyncio
from collections.abc import Callable

from kanaleto.lines.channel import OnData, OnLost, Unreachable
from kanaleto.lines.portcounters import PortCounters

FarEnd = Callable[[bytes, float], list[tuple[float, bytes]]]
"""Given bytes and the time the last of them arrived: pieces to deliver, each with its time."""


class MemoryChannel:
    """Bytes written reach `far_end` when their last has left; what it gives comes back at the times that it says."""

    keeps_time = True
    is_datagram = False

    def __init__(self, far_end: FarEnd, character_s: float = 0.0, gap_s: float = 0.0) -> None:
        self.character_s = character_s
        self.gap_s = gap_s
        self.why_unreachable: str | None = None
        self.counters: PortCounters | None = None
        self._far_end = far_end
        self._loop: asyncio.AbstractEventLoop | None = None
        self._on_data: OnData | None = None
        self._on_lost: OnLost | None = None
        self._generation = 0

    @property
    def is_open(self) -> bool:
        return self._on_data is not None

    async def open(self, on_data: OnData, on_lost: OnLost) -> None:
        if self.why_unreachable is not None:
            raise Unreachable(self.why_unreachable)
        self._loop = asyncio.get_running_loop()
        self._on_data, self._on_lost = on_data, on_lost
        self._generation += 1

    def empty(self) -> None:
        """Nothing waits here: it is delivered when it comes."""

    def write(self, data: bytes, not_before: float) -> float:
        if self._loop is None or self._on_data is None:
            raise RuntimeError("write on a channel that is not open")
        left = max(not_before, self._loop.time()) + len(data) * self.character_s
        self._loop.call_at(left, self._arrive, self._generation, data, left)
        return left

    def _arrive(self, generation: int, data: bytes, at: float) -> None:
        if generation != self._generation or self._loop is None:
            return
        for when, piece in self._far_end(data, at):
            self._loop.call_at(max(when, at), self._deliver, generation, piece, max(when, at))

    def _deliver(self, generation: int, data: bytes, at: float) -> None:
        if generation == self._generation and self._on_data is not None:
            self._on_data(data, at)

    def break_off(self, why: str) -> None:
        """Pull the cable: the channel is lost, and cannot be opened until `why_unreachable` is None again."""
        on_lost = self._on_lost
        self.close()
        self.why_unreachable = why
        if on_lost is not None:
            on_lost(why)

    def drop(self) -> None:
        """Nothing waits here: bytes are on the wire, or lost."""

    def counted(self) -> PortCounters | None:
        return self.counters

    def close(self) -> None:
        self._on_data = self._on_lost = None
        self._generation += 1
