"""A server of PostgreSQL for tests."""

import os
import shutil
import socket
import subprocess
import sys
import unittest
from pathlib import Path


class Server:
    """A server of PostgreSQL in a folder, on a port of loopback; the test is left out where it cannot be had."""

    def __init__(self, folder: Path) -> None:
        binaries = _binaries()
        if binaries is None:
            text = "PostgreSQL is not here and cannot be installed"
            sys.stderr.write(f"left out: {text}\n")
            raise unittest.SkipTest(text)
        self._binaries, self._data = binaries, folder / "pg"
        self._user = "postgres" if os.getuid() == 0 else ""
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self._data.mkdir()
        if self._user:
            folder.chmod(0o755)
            shutil.chown(self._data, self._user)
        self.url = f"postgresql://kanaleto@127.0.0.1:{self.port}/postgres"
        self._as_user("initdb", "-D", str(self._data), "-U", "kanaleto", "--auth=trust", "-N")
        self.begin()

    def begin(self) -> None:
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories={self._data} -c fsync=off"
        self.run("start", "-w", "-o", options, "-l", str(self._data / "log"))

    def run(self, *words: str) -> None:
        self._as_user("pg_ctl", "-D", str(self._data), *words)

    def _as_user(self, program: str, *words: str) -> None:
        command = [str(self._binaries / program), *words]
        prefix = ["setpriv", f"--reuid={self._user}", f"--regid={self._user}", "--clear-groups"] if self._user else []
        done = subprocess.run([*prefix, *command], capture_output=True, text=True, stdin=subprocess.DEVNULL, cwd="/")
        if done.returncode:
            raise AssertionError(f"{program}: {done.stdout}{done.stderr}")

    def stop(self) -> None:
        self.run("stop", "-m", "immediate")


def _binaries() -> Path | None:
    """Where Debian's packages have put it; installed first, where that may be done."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    if not found and os.name == "posix" and os.getuid() == 0 and shutil.which("apt-get"):
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "stdin": subprocess.DEVNULL}
        environment = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
        for words in (("update", "-q"), ("install", "-y", "-q", "--no-install-recommends", "postgresql", "libpq5")):
            subprocess.run(["apt-get", *words], env=environment, timeout=240, **quiet)  # type: ignore[call-overload]
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    return found[-1].parent if found else None
