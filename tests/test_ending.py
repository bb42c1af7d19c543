"""The first second and the last: keys that come too early, terminals that go away, programs that are killed; and
questions that take nothing typed before them."""

import asyncio
import os
import pty
import select
import signal
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from kanaleto.cli import main as cli_main
from kanaleto.files.loading import load_whole
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from tests.ended import Round
from tests.farend import told
from tests.storm import Storm
from tests.terminal import KANALETO, Terminal

_ROUNDS = 3


class FirstSecond(unittest.TestCase):
    def test_early_keys_are_taken_and_one_that_unlocks_is_not(self) -> None:
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} demo; echo 'ENDED' 'WITH' $?")
            terminal.send("4")  # before there is anything, and again and again until all is there
            time.sleep(0.1)
            terminal.send("u")  # alone, but long before there is anything
            terminal.wait_for("asked .* outcome", 60)
            self.assertNotIn("◆ writes", terminal.screen)
            terminal.send("2")
            terminal.wait_for("manual +wire +word", 20)
            terminal.send("q")
            terminal.wait_until(lambda screen: "ENDED WITH 0" in screen or "again if you mean it" in screen, "the end")
            if "ENDED WITH" not in terminal.screen:
                terminal.send("q")
            terminal.wait_for("ENDED WITH 0", 20)


class BeforeAllIsThere(unittest.TestCase):
    def test_whoever_leaves_before_all_views_are_there_leaves(self) -> None:
        """A view that is not mounted yet has nothing to lose, and is not asked."""

        async def work() -> KanaletoApp:
            with tempfile.TemporaryDirectory() as name:
                path = Path(name) / "site.toml"
                path.write_text('[site]\nname = "S"\n')
                loaded = load_whole(path)
                app = KanaletoApp(Engine(loaded.site), loaded, "lagoon")
                app.is_whole = False
                with mock.patch.object(KanaletoApp, "query", side_effect=AssertionError("asked")):
                    app.is_sure("q", "quitting")
                return app

        self.assertIsNone(asyncio.run(work()).crash)


class InTheMiddle(unittest.TestCase):
    def test_a_signal_while_a_class_is_made_is_no_crash(self) -> None:
        """Python tells what ends it there as another error."""

        class Ends:
            def __set_name__(self, owner: type, name: str) -> None:
                sys.exit(0)

        def make(arguments: object, **more: object) -> None:
            type("Made", (), {"ends": Ends()})

        for error, code in ((None, 0), (ValueError("wrong"), 1)):
            with (
                mock.patch.object(cli_main.kanaleto, "main", make if error is None else mock.Mock(side_effect=error)),
                mock.patch("kanaleto.editing.crashes.keep_crash", return_value=None) as kept,
            ):
                self.assertEqual(cli_main.main([]), code)
                self.assertEqual(kept.called, code == 1)


class NeverWhole(unittest.TestCase):
    def test_whoever_leaves_does_not_wait_for_the_rest(self) -> None:
        """The first frame stands, and what it did not need does not come; earlier keys wait for that."""

        async def never(app: KanaletoApp) -> None:
            await asyncio.Event().wait()

        async def work(folder: Path) -> None:
            path = folder / "s.toml"
            path.write_text('[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:9"\n')
            loaded = load_whole(path)
            engine = Engine(loaded.site)
            engine.start()
            app = KanaletoApp(engine, loaded, "lagoon")
            try:
                async with app.run_test(size=(100, 30)) as pilot:
                    await pilot.pause(0.3)
                    await pilot.press("question_mark", "escape")
                    self.assertIsNone(app.return_code)
                    await pilot.press("ctrl+q")
                    self.assertEqual(app.return_code, 0)
            finally:
                app.door.close()
                engine.stop()
                app.keeping.stop()

        with (
            tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name,
            mock.patch.object(KanaletoApp, "_mount_views", never),
        ):
            kept = {f"XDG_{what}_HOME": name for what in ("DATA", "STATE")}
            with mock.patch.dict(os.environ, kept):
                asyncio.run(work(Path(name)))


class EndsOfLife(unittest.TestCase):
    def test_nothing_lives_on(self) -> None:
        """A few; `python -m tests.ended --times 200` does it at two hundred moments."""
        for number in range(_ROUNDS):
            one = Round(f"test {number}", is_busy=number == 0)
            self.assertEqual(one.run(), [], one.told)


class Killed(unittest.TestCase):
    def test_a_pulse_that_a_kill_left_on_is_offered_and_given_back(self) -> None:
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name, Terminal() as terminal:
            folder = Path(name)
            storm = Storm(1, folder, terminal)
            storm._serve()
            self.addCleanup(storm._stop_serving)
            terminal.run(f"{KANALETO} {folder / 'site.toml'}; echo 'ENDED' 'WITH' $?")
            terminal.wait_for("Lamp +0", 60)
            for key in ("/", "l", "a", "m", "p", "Enter"):
                terminal.send(key)
                time.sleep(0.3)
            terminal.press("u", "◆ writes")
            terminal.press("w", "new value")
            terminal.write("on 90 s")
            terminal.wait_for("the way back after 90 s")
            time.sleep(0.8)
            terminal.press("Enter", "pulsing")
            terminal.wait_for("▲ 1 pulsing")
            terminal.signal(signal.SIGKILL)
            terminal.wait_for("ENDED WITH", 20)
            with Terminal() as next_one:
                next_one.run(f"{KANALETO} {folder / 'site.toml'}; echo 'ENDED' 'AGAIN' $?")
                next_one.wait_for("1 left standing", 60)
                next_one.send("H")
                next_one.wait_for("it was left at 1 by a program that ended at")
                before = len(told(folder / "heard.txt"))
                next_one.send("Enter")
                next_one.wait_for("nothing is held, pulsing, owed or running", 20)
                heard = told(folder / "heard.txt")[before:]
                self.assertEqual([(unit, pdu) for unit, _, pdu, _ in heard], [(1, "0500020000")])
                next_one.send("C-q")
                next_one.wait_for("ENDED AGAIN 0", 20)


class Questions(unittest.TestCase):
    def test_what_was_typed_before_a_question_answers_nothing(self) -> None:
        program = (
            "import time; time.sleep(1); from kanaleto.cli.confirm import ask_yes; print('SAID', ask_yes('Open it?'))"
        )
        for answer, expected in (("n", "SAID False"), ("y", "SAID True")):
            pid, master = pty.fork()
            if pid == 0:
                os.execv(sys.executable, [sys.executable, "-c", program])
            os.write(master, b"y\n")  # a second before it asks
            screen = self._read_until(master, "Open it?")
            time.sleep(0.5)
            self.assertNotIn("SAID", screen)
            os.write(master, f"{answer}\n".encode())
            self.assertIn(expected, self._read_until(master, "SAID"))
            os.close(master)
            os.waitpid(pid, 0)

    def _read_until(self, master: int, wanted: str) -> str:
        text, end = "", time.monotonic() + 20
        while time.monotonic() < end and not (wanted in text and text.endswith("\n")):
            if select.select([master], [], [], 0.2)[0]:
                try:
                    text += os.read(master, 4096).decode()
                except OSError:
                    break
        return text
