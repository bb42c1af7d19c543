"""Devices that stand in, as the program has them that shows a site: a process simulates them, two threads speak with
it, and nothing of the screen waits for either.

Where the process is killed that is reported at once, and another begins in its last state: the same values, the same
lines at the same places, the same faults.
"""

import queue
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, InvalidStateError
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from kanaleto.bench.states import BenchState
from kanaleto.site.links.link import Link
from kanaleto.supervision.owned import Owned, owned_thread

_END_S = 3.0
_MOST_STARTS, _WITHIN_S = 4, 60.0
_READY_S = 30.0


class BenchRefused(Exception):
    """Why something was not done, in one sentence."""


class BenchTaken(BenchRefused):
    """Somebody else has the place."""


class Served(Struct, frozen=True):
    """A line at which devices stand in: where, and which; all where none are named."""

    line: str
    link: Link
    devices: tuple[str, ...] = ()


class StandIns:
    """`tell` hears sentences, on any thread. Methods may be called from any thread and give back at once."""

    def __init__(self, tell: Callable[[str], None]) -> None:
        self.served: dict[str, Served] = {}
        self.state: BenchState | None = None
        """The latest that the process has reported."""
        self.heard_s = 0.0
        """When that was, of the monotonic clock."""
        self._tell = tell
        self._lock = threading.Lock()
        self._path: Path | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._memory: Any = None
        self._faults: dict[tuple[str, str], dict[str, Any]] = {}
        self._looked_at = ""
        self._count = 0
        self._waiting: dict[int, Future[str]] = {}
        self._work: queue.Queue[Callable[[], None] | None] = queue.Queue()
        self._worker: threading.Thread | None = None
        self._starts: deque[float] = deque(maxlen=_MOST_STARTS)
        self._beginning = 0  # lines that are about to be stood in for
        self._is_ready = threading.Event()
        self._is_over = False

    @property
    def pid(self) -> int | None:
        """Of the process, while there is one."""
        process = self._process
        return process.pid if process is not None and process.poll() is None else None

    # What is wanted of it

    def follow(self, path: Path, is_another: bool) -> None:
        """That site is open now: another one, of which nothing stands in, or the same, edited or moved."""
        if is_another:
            self.served, self._path, self._memory = {}, path, None
            self._faults.clear()
            if self._worker is not None:
                self._do(self._end_process)
            return
        self._path = path
        if self.served:
            self.command("edit", site=str(path)).add_done_callback(self._tell_not_taken)

    def _tell_not_taken(self, came: "Future[str]") -> None:
        if came.exception() is not None:
            self._tell(f"what stands in goes on as before the edit: {came.exception()}")

    def serve(self, served: Served) -> "Future[str]":
        """Begin to stand in there. The process is started where it does not run."""
        with self._lock:
            self._beginning += 1
        done: Future[str] = Future()
        done.set_running_or_notify_cancel()
        asked = self._answered("serve", self._begin_process, **_serving(served))
        asked.add_done_callback(lambda came: self._note_served(served, came, done))
        return done

    def _note_served(self, served: Served, came: "Future[str]", done: "Future[str]") -> None:
        """It stands in `served` before anybody is notified."""
        error = came.exception()
        with self._lock:
            self._beginning -= 1
            if error is None:
                self.served = {**self.served, served.line: served}
        if error is not None:
            done.set_exception(error)
        else:
            done.set_result(came.result())

    def end(self, line: str) -> "Future[str]":
        """Nobody stands in there any more. The last one ends the process."""
        with self._lock:
            self.served = {name: served for name, served in self.served.items() if name != line}
        done = self.command("end", line=line)
        done.add_done_callback(lambda _: self._do(self._end_if_idle))
        return done

    def fault(self, target: str, name: str, keys: dict[str, Any]) -> "Future[str]":
        done = self.command("fault", target=target, name=name, keys=keys)

        def note(came: "Future[str]") -> None:
            if came.exception() is None and name != "jump":
                self._faults[target, name] = {"target": target, "name": name, "keys": keys}

        done.add_done_callback(note)
        return done

    def mend(self, target: str, name: str) -> "Future[str]":
        self._faults.pop((target, name), None)
        return self.command("mend", target=target, name=name)

    def look(self, device: str) -> None:
        """That one is wanted in full from now on."""
        if device != self._looked_at:
            self._looked_at = device
            if self.served:
                self.command("look", device=device)

    def command(self, do: str, **keys: Any) -> "Future[str]":
        """Whatever else the process understands; refused where none runs."""
        return self._answered(do, self._require_process, **keys)

    def close(self) -> None:
        """The program ends: nobody stands in any more."""
        self._is_over = True
        self.served = {}
        worker = self._worker
        if worker is None:
            return
        self._work.put(self._end_process)
        self._work.put(None)
        worker.join(_END_S)
        process = self._process
        if process is not None and process.poll() is None:
            process.kill()

    # The thread that hands on

    def _do(self, what: Callable[[], None]) -> None:
        if self._worker is None:
            self._worker = owned_thread("bench: hands on", self._turns)
            self._worker.start()
        self._work.put(what)

    def _turns(self) -> None:
        owned = Owned("bench: its process")
        while (what := self._work.get()) is not None:
            with owned:
                what()
        owned.finish()

    def _answered(self, do: str, before: Callable[[], None], **keys: Any) -> "Future[str]":
        done: Future[str] = Future()
        done.set_running_or_notify_cancel()

        def work() -> None:
            try:
                before()
                self._write(do, done, keys)
            except BenchRefused as error:
                done.set_exception(error)
            except OSError:
                self._refuse(done, "the process of the bench has ended: try it again")

        self._do(work)
        return done

    @staticmethod
    def _refuse(done: "Future[str]", why: str, kind: type[BenchRefused] = BenchRefused) -> None:
        with suppress(InvalidStateError):  # it came after all
            done.set_exception(kind(why))

    def _write(self, do: str, done: "Future[str] | None", keys: dict[str, Any]) -> None:
        process = self._process
        if process is None or process.stdin is None:
            raise BenchRefused("nothing stands in here")
        self._count += 1
        if done is not None:
            self._waiting[self._count] = done
        process.stdin.write(msgspec.json.encode({"id": self._count, "do": do, **keys}) + b"\n")
        process.stdin.flush()

    def _require_process(self) -> None:
        if self._process is None:
            raise BenchRefused("nothing stands in here")

    def _begin_process(self) -> None:
        if self._process is not None and self._process.poll() is None:
            return
        if self._path is None or self._is_over:
            raise BenchRefused("the site has no file yet: save it first")
        self._is_ready.clear()
        command = [sys.executable, "-m", "kanaleto.bench.process"]
        process = self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True
        )
        owned_thread("bench: hears its process", lambda: self._hear(process)).start()
        if not self._is_ready.wait(_READY_S):
            process.kill()
            raise BenchRefused("the process of the bench does not start")
        opened: Future[str] = Future()
        self._write("open", opened, {"site": str(self._path), "state": self._memory})
        try:
            opened.result(_READY_S)
        except TimeoutError:
            self._end_process()
            raise BenchRefused("the process of the bench does not open the site") from None
        except BenchRefused:
            self._end_process()
            raise
        if self._looked_at:
            self._write("look", None, {"device": self._looked_at})

    def _begin_again(self) -> None:
        """It was killed: the same lines at the same places."""
        if self._is_over or not self.served:
            return
        now_s = time.monotonic()
        if len(self._starts) == _MOST_STARTS and now_s - self._starts[0] < _WITHIN_S:
            self._tell(f"the process of the bench has ended {_MOST_STARTS} times within a minute: nobody stands in")
            return
        self._starts.append(now_s)
        try:
            self._begin_process()
            for served in self.served.values():
                again: Future[str] = Future()
                self._write("serve", again, {**_serving(served), "faults": list(self._faults.values())})
                again.add_done_callback(partial(self._tell_lost, served.line))
        except (BenchRefused, OSError) as error:
            self._tell(f"the process of the bench does not begin again: {error}")

    def _tell_lost(self, line: str, came: "Future[str]") -> None:
        if came.exception() is not None:
            self._tell(f"nobody stands in on {line} any more: {came.exception()}")

    def _end_if_idle(self) -> None:
        with self._lock:
            is_idle = not self.served and not self._beginning
        if is_idle:
            self._end_process()

    def _end_process(self) -> None:
        process, self._process = self._process, None
        if process is None:
            return
        self.state = None
        with suppress(OSError):
            if process.stdin is not None:
                process.stdin.close()
        try:
            process.wait(_END_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        self._refuse_all()

    def _refuse_all(self) -> None:
        """Whoever still waits for an answer of a process that is no more."""
        waiting, self._waiting = self._waiting, {}
        for done in waiting.values():
            self._refuse(done, "the process of the bench has ended")

    # The thread that hears

    def _hear(self, process: "subprocess.Popen[bytes]") -> None:
        assert process.stdout is not None
        for line in process.stdout:
            try:
                message = msgspec.json.decode(line)
                self._take(message)
            except (msgspec.DecodeError, msgspec.ValidationError):
                continue
        process.stdout.close()
        code = process.wait()
        if process is not self._process:
            return
        self._process, state, self.state = None, self.state, None
        self._is_ready.set()
        self._refuse_all()
        if not self._is_over and self.served:
            how = f"was ended by signal {-code}" if code < 0 else f"ended with {code}"
            rehearsal = state.rehearsal if state is not None else None
            lost = "; the rehearsal that ran is over" if rehearsal is not None and not rehearsal.is_over else ""
            self._tell(f"the process of the bench {how}: it begins again in its last state{lost}")
            self._do(self._begin_again)

    def _take(self, message: dict[str, Any]) -> None:
        if "state" in message:
            self.state = msgspec.convert(message["state"], BenchState)
            self.heard_s = time.monotonic()
        elif "memory" in message:
            self._memory = message["memory"]
        elif "told" in message:
            self._tell(str(message["told"]))
        elif "ready" in message:
            self._is_ready.set()
        elif (done := self._waiting.pop(message.get("id", -1), None)) is not None:
            if "error" in message:
                self._refuse(done, str(message["error"]), BenchTaken if message.get("is_taken") else BenchRefused)
                return
            with suppress(InvalidStateError):
                done.set_result(str(message.get("done", "")))


def _serving(served: Served) -> dict[str, Any]:
    return {"line": served.line, "link": str(served.link), "devices": list(served.devices)}
