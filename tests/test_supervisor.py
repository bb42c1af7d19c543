"""Nothing dies unseen: each task, timer and thread that is owned is made to fail once. It is told, it is in the
journal, and the rest goes on. Their list comes from the supervisor, so that a new one is covered."""

import asyncio
import os
import tempfile
import threading
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from kanaleto.board.snapshot import Snapshot
from kanaleto.control.alive import Wish
from kanaleto.control.control import Control
from kanaleto.control.lock import Lock
from kanaleto.control.order import Order
from kanaleto.control.wanted import wanted
from kanaleto.editing.door import Door
from kanaleto.editing.news import Change
from kanaleto.editing.pointedit import change_points
from kanaleto.files.loading import load_whole
from kanaleto.history.journal import journals_of
from kanaleto.history.journalfile import events_of
from kanaleto.history.query import History
from kanaleto.history.recordsink import RecordSink
from kanaleto.keeping.kept import Kept
from kanaleto.polling.engine import Engine
from kanaleto.supervision.owned import (
    After,
    Failure,
    Owned,
    follow,
    leave,
    owned_now,
    owned_task,
    owned_thread,
    raise_once,
)
from tests.livesite import Far

_MAP = "name,table,address,access\nA,holding,1,rw\nB,holding,2,rw\n"


