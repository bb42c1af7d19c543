"""The engine thread: a session in a loop of its own, so that no screen waits for a device and no device for a
screen."""

import asyncio
import concurrent.futures
import threading
import time
from collections.abc import Callable, Coroutine
from typing import Any, TypeVar

from kanaleto.board.snapshot import Snapshot
from kanaleto.board.world import Planned
from kanaleto.polling.processlimits import prepare_process
from kanaleto.polling.session import Session
from kanaleto.site.model import Site
from kanaleto.supervision.owned import After, Owned

T = TypeVar("T")

PUBLISH_S = 0.2  # how often others get to see how everything stands
_PLANNED_AGAIN = 5  # times, where something was learned meanwhile


class EngineEnded(RuntimeError):
    """Something was asked of an engine that does not run any more."""


class Engine:
    """Start it, read its session, stop it. Every method may be called from any thread."""

    def __init__(self, site: Site) -> None:
        self.session = Session(site)
        self.failure: Exception | None = None
        self._loop: asyncio.AbstractEventLoop | None = None
        self._task: asyncio.Task[None] | None = None
        self._is_up, self._has_ended = threading.Event(), threading.Event()
        self._taking = asyncio.Lock()
        self._lock = threading.Lock()
        self._promised: set[concurrent.futures.Future[Any]] = set()
        self._thread = threading.Thread(target=self._work, name="engine", daemon=True)

    def start(self) -> None:
        """Begin polling; gives back when the loop runs."""
        prepare_process()
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

    def do(self, what: Callable[[Session], T]) -> "concurrent.futures.Future[T]":
        """Let the session do something, on the engine's thread. Gives back at once, with a future of what came of it:
        an error in it is the future's, and so is that the engine has ended."""

        async def work() -> T:
            return what(self.session)

        return self.run(work())

    def run(self, work: Coroutine[Any, Any, T]) -> "concurrent.futures.Future[T]":
        """Run a coroutine on the engine's loop, beside the polling. Its future always ends: with EngineEnded, or
        cancelled, when the engine ends first."""
        loop = self._loop
        try:
            if loop is None or not self._thread.is_alive():
                raise RuntimeError
            done = asyncio.run_coroutine_threadsafe(work, loop)
        except RuntimeError:  # the loop is closed
            work.close()
            done = concurrent.futures.Future()
            done.set_exception(EngineEnded("polling has ended"))
            return done
        with self._lock:
            self._promised.add(done)
        done.add_done_callback(self._forget)
        if self._has_ended.is_set():
            self._break_promises()
        return done

    def _forget(self, done: "concurrent.futures.Future[Any]") -> None:
        with self._lock:
            self._promised.discard(done)

    def _break_promises(self) -> None:
        """The loop is no more: whoever still waits for something of it is notified."""
        with self._lock:
            promised = list(self._promised)
        for done in promised:
            try:
                done.set_exception(EngineEnded("polling has ended"))
            except concurrent.futures.InvalidStateError:  # it came after all
                continue

    def take_over(self, site: Site, what: str = "") -> "concurrent.futures.Future[None]":
        """Go on with another site, or an edited one, with what was done to it: planned on a thread beside the loop,
        one after the other, then swapped at once."""

        async def work() -> None:
            async with self._taking:
                for _ in range(_PLANNED_AGAIN):
                    planned: Planned = await asyncio.to_thread(self.session.planning(site))
                    if self.session.world.is_current(planned):
                        break
                self.session.take_over(site, planned, what)

        return self.run(work())

    def now_s(self) -> float:
        """The loop's time, as in every record."""
        return time.monotonic()

    @property
    def snapshot(self) -> Snapshot:
        """The latest that was published."""
        return self.session.snapshot

    def _work(self) -> None:
        owned = Owned("engine", After.ENDS_ALL)
        try:
            with owned:
                asyncio.run(self._main())
        except Exception as error:  # whoever shows the session looks here, and tells it
            self.failure = error
        finally:
            owned.finish()
            self._has_ended.set()
            self._is_up.set()
            self._break_promises()

    async def _main(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._task = asyncio.create_task(self.session.run())
        publishing = asyncio.create_task(self._publish())
        self._is_up.set()
        try:
            await self._task
        except asyncio.CancelledError:
            return
        finally:
            publishing.cancel()

    async def _publish(self) -> None:
        owned = Owned("publishing")
        try:
            while True:
                with owned:
                    self.session.publish()
                await asyncio.sleep(PUBLISH_S)
        finally:
            owned.finish()
