"""What we rest on of the toolkit beyond what it documents: each name of it is held here, and stands in one file."""

import ast
import asyncio
import os
import pty
import select
import signal
import subprocess
import sys
import time
import unittest
from collections.abc import Awaitable, Callable
from pathlib import Path

from textual import events
from textual.binding import Binding
from textual.pilot import Pilot
from textual.widgets import Input

from kanaleto.tui.shared.line import InputLine
from kanaleto.tui.shared.toolkit import Terminal

_SOURCE = Path(__file__).parent.parent / "src" / "kanaleto"
_IN_ONE_PLACE = {"_check_bindings", "_handle_exception", "on_event", "_file", "_must_signal_resume", "_auto_restart",
                 "_sigcont_application"}  # fmt: skip


class Own(InputLine):
    BINDINGS = [Binding("x", "own", show=False)]

    def action_own(self) -> None:
        self.app.done.append("the widget's x")  # type: ignore[attr-defined]

    def entered(self, text: str) -> None:
        self.app.done.append(text)  # type: ignore[attr-defined]

    def left(self) -> None:
        """Nothing to leave."""


class Small(Terminal):
    BINDINGS = [
        Binding("x", "plain", show=False),
        Binding("f5", "plain", show=False),
        Binding("f7", "first", show=False, priority=True),
    ]

    def __init__(self) -> None:
        super().__init__()
        self.done: list[str] = []
        self.errors: list[Exception] = []
        self.pause_s = 0.0

    def compose(self):  # type: ignore[no-untyped-def]
        yield Own()

    def failed(self, error: Exception) -> None:
        self.errors.append(error)

    async def take_input(self, event: events.Key | events.Paste) -> None:
        what = event.key if isinstance(event, events.Key) else event.text
        self.done.append(f"{what} begins")
        await asyncio.sleep(self.pause_s)
        self.done.append(f"{what} ends")

    def action_plain(self) -> None:
        self.done.append("the application's")

    def action_first(self) -> None:
        self.done.append("first")


def driven(work: Callable[[Small, "Pilot[None]"], Awaitable[None]]) -> Small:
    app = Small()

    async def run() -> None:
        async with app.run_test() as pilot:
            await work(app, pilot)

    asyncio.run(run())
    return app


def _private_of_others(path: Path, ours: set[str]) -> list[str]:
    """Private names in a file that nothing of ours gives."""
    names = {node.attr for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Attribute)}
    return [name for name in names if name[0] == "_" and name[:2] != "__" and name not in ours]


def _given(path: Path) -> set[str]:
    """Names that a file gives: its functions, classes and what it assigns."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            found.add(node.name)
        elif isinstance(node, ast.Attribute | ast.Name) and isinstance(node.ctx, ast.Store):
            found.add(node.attr if isinstance(node, ast.Attribute) else node.id)
    return found


class InOnePlace(unittest.TestCase):
    def test_no_private_name_of_the_toolkit_stands_elsewhere(self) -> None:
        paths = [path for path in (_SOURCE / "tui").rglob("*.py") if path.name != "toolkit.py"]
        ours = set().union(*map(_given, paths))
        found = {path.name: names for path in paths if (names := _private_of_others(path, ours))}
        self.assertEqual(found, {})
        overridden = {
            (path.name, name)
            for path in paths
            for name in _given(path) & _IN_ONE_PLACE - {"_file"}  # which a `Flow` has of its own
        }
        self.assertEqual(overridden, set())
        self.assertLessEqual(
            _IN_ONE_PLACE, _given(_SOURCE / "tui/shared/toolkit.py") | {"_check_bindings", "_auto_restart"}
        )


class Methods(unittest.TestCase):
    def test_check_bindings(self) -> None:
        """From the focus up, those with priority from the application down; and nothing for what is bound nowhere."""

        async def work(app: Small, pilot: "Pilot[None]") -> None:
            app.screen.set_focus(app.query_one(Own))
            self.assertTrue(await app.do_bound("x"))
            self.assertTrue(await app.do_bound("f5"))
            self.assertFalse(await app.do_bound("x", has_priority=True))
            self.assertFalse(await app.do_bound("f7"))
            self.assertTrue(await app.do_bound("f7", has_priority=True))
            self.assertFalse(await app.do_bound("f6"))

        self.assertEqual(driven(work).done, ["the widget's x", "the application's", "first"])

    def test_handle_exception(self) -> None:
        """Of a timer, of what was called later and of a worker: the error itself comes; none while it is ending."""

        def fail() -> None:
            raise ZeroDivisionError("mine")

        async def fail_later() -> None:
            fail()

        async def until_failed(app: Small) -> None:
            end = time.monotonic() + 20
            while not app.errors and time.monotonic() < end:
                await asyncio.sleep(0.02)

        ways: dict[str, Callable[[Small], object]] = {
            "a timer": lambda app: app.set_timer(0.01, fail),
            "called later": lambda app: app.call_later(fail),
            "a worker": lambda app: app.run_worker(fail_later()),
        }
        for name, way in ways.items():

            async def work(app: Small, pilot: "Pilot[None]", way: Callable[[Small], object] = way) -> None:
                way(app)
                await until_failed(app)
                app.exit()
                app._handle_exception(ValueError("while it ends"))

            with self.subTest(name):
                self.assertEqual([repr(error) for error in driven(work).errors], ["ZeroDivisionError('mine')"])

    def test_on_event(self) -> None:
        """A key is done with before the next is looked at; a terminal that is not looked at costs no focus."""

        async def work(app: Small, pilot: "Pilot[None]") -> None:
            own = app.query_one(Own)
            app.screen.set_focus(own)
            app.pause_s = 0.05
            for event in (events.Key("a", "a"), events.AppBlur(), events.Paste("pasted"), events.Key("b", "b")):
                app.post_message(event)
            end = time.monotonic() + 20
            while len(app.done) < 6 and time.monotonic() < end:
                await pilot.pause(0.02)
            self.assertIs(app.focused, own)

        keys = ["a begins", "a ends", "pasted begins", "pasted ends", "b begins", "b ends"]
        self.assertEqual(driven(work).done, keys)

    def test_a_key_goes_into_a_line_at_its_cursor(self) -> None:
        """Which needs none of the toolkit's own handling of keys."""

        async def work(app: Small, pilot: "Pilot[None]") -> None:
            line = app.query_one(Own)
            line.value = "ad"
            line.cursor_position = 1
            for key in "bc":
                await line.take_key(events.Key(key, key))
            self.assertEqual((line.value, line.cursor_position), ("abcd", 3))
            line.begin()
            await line.take_key(events.Key("n", "n"))
            self.assertEqual(line.value, "n")
            self.assertIsInstance(line, Input)

        driven(work)


