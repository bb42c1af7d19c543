"""The owner of every long-lived task, timer callback and thread.

Each is registered under a name by whoever starts it, and does its work in turns. What a turn raises is a failure with
that name: it is kept with its details and reported to all who follow. After it the next turn comes, as if nothing had
been (`GOES_ON`), or whoever owns it begins it again (`BEGINS_AGAIN`), or the program ends in order (`ENDS_ALL`), where
it would not be safe to go on. What ends although nobody asked for that is a failure too.

`raise_once` makes the next turn of a name fail: a test, or a storm, looks then that it is reported and the rest goes
on."""

import asyncio
import threading
import time
import traceback
from collections.abc import Callable, Coroutine
from enum import Enum
from types import TracebackType
from typing import Any

from msgspec import Struct

_AGAIN_S = 10.0
_MOST_KINDS = 200


class After(Enum):
    """What becomes of it after a failure."""

    GOES_ON = "goes on"
    BEGINS_AGAIN = "begins again"
    ENDS_ALL = "ends all"


class Failure(Struct, frozen=True):
    """What failed, in one sentence; and the error with its details."""

    name: str
    after: After
    text: str
    error: BaseException


class Raised(Exception):
    """A failure that was asked for, to see what becomes of it."""


Follower = Callable[[Failure], object]
"""Hears of failures, on whatever thread they happen."""


def fault_sentence(error: BaseException) -> str:
    """What an internal error was, and where in the code."""
    frames = traceback.extract_tb(error.__traceback__)
    place = f" in {frames[-1].name} ({frames[-1].filename.rpartition('/')[2]}:{frames[-1].lineno})" if frames else ""
    return f"a fault of this program: {type(error).__name__}{f': {error}' if str(error) else ''}{place}"


class Owned:
    """One of them, until `finish`. A turn is `with owned:`; what it raises is a failure and goes no further, but for
    what ends all."""

    def __init__(self, name: str, after: After = After.GOES_ON, has_turns: bool = True) -> None:
        self.name, self.after, self.has_turns = name, after, has_turns
        self.failures = 0
        self.error: BaseException | None = None  # the last failure
        self._raises = False
        _registry.add(self)

    def finish(self) -> None:
        """It has ended, as it was asked to."""
        _registry.remove(self)

    def raise_once(self) -> None:
        self._raises = True

    def check(self) -> None:
        """In the middle of a long turn: raise where that was asked for."""
        if self._raises:
            self._raises = False
            raise Raised(f"{self.name} was made to fail")

    def __enter__(self) -> None:
        if self._raises:
            try:
                self.check()
            except Raised as error:
                self.fail(error)
                if self.after is After.ENDS_ALL:
                    raise

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> bool:
        if error is None or not isinstance(error, Exception):
            return False
        self.fail(error)
        return self.after is not After.ENDS_ALL

    def fail(self, error: BaseException) -> None:
        """It has raised."""
        self.failures += 1
        self.error = error
        _registry.tell(self.name, self.after, error)


class _Follower:
    """What a follower has heard of lately: the same of the same place reaches it every ten seconds only, with how often
    it came meanwhile."""

    def __init__(self, follower: Follower) -> None:
        self.follower = follower
        self._last: dict[str, tuple[float, int]] = {}

    def hear(self, failure: Failure) -> None:
        text, now = failure.text, time.monotonic()
        said_s, held_back = self._last.get(text, (now - 2 * _AGAIN_S, 0))
        if now - said_s < _AGAIN_S:
            self._last[text] = (said_s, held_back + 1)
            return
        if len(self._last) >= _MOST_KINDS:
            self._last.clear()
        self._last[text] = (now, 0)
        more = f" ({held_back} more times since)" if held_back else ""
        self.follower(Failure(failure.name, failure.after, text + more, failure.error))


class _Registry:
    def __init__(self) -> None:
        self._lock = threading.RLock()  # what is collected meanwhile, on this thread, may fail and be reported
        self._owned: list[Owned] = []
        self._followers: list[_Follower] = []

    def add(self, owned: Owned) -> None:
        with self._lock:
            self._owned.append(owned)

    def remove(self, owned: Owned) -> None:
        with self._lock:
            self._owned = [other for other in self._owned if other is not owned]

    @property
    def owned(self) -> list[Owned]:
        with self._lock:
            return list(self._owned)

    def follow(self, follower: Follower) -> None:
        with self._lock:
            self._followers = [*self._followers, _Follower(follower)]

    def leave(self, follower: Follower) -> None:
        with self._lock:
            self._followers = [other for other in self._followers if other.follower != follower]

    def tell(self, name: str, after: After, error: BaseException) -> None:
        failure = Failure(name, after, f"{name}: {fault_sentence(error)}", error)
        with self._lock:
            followers = list(self._followers)
        for follower in followers:
            follower.hear(failure)


_registry = _Registry()


def report(where: str, error: BaseException) -> None:
    """A failure in what is not owned by itself: a callback of a connection, which is closed for it. From any thread."""
    _registry.tell(where, After.BEGINS_AGAIN, error)


def loop_handler(loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
    """A loop's exception handler: what nobody has caught is a failure."""
    error = context.get("exception")
    where = str(context.get("message") or "a loop")
    report(where, error if isinstance(error, BaseException) else RuntimeError(where))


def owned_now() -> list[Owned]:
    """All that lives now."""
    return _registry.owned


def follow(follower: Follower) -> None:
    _registry.follow(follower)


def leave(follower: Follower) -> None:
    _registry.leave(follower)


def raise_once(name: str) -> bool:
    """Make the next turn of all of that name fail; whether there is any."""
    found = [owned for owned in owned_now() if owned.name == name]
    for owned in found:
        owned.raise_once()
    return bool(found)


def each_of(where: str, *steps: Callable[[], object]) -> None:
    """Steps in order, each run even where one before it failed: what one raises is a failure."""
    for step in steps:
        try:
            step()
        except Exception as error:
            report(where, error)


def owned_task(name: str, work: Coroutine[Any, Any, Any], after: After = After.GOES_ON) -> "asyncio.Task[Any]":
    """A task whose failure is reported; it is registered as long as it runs."""
    owned = Owned(name, after, has_turns=False)
    task = asyncio.get_running_loop().create_task(work, name=name)

    def ended(task: "asyncio.Task[Any]") -> None:
        owned.finish()
        if not task.cancelled() and (error := task.exception()) is not None:
            owned.fail(error)

    task.add_done_callback(ended)
    return task


def owned_thread(name: str, work: Callable[[], object], after: After = After.GOES_ON) -> threading.Thread:
    """A thread, not started yet, whose failure is reported; it is registered as long as it runs."""

    def run() -> None:
        owned = Owned(name, after, has_turns=False)
        try:
            work()
        except Exception as error:
            owned.fail(error)
        finally:
            owned.finish()

    return threading.Thread(target=run, name=name, daemon=True)
