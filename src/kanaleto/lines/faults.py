"""Faults of this program: what a callback, a task or a thread raised and nobody foresaw. Each is told in one sentence
with its place; the connection in which it happened is closed, and begins anew.

All of them go through the loop's exception handler, which whoever runs the loop sets to a `FaultTeller`.
"""

import asyncio
import time
import traceback
from collections.abc import Callable
from typing import Any

_AGAIN_S = 10.0
_MOST_KINDS = 200


def fault_sentence(error: BaseException) -> str:
    """What it was, and where in the code."""
    frames = traceback.extract_tb(error.__traceback__)
    place = f" in {frames[-1].name} ({frames[-1].filename.rpartition('/')[2]}:{frames[-1].lineno})" if frames else ""
    return f"a fault of this program: {type(error).__name__}{f': {error}' if str(error) else ''}{place}"


def report(loop: asyncio.AbstractEventLoop, where: str, error: BaseException) -> None:
    """Tell a fault that happened in `where`, on the loop's own thread."""
    loop.call_exception_handler({"message": where, "exception": error})


def report_from_thread(loop: asyncio.AbstractEventLoop, where: str, error: BaseException) -> None:
    """The same from any other thread. Nobody hears of it once the loop has ended."""
    try:
        loop.call_soon_threadsafe(report, loop, where, error)
    except RuntimeError:
        return


class FaultTeller:
    """A loop's exception handler: `tell` gets one sentence a fault, the same fault of the same place only every ten
    seconds, with how often it came meanwhile; `keep` gets the error with its details."""

    def __init__(
        self, tell: Callable[[str], object], keep: Callable[[BaseException], object] = lambda error: None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:  # fmt: skip
        self._tell, self._keep = tell, keep
        self._clock = clock
        self._told: dict[str, tuple[float, int]] = {}

    def __call__(self, loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
        error = context.get("exception")
        where = str(context.get("message") or "")
        if isinstance(error, BaseException):
            text = f"{where}: {fault_sentence(error)}" if where else fault_sentence(error)
        else:
            text = f"a fault of this program: {where}"
        now = self._clock()
        told_s, held_back = self._told.get(text, (-_AGAIN_S, 0))
        if now - told_s < _AGAIN_S:
            self._told[text] = (told_s, held_back + 1)
            return
        if len(self._told) >= _MOST_KINDS:
            self._told.clear()
        self._told[text] = (now, 0)
        if isinstance(error, BaseException):
            self._keep(error)
        self._tell(f"{text} ({held_back} more times since)" if held_back else text)
