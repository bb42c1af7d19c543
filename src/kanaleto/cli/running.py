"""Runs a coroutine until it ends, or until SIGINT, SIGTERM or SIGHUP, which end it cleanly."""

import asyncio
import signal
from collections.abc import Coroutine
from typing import Any

from kanaleto.cli.output import say
from kanaleto.editing.crashes import keep_fault
from kanaleto.lines.openfiles import raise_limit
from kanaleto.supervision.collector import settle
from kanaleto.supervision.owned import Failure, follow, leave, loop_handler

ENDING = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]
"""Signals that end a command in good order."""


def run_until_signal(work: Coroutine[Any, Any, None]) -> bool:
    """True when the work ended by itself, False when a signal ended it."""
    raise_limit()
    settle()
    return asyncio.run(_run(work))


def _tell(failure: Failure) -> None:
    keep_fault(failure.error)
    say(failure.text, err=True)


async def _run(work: Coroutine[Any, Any, None]) -> bool:
    loop = asyncio.get_running_loop()
    loop.set_exception_handler(loop_handler)
    follow(_tell)
    task = asyncio.ensure_future(work)
    for number in ENDING:
        try:
            loop.add_signal_handler(number, task.cancel)
        except NotImplementedError:  # Windows: asyncio cannot; Python's own handlers stay
            signal.signal(number, lambda *_: loop.call_soon_threadsafe(task.cancel))
    try:
        await task
    except asyncio.CancelledError:
        return False
    finally:
        leave(_tell)
    return True
