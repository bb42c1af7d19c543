"""One clock for all of a picture. It stands still but where somebody lets time pass: then the engine's loop goes from
one of its timers to the next, and the screen sees each moment at which it would have drawn."""

import asyncio
import datetime as datetime_module
import selectors
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import Executor
from typing import Any

really_sleep, really_now_s = time.sleep, time.monotonic
BEGIN_S = 1_000_000.0
BEGIN_WALL_S = datetime_module.datetime(2026, 3, 14, 2, 40, tzinfo=datetime_module.UTC).timestamp()


class _Clock:
    now_s = BEGIN_S


def _monotonic(*_: object) -> float:
    return _Clock.now_s


def _wall() -> float:
    return BEGIN_WALL_S + _Clock.now_s - BEGIN_S


class _Datetime(datetime_module.datetime):
    @classmethod
    def now(cls, tz: datetime_module.tzinfo | None = None) -> "_Datetime":
        return cls.fromtimestamp(_wall(), tz)


def stand_still() -> None:
    """From now on; before anything is imported that asks what time it is. The zone is UTC."""
    time.monotonic, time.time = _monotonic, _wall  # type: ignore[assignment]
    time.time_ns = lambda: round(_wall() * 1e9)
    time.clock_gettime = _monotonic
    datetime_module.datetime = _Datetime  # type: ignore[misc]


class _UpTo(selectors.SelectSelector):
    """Waits for nothing but what other threads hand over: the clock goes to the next timer instead, up to where it
    may."""

    def __init__(self) -> None:
        super().__init__()
        self.until_s = BEGIN_S
        self.is_there = threading.Event()

    def select(self, timeout: float | None = None) -> list[Any]:
        ready = super().select(0)
        if ready or timeout == 0:
            return ready
        if timeout is not None and _Clock.now_s + timeout <= self.until_s:
            _Clock.now_s += timeout
            return ready
        _Clock.now_s = self.until_s
        self.is_there.set()
        return super().select(0.002)


class StagedLoop(asyncio.SelectorEventLoop):
    """The engine's. What it would let a thread do it does itself."""

    def __init__(self) -> None:
        self._up_to = _UpTo()
        super().__init__(self._up_to)
        self._clock_resolution = 1e-9

    def go_on(self, seconds: float) -> None:
        """Let time pass; for another thread, which waits until all of it is done."""
        self._up_to.is_there.clear()
        self._up_to.until_s += seconds
        while not self._up_to.is_there.wait(5):
            sys.stderr.write("the engine is late\n")

    def run_in_executor(  # type: ignore[override]
        self, executor: Executor | None, func: Callable[..., Any], *args: Any
    ) -> asyncio.Future[Any]:
        done = self.create_future()
        try:
            done.set_result(func(*args))
        except Exception as error:
            done.set_exception(error)
        return done


class _Still(selectors.SelectSelector):
    """Tells when its loop has nothing to do at this moment of the clock."""

    def __init__(self) -> None:
        super().__init__()
        self.waiting: asyncio.Future[None] | None = None

    def select(self, timeout: float | None = None) -> list[Any]:
        ready = super().select(0)
        if ready or timeout == 0:
            return ready
        if self.waiting is not None:
            self.waiting.set_result(None)
            self.waiting = None
            return ready
        return super().select(0.002)


class ScreenLoop(asyncio.SelectorEventLoop):
    """The screen's."""

    def __init__(self) -> None:
        self._still = _Still()
        super().__init__(self._still)

    async def everything_done(self) -> None:
        """All that there is to do before the clock goes on."""
        self._still.waiting = self.create_future()
        await self._still.waiting