_CHILD = """
import os, signal
from tests.test_toolkit import Small
class Child(Small):
    async def take_input(self, event):
        if event.key == "q":
            self.exit()
            return
        flow = self.flow
        driver = type(self.app._driver).__name__
        self.notice = f"<{driver} counts {flow.asked > 0 and flow.asked == flow.gone} {flow.behind} {event.key}>"
        os.write(2, self.notice.encode())
Child().run()
"""


class Driver(unittest.TestCase):
    def test_file_is_counted_and_sigcont_draws_again(self) -> None:
        """`_file` of the driver is a flow that counts; stopped by somebody else and woken (`_sigcont_application`,
        `_auto_restart`, `_must_signal_resume`), it goes into the terminal's other screen again, and takes keys."""
        near, far = pty.openpty()
        environment = {**os.environ, "TERM": "xterm-256color"}
        child = subprocess.Popen(
            [sys.executable, "-c", _CHILD], stdin=far, stdout=far, stderr=far, env=environment, close_fds=True,
            start_new_session=True,
        )  # fmt: skip
        os.close(far)
        try:
            self._read(near, b"\x1b[?1049h")
            self._press_until(near, b"a", b"counts True 0 a>")
            os.kill(child.pid, signal.SIGSTOP)
            os.waitpid(child.pid, os.WUNTRACED)
            os.kill(child.pid, signal.SIGCONT)
            self._read(near, b"\x1b[?1049h")
            self._press_until(near, b"b", b"counts True 0 b>")
            os.write(near, b"\xff\xc3(\x9b")  # no UTF-8: `getincrementaldecoder` of the driver's module minds it
            self._press_until(near, b"\xfc", "ü>".encode())
            self._press_until(near, b"c", b"counts True 0 c>")
            os.write(near, b"q")
            self._read(near, b"\x1b[?1049l")
            self.assertEqual(child.wait(30), 0)
        finally:
            child.kill()
            child.wait()
            os.close(near)

    def _press_until(self, near: int, key: bytes, due: bytes) -> None:
        """What is drawn meanwhile may not have gone out at the first of them."""
        end = time.monotonic() + 60
        seen = b""
        while due not in seen:
            self.assertLess(time.monotonic(), end, f"{due!r} never came, but {seen[-300:]!r}")
            os.write(near, key)
            seen += self._some(near, 0.3)

    def _read(self, near: int, due: bytes) -> None:
        end, seen = time.monotonic() + 60, b""
        while due not in seen:
            self.assertLess(time.monotonic(), end, f"{due!r} never came, but {seen[-300:]!r}")
            seen += self._some(near, 0.2)

    def _some(self, near: int, for_s: float) -> bytes:
        seen, end = b"", time.monotonic() + for_s
        while (left := end - time.monotonic()) > 0:
            if select.select([near], [], [], left)[0]:
                try:
                    seen += os.read(near, 65536)
                except OSError:
                    return seen
        return seen


if __name__ == "__main__":
    unittest.main()
