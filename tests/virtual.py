"""An event loop whose clock only moves when nobody has anything to do: hours pass in an instant, the same way every
time."""

import asyncio
import selectors
from collections.abc import Coroutine
from typing import Any, TypeVar

T = TypeVar("T")


class _NoWaiting(selectors.SelectSelector):
    """Never waits; tells the loop how long it would have waited."""

    def __init__(self) -> None:
        super().__init__()
        self.skipped_s = 0.0

    def select(self, timeout: float | None = None) -> list[Any]:
        if timeout is None:
            raise RuntimeError("nothing will ever happen: a test waits for ever")
        self.skipped_s += timeout
        return super().select(0)


class VirtualLoop(asyncio.SelectorEventLoop):
    def __init__(self) -> None:
        self._skipping = _NoWaiting()
        super().__init__(self._skipping)
        self._clock_resolution = 1e-9

    def skip(self, seconds: float) -> None:
        """As if the machine had stood still for so long."""
        self._skipping.skipped_s += seconds

    def time(self) -> float:
        return 1000.0 + self._skipping.skipped_s


def run_virtual(work: Coroutine[Any, Any, T]) -> T:
    """Run to the end on a virtual clock."""
    with asyncio.Runner(loop_factory=VirtualLoop) as runner:
        return runner.run(work)
