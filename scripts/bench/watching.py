"""How long a loop stands still: a task that sleeps a millisecond at a time notes what it waits beyond that."""

import asyncio
import time

_STEP_S = 0.001


class Watch:
    """`waits` grows while `run` does; it is cleared by whoever measures."""

    def __init__(self) -> None:
        self.waits: list[float] = []

    async def run(self) -> None:
        """Until cancelled."""
        last = time.perf_counter()
        while True:
            await asyncio.sleep(_STEP_S)
            now = time.perf_counter()
            self.waits.append(now - last - _STEP_S)
            last = now

    @property
    def longest_s(self) -> float:
        return max(self.waits, default=0.0)
