"""What ends a process, where the system has such signals."""

import asyncio
import signal
from collections.abc import Callable


def on_signals(loop: asyncio.AbstractEventLoop, names: tuple[str, ...], act: Callable[[], object]) -> None:
    """`act` on the loop when one of the signals of these names comes; a name that the system does not have is left
    out. For the main thread."""
    for name in names:
        number = getattr(signal, name, None)
        if number is None:
            continue
        try:
            loop.add_signal_handler(number, act)
        except NotImplementedError:  # the loop of some systems cannot; Python's own handlers can
            signal.signal(number, lambda *_: loop.call_soon_threadsafe(act))
