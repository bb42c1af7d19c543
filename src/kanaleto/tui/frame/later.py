"""Things to be done on the interface's thread, in the order in which they were asked for, from whatever thread."""

import asyncio
from collections.abc import Callable
from contextlib import suppress

from textual.message import Message
from textual.message_pump import MessagePump


class Later(Message):
    """Something to be done."""

    def __init__(self, what: Callable[[], object]) -> None:
        super().__init__()
        self.what = what


class Afterwards:
    """Posts to `pump`, always by its loop: else what comes from its own thread would overtake the rest."""

    def __init__(self, pump: MessagePump) -> None:
        self._pump = pump
        self.loop: asyncio.AbstractEventLoop | None = None

    def do(self, what: Callable[[], object]) -> None:
        if self.loop is None:
            self._pump.post_message(Later(what))
            return
        with suppress(RuntimeError):  # it has ended
            self.loop.call_soon_threadsafe(self._pump.post_message, Later(what))
