"""Runs a coroutine until it ends, or until SIGINT, SIGTERM or SIGHUP, which end it cleanly."""

import asyncio
from collections.abc import Coroutine
from typing import Any

from kanaleto.cli.output import say
from kanaleto.editing.crashes import keep_fault
from kanaleto.lines.openfiles import raise_limit
from kanaleto.supervision.collector import settle
from kanaleto.supervision.owned import Failure, follow, leave, loop_handler
from kanaleto.supervision.signals import on_signals

_ENDING = ("SIGINT", "SIGTERM", "SIGHUP")


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
    on_signals(loop, _ENDING, task.cancel)
    try:
        await task
    except asyncio.CancelledError:
        return False
    finally:
        leave(_tell)
    return True
