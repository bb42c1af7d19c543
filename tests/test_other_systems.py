"""A system without fcntl, termios, pty, resource and POSIX signals, as far as one can be made of this one: what needs
none of them works, and what needs them says so."""

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
import textwrap
import unittest
from pathlib import Path

from tests.test_bench import free_port

BLOCKED = """
import asyncio
import asyncio.unix_events
import multiprocessing
import os
import signal
import subprocess
import sys
import tempfile

for name in ("fcntl", "termios", "pty", "tty", "resource", "grp", "pwd"):
    sys.modules[name] = None
for name in ("openpty", "ttyname", "chown", "fchown", "fchmod", "O_NOCTTY", "statvfs"):
    delattr(os, name)
for name in ("SIGHUP", "SIGUSR1", "SIGUSR2", "SIGWINCH", "SIGTSTP", "SIGCONT", "SIGKILL", "SIGALRM", "SIGPIPE",
             "SIGTTOU", "SIGTTIN", "pthread_sigmask", "setitimer"):
    delattr(signal, name)


def cannot(self, *arguments):
    raise NotImplementedError


asyncio.unix_events._UnixSelectorEventLoop.add_signal_handler = cannot
asyncio.unix_events._UnixSelectorEventLoop.remove_signal_handler = cannot
"""
IMPORTS = """
import importlib
import pkgutil

import kanaleto

for module in pkgutil.walk_packages(kanaleto.__path__, "kanaleto."):
    if not module.name.endswith("__main__"):
        importlib.import_module(module.name)
print("all")
"""


class Elsewhere(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        blocked = self.folder / "blocked"
        blocked.mkdir()
        (blocked / "sitecustomize.py").write_text(BLOCKED)
        self.port = free_port()
        self.link = f"tcp://127.0.0.1:{self.port}"
        (self.folder / "map.csv").write_text("name,table,address,type,initial,access\nFlow,holding,9,uint16,7,rw\n")
        (self.folder / "site.toml").write_text(
            textwrap.dedent(f"""\
                [site]
                name = "Elsewhere"

                [[line]]
                name = "L"
                link = "{self.link}"

                [[line.device]]
                name = "D"
                unit_id = 1
                map = "map.csv"
                """)
        )
        self.environment = {**os.environ, "PYTHONPATH": str(blocked), "HOME": folder.name}
        for name in ("LOGNAME", "USER", "LNAME", "USERNAME"):
            self.environment.pop(name, None)

    def begin(self, *arguments: str) -> "subprocess.Popen[str]":
        return subprocess.Popen(
            [sys.executable, "-W", "ignore", "-m", "kanaleto", *arguments], cwd=self.folder, env=self.environment,
            text=True, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        )  # fmt: skip

    def says(self, code: int, words: str, *arguments: str) -> None:
        with self.begin(*arguments) as process:
            text = process.communicate(timeout=120)[0]
        self.assertEqual((code, "Traceback" in text), (process.returncode, False), text)
        self.assertRegex(text, words)

    def test_all_of_the_application_is_imported(self) -> None:
        (self.folder / "imports.py").write_text(IMPORTS)
        done = subprocess.run(
            [sys.executable, "imports.py"], cwd=self.folder, env=self.environment, capture_output=True, text=True
        )
        self.assertEqual(("all\n", 0), (done.stdout, done.returncode), done.stderr[-2000:])

    def test_what_needs_a_network_alone_works(self) -> None:
        self.says(0, "1 device and 1 point on 1 line, no fault", "check", "site.toml")
        with self.begin("serve", "site.toml") as serving, contextlib.ExitStack() as at_end:
            at_end.callback(serving.kill)
            assert serving.stdout is not None
            while "ready" not in (row := serving.stdout.readline()):
                self.assertTrue(row, "serving ended")
            self.says(0, r"^9 +0007 +7$", "read", self.link, "holding", "9", "--unit", "1")
            self.says(0, "wrote holding register from 9", "write", self.link, "holding", "9", "12", "--unit", "1")
            self.says(0, r"D · Flow +12", "poll", "site.toml", "--for", "1", "--record", "record.sqlite")
            self.says(0, "3 of 3 units asked .* 1 found", "find", self.link, "--units", "1-3")
            serving.send_signal(signal.SIGTERM)
            serving.communicate(timeout=30)
            self.assertEqual(0, serving.returncode)
        self.says(0, r"Flow.*12", "history", "record.sqlite")

    def test_what_needs_a_terminal_or_a_port_says_so(self) -> None:
        port = self.folder / "port"
        port.touch()
        self.says(1, "this system opens no serial ports: .* is out of reach", "read", f"rtu://{port}", "holding", "9")
        self.says(1, "this machine names no serial port", "find", "--ports")
        self.says(1, "this system has no pseudo-terminals", "pair", f"rtu://{port}a", f"rtu://{port}b")
        self.says(1, "this system has no pseudo-terminals", "demo", "--headless", "--for", "1")


if __name__ == "__main__":
    unittest.main()
