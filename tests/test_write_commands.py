"""Commands that write keep what a site says of writing, and are written down; a coil switched in a real terminal."""

import json
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

from tests.livesite import Far
from tests.terminal import KANALETO, Terminal

_MAP = "name,table,address,access\nTarget,holding,1,rw\nOther,holding,2,rw\n"
_ROUTINE = 'name = "Set"\ndevice = "D"\n[variables]\nx = 7\n[[step]]\nwrite = { "Target" = "x" }\n'


class Commands(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.far = Far()
        threading.Thread(target=self.far.serve_forever, daemon=True).start()
        self.addCleanup(self.far.server_close)
        self.addCleanup(self.far.shutdown)
        self.link = f"tcp://127.0.0.1:{self.far.server_address[1]}"
        (self.folder / "m.csv").write_text(_MAP)
        (self.folder / "routines").mkdir()
        (self.folder / "routines" / "set.toml").write_text(_ROUTINE)

    def _site(self, writing: str) -> str:
        path = self.folder / "s.toml"
        path.write_text(
            f'[site]\nname = "S"\nwriting = "{writing}"\n[[line]]\nname = "L"\nlink = "{self.link}"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "m.csv"\n'
        )
        return str(path)

    def _run(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "kanaleto", *arguments]
        return subprocess.run(command, capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL)

    def test_never_and_confirm(self) -> None:
        site = self._site("never")
        for arguments in (
            ("write", "L", "holding", "1", "5", "--site", site),
            ("write", self.link, "holding", "1", "5", "--site", site),
            ("raw", "L", "06", "00", "01", "00", "05", "--site", site),
            ("routine", site, "Set"),
        ):
            with self.subTest(arguments=arguments):
                done = self._run(*arguments)
                self.assertEqual((done.returncode, self.far.wrote), (2, []), done.stderr)
                self.assertIn('writing = "never"', done.stderr)
        done = self._run("--read-only", "write", self.link, "holding", "1", "5")
        self.assertEqual((done.returncode, self.far.wrote), (2, []), done.stderr)
        site = self._site("confirm")
        for arguments in (("write", "L", "holding", "1", "5", "--site", site), ("routine", site, "Set")):
            with self.subTest(arguments=arguments):
                self.assertNotEqual(self._run(*arguments).returncode, 0)
                self.assertEqual(self.far.wrote, [])
                done = self._run(*arguments, "--yes")
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertEqual(len(self.far.wrote), 1)
                self.far.wrote.clear()
        self.assertEqual(self._run("write", "M", "holding", "1", "5", "--site", site).returncode, 2)

    def test_a_snapshot_is_restored_past_a_changed_tag_where_that_is_said(self) -> None:
        site = self._site("unlock")
        path = Path(site)
        path.write_text(path.read_text() + 'tag = "Other"\n')
        self.far.values[1, 2] = 77
        before = str(self.folder / "before.csv")
        self.assertEqual(self._run("snapshot", "save", site, before).returncode, 0)
        self.assertEqual(self._run("write", "L", "holding", "1", "9", "--site", site).returncode, 0)
        self.assertEqual(self._run("routine", site, "Set").returncode, 0)  # its tag is known from here on
        self.far.wrote.clear()
        self.far.values[1, 2] = 78  # another device
        held_back = self._run("snapshot", "restore", site, before)
        self.assertEqual((held_back.returncode, self.far.wrote), (1, []), held_back.stderr)
        self.assertIn("--although-changed", held_back.stderr)
        done = self._run("snapshot", "restore", site, before, "--although-changed")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("its tag reads 004E, it was 004D; written all the same", done.stderr)
        self.assertEqual((self.far.values[1, 1], self.far.values[1, 2]), (0, 77))

    def test_routines_and_what_is_written_down(self) -> None:
        site = self._site("unlock")
        self.assertIn("Set", self._run("routine", site).stdout)
        dry = self._run("routine", site, "Set", "--dry", "--json")
        self.assertEqual([json.loads(line).get("outcome") for line in dry.stdout.splitlines()], ["would", "done"])
        self.assertEqual(self.far.wrote, [])
        done = self._run("routine", site, "Set", "--set", "x=9", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(self.far.wrote, [b"\x01\x06\x00\x01\x00\x09"])
        self.assertEqual(self._run("write", "L", "holding", "2", "3", "--site", site).returncode, 0)
        rows = [json.loads(line) for line in self._run("history", site, "--writes", "--json").stdout.splitlines()]
        self.assertEqual([(row["point"], row["new"], row["outcome"]) for row in rows],
                         [("Target", "9", "done"), ("holding 2", "0003", "done")])  # fmt: skip
        for arguments in (("Sett",), ("Set", "--set", "y=1"), ("Set", "--set", "x")):
            self.assertEqual(self._run("routine", site, *arguments).returncode, 2)
        (self.folder / "routines" / "bad.toml").write_text(
            'name = "Bad"\ndevice = "D"\n[[step]]\nwrite = { "T" = 1 }\n'
        )
        checked = self._run("check", site)
        self.assertEqual(checked.returncode, 2)
        self.assertIn("bad.toml:4", checked.stderr)
        self.far.silent.add(1)
        failed = self._run("routine", site, "Set")
        self.assertEqual(failed.returncode, 1)
        self.assertIn("failed", failed.stderr)


class InATerminal(unittest.TestCase):
    def test_a_lamp_of_the_demo_with_four_keys(self) -> None:
        """Unlock, switch, see it, and back: with the cursor on it that is u, w, enter, enter."""
        with Terminal() as terminal:
            terminal.run(f"{KANALETO} demo; echo 'ENDED' 'WITH' $?")
            terminal.wait_for("Pool level +[0-9]", 60)
            terminal.send("/")
            terminal.write("towpath")
            terminal.send("Enter")
            terminal.wait_for("Towpath lamp +off")
            terminal.press("u", "◆ writes")
            terminal.press("w", "becomes on")
            time.sleep(0.5)
            terminal.press("Enter", "written, read back, equal")
            terminal.wait_for("Towpath lamp +on ")
            time.sleep(1.3)
            terminal.send("Enter")
            terminal.wait_for("the way back stands above: on")
            terminal.wait_for("Towpath lamp +off")
            terminal.send("C-q")
            terminal.wait_for("lets the watchdog of")
            terminal.send("C-q")
            terminal.wait_for("ENDED WITH 0", 30)