class Everything(unittest.TestCase):
    """A site that is polled, recorded, edited, written to and kept."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        state = mock.patch.dict(os.environ, {"XDG_STATE_HOME": str(self.folder / "state")})
        state.start()
        self.addCleanup(state.stop)
        self.far = Far()
        threading.Thread(target=self.far.serve_forever, daemon=True).start()
        self.addCleanup(self.far.server_close)
        self.addCleanup(self.far.shutdown)
        (self.folder / "m.csv").write_text(_MAP)
        self.path = self.folder / "s.toml"
        self.path.write_text(
            f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{self.far.server_address[1]}"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\nperiod_s = 0.1\n'
        )
        self._is_over = False
        self.told: list[Failure] = []
        follow(self.told.append)
        self.addCleanup(leave, self.told.append)
        loaded = load_whole(self.path)
        self.engine = Engine(loaded.site)
        session = self.engine.session
        self.kept = Kept("a test", session.events, session.clock, lambda what, text: None)
        self.kept.listen_to(session)
        self.kept.start(self.path, loaded.site)
        self.kept.begin_recording()
        self.control = Control(session, Lock(consents=True), self.kept.ledger, lambda: self.folder / "s.kanaleto")
        session.listen(self.control)
        self.engine.start()

        def take_over(change: Change) -> object:
            return self.engine.take_over(change.site).result(30)

        self.door = Door(loaded, self.path, False, take_over)
        self.addCleanup(self._end)

    def _end(self) -> None:
        if self._is_over:
            return
        self._is_over = True
        self.door.close()
        self.engine.stop()
        self.kept.stop()

    def _until(self, is_so: Callable[[], object], what: str, within_s: float = 120) -> None:
        end_s = time.monotonic() + within_s
        while not is_so():
            self.assertLess(time.monotonic(), end_s, f"{what} did not come about")
            time.sleep(0.02)

    def _lives(self, what: str) -> None:
        """Values come, are published and recorded, edits are made, writes are done."""
        first: Snapshot = self.engine.snapshot
        self._until(lambda: self.engine.snapshot.exchanges > first.exchanges + 3, f"after {what}: exchanges published")
        self._until(lambda: self.engine.snapshot.now_s > first.now_s, f"after {what}: a snapshot")
        self._edits += 1
        done = self.door.edit(change_points("D", ["B"], {"note": f"edit {self._edits}"})).result(30)
        self.assertEqual(done.site.lines[0].devices[0].points[1].note, f"edit {self._edits}", what)
        result = self.engine.run(self.control.send(self._order(str(self._edits)))).result(30)
        self.assertTrue(result.is_well, (what, result.text))
        kept = self.kept._recorder
        assert kept is not None
        before = kept.kept
        self._until(lambda: kept.kept > before, f"after {what}: samples recorded")

    def _order(self, text: str, name: str = "B") -> Order:
        point = next(point for point in self.engine.session.site.lines[0].devices[0].points if point.name == name)
        return Order(line="L", unit_id=1, device="D", table=point.table, address=point.address,
                     data=wanted(point, text).data, points=(name,), new_text=text)  # fmt: skip

    def test_a_recording_that_ends_and_begins_again_ends_nothing_else(self) -> None:
        self._edits = 0
        for turn in range(3):
            self._lives(f"recording {turn}")
            self.assertGreater(self.kept.end_recording(), 0)
            self._until(lambda: not any(isinstance(sink, RecordSink) for sink in self.engine.session.sinks), "its end")
            self.kept.begin_recording()
        self._lives("all of them")
        self.assertEqual([], self.told)

    def test_each_is_made_to_fail_once(self) -> None:
        self._edits = 0
        kept, _ = self.engine.run(
            self.control.alives.begin(
                Wish(order=self._order("9", "A"), period_s=0.2, safe=b"\0\0", is_late_all_right=True)
            )
        ).result(30)
        self.assertIsNotNone(kept)
        self._lives("the beginning")
        names = sorted({owned.name for owned in owned_now() if owned.has_turns and owned.after is not After.ENDS_ALL})
        for name in (
            "publishing", "derived points", "clock and events", "line L", "the site's editor", "keeping: Journal",
            "keeping: ExchangeRecorder", "record", "kept alive", "sink Control", "sink RecordSink", "sink LimitWatch",
        ):  # fmt: skip
            self.assertIn(name, names)
        for name in names:
            with self.subTest(name):
                self.told.clear()
                self.assertTrue(raise_once(name))
                self._until(lambda name=name: any(failure.name == name for failure in self.told), f"{name}: told")  # type: ignore[misc]
                self._lives(name)
        self._until(lambda: not self.control.alive, "what was kept alive has ended")
        self.assertEqual(self.far.values[1, 1], 0, "with its safe value")
        self._end()
        events = [event for path in journals_of(self.folder / "s.kanaleto") for event in events_of(path)]
        failed = {event.text.partition(":")[0] for event in events if event.kind == "fault"}
        self.assertGreaterEqual(len(failed), 8, failed)
        history = History(str(self.folder / "s.kanaleto" / "record.db"))
        self.assertEqual({series.point for series in history.series()}, {"A", "B"})
        history.close()


class Parts(unittest.TestCase):
    def test_turns(self) -> None:
        failures: list[Failure] = []
        follow(failures.append)
        self.addCleanup(leave, failures.append)
        owned, last = Owned("one"), Owned("last", After.ENDS_ALL)
        with owned:
            raise KeyError("x")
        with self.assertRaises(KeyError), last:
            raise KeyError("y")
        with self.assertRaises(KeyboardInterrupt), owned:
            raise KeyboardInterrupt
        raise_once("one")
        with owned:
            pass
        self.assertEqual([failure.name for failure in failures], ["one", "last", "one"])
        self.assertEqual(owned.failures, 2)
        owned.finish()
        last.finish()
        self.assertFalse(raise_once("one"))

    def test_tasks_and_threads_that_die_are_told(self) -> None:
        failures: list[Failure] = []
        follow(failures.append)
        self.addCleanup(leave, failures.append)

        async def dies() -> None:
            raise LookupError("of a task")

        async def work() -> None:
            task = owned_task("a task", dies())
            self.assertIn("a task", [owned.name for owned in owned_now()])
            await asyncio.gather(task, return_exceptions=True)
            owned_task("another", asyncio.sleep(10)).cancel()
            await asyncio.sleep(0)

        asyncio.run(work())

        def falls() -> None:
            raise LookupError("of a thread")

        thread = owned_thread("a thread", falls)
        thread.start()
        thread.join()
        self.assertEqual([failure.name for failure in failures], ["a task", "a thread"])
        self.assertNotIn("a thread", [owned.name for owned in owned_now()])


if __name__ == "__main__":
    unittest.main()
