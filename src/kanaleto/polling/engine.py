"""The engine thread: a session in a loop of its own, so that no screen waits for a device and no device for a screen."""

import asyncio
import concurrent.futures
import gc
import sys
import threading
import time
from collections.abc import Callable, Coroutine
from typing import Any, TypeVar

from kanaleto.polling.session import LineStatus, Session
from kanaleto.site.model import Site

T = TypeVar("T")

_MOST_FILES = 65536
_SWITCH_INTERVAL_S = 0.0005  # a busy interface thread gives way to the engine after this long


def raise_file_limit() -> None:
    """Let this process have as many open files, and so connections, as the system grants it."""
    try:
        import resource  # not on Windows, which has no such limit
    except ImportError:
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = min(hard, _MOST_FILES) if hard != resource.RLIM_INFINITY else _MOST_FILES
    if soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))


def quieten_collector() -> None:
    """Let Python's collector of cycles pass over what is there for good, and come by less often: polling makes few cycles and many
    short-lived values, and a full collection stops every thread."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


class Engine:
    """Start it, read its session, stop it. Every method may be called from any thread."""

    def __init__(self, site: Site) -> None:
        self.session = Session(site)
        self.failure: Exception | None = None
        self._loop: asyncio.AbstractEventLoop | None = None
        self._task: asyncio.Task[None] | None = None
        self._is_up = threading.Event()
        self._thread = threading.Thread(target=self._work, name="engine", daemon=True)

    def start(self) -> None:
        """Begin polling; gives back when the loop runs."""
        raise_file_limit()
        quieten_collector()
        sys.setswitchinterval(_SWITCH_INTERVAL_S)
        self._thread.start()
        self._is_up.wait()

    def stop(self) -> None:
        """End polling and wait until every line is closed."""
        loop, task = self._loop, self._task
        if loop is not None and task is not None and self._thread.is_alive():
            try:
                loop.call_soon_threadsafe(task.cancel)
            except RuntimeError:  # the loop ended by itself meanwhile
                pass
        self._thread.join(timeout=5)

    def do(self, what: Callable[[Session], None]) -> None:
        """Let the session do something, on the engine's thread; gives back at once."""
        if self._loop is not None and self._thread.is_alive():
            self._loop.call_soon_threadsafe(what, self.session)

    def run(self, work: Coroutine[Any, Any, T]) -> "concurrent.futures.Future[T]":
        """Run a coroutine on the engine's loop, beside the polling. Raises RuntimeError when the engine has ended."""
        if self._loop is None or not self._thread.is_alive():
            work.close()
            raise RuntimeError("the engine has ended")
        return asyncio.run_coroutine_threadsafe(work, self._loop)

    def hold(self, is_held: bool) -> None:
        """Hold or resume polling."""
        self.do(lambda session: session.hold(is_held))

    def now_s(self) -> float:
        """The loop's time, as in every record."""
        return time.monotonic()

    def status(self) -> tuple[LineStatus, ...]:
        return self.session.status(self.now_s())

    def _work(self) -> None:
        try:
            asyncio.run(self._main())
        except Exception as error:  # whoever shows the session looks here, and tells it
            self.failure = error
        finally:
            self._is_up.set()

    async def _main(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._task = asyncio.create_task(self.session.run())
        self._is_up.set()
        try:
            await self._task
        except asyncio.CancelledError:
            return
