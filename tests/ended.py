"""Ends the application at moments drawn from a seed, and looks for what lives on: `python -m tests.ended --times 200`.

Each round starts the demo in a terminal of its own (no shell between), maybe types a key in the first second, and
closes the terminal or sends SIGTERM (once, or twice) after 0 to 5 s. Five seconds later nothing of it may run, and
there may be no crash file. `--busy` waits until all is there, and ends it during a survey, a recording or a write.
"""

import argparse
import contextlib
import fcntl
import os
import pty
import random
import select
import signal
import struct
import sys
import tempfile
import termios
import time
from pathlib import Path

LIVES_S = 5.0
_KEYS = (b"", b"3", b"u", b"4", b"q", b"2a", b"\x1b[200~x\x1b[201~", b"w1\r", b"?")
_BUSY = (
    (b"1", b"\x1b[B", b"f", b"f", b"y"),
    (b"R",),
    (b"3", b"/", b"towpath\r", b"u", b"w", b"\r"),
    (b"3", b"/", b"towpath\r", b"u", b"w", b"on 9 s", b"\r"),
)


class Round:
    """One start and its end."""

    def __init__(self, seed: str, is_busy: bool) -> None:
        self._pick = random.Random(seed)
        self._is_busy = is_busy
        self.told = ""

    def run(self) -> list[str]:
        """What is wrong with how it ended."""
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as home:
            return self._run(home)

    def _run(self, home: str) -> list[str]:
        pick = self._pick
        mark = f"KANALETO_ROUND={home}"
        environment = {
            **os.environ, "HOME": home, "TERM": "xterm-256color", "KANALETO_ROUND": home, "TMPDIR": home,
            **{f"XDG_{name}_HOME": f"{home}/{name.lower()}" for name in ("DATA", "STATE", "CONFIG", "CACHE")},
        }  # fmt: skip
        pid, master = pty.fork()
        if pid == 0:
            os.execve(sys.executable, [sys.executable, "-m", "kanaleto", "demo"], environment)
        fcntl.ioctl(master, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 140, 0, 0))
        moment_s = pick.uniform(0, 5) if not self._is_busy else pick.uniform(0, 3)
        key, way = pick.choice(_KEYS), pick.choice(("close", "close", "term", "term twice", "not read"))
        if self._is_busy:
            self._read(master, 6.0)
            for key in pick.choice(_BUSY):
                os.write(master, key)
                self._read(master, 0.6)
            self._read(master, moment_s)
        else:
            key_s = pick.uniform(0, moment_s)
            self._read(master, key_s)
            with contextlib.suppress(OSError):
                os.write(master, key)
            self._read(master, moment_s - key_s)
        self.told = f"{way} after {moment_s:.2f} s, key {key!r}"
        return self._end(pid, master, way, mark, home)

    @staticmethod
    def _read(master: int, for_s: float) -> None:
        end_s = time.monotonic() + for_s
        while (left_s := end_s - time.monotonic()) > 0:
            if select.select([master], [], [], left_s)[0]:
                try:
                    if not os.read(master, 65536):
                        return
                except OSError:
                    return

    def _end(self, pid: int, master: int, way: str, mark: str, home: str) -> list[str]:
        if way == "close":
            os.close(master)
        else:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGTERM)
            if way == "term twice":
                time.sleep(self._pick.uniform(0, 1))
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGTERM)
        end_s = time.monotonic() + LIVES_S
        while time.monotonic() < end_s:
            if way.startswith("term"):
                self._read(master, 0.1)
            else:
                time.sleep(0.1)
            with contextlib.suppress(ChildProcessError):
                os.waitpid(pid, os.WNOHANG)
            if not living(mark):
                break
        wrong = [f"lives on: {text}" for text in living(mark)]
        wrong += [
            f"{path.name}: {path.read_text()[-600:]}"
            for path in Path(home).rglob("*-*.txt")
            if path.name.startswith(("crash-", "fault-"))
        ]
        if way != "close":
            os.close(master)
        for process in processes(mark):
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, signal.SIGKILL)
        with contextlib.suppress(ChildProcessError):
            os.waitpid(pid, 0)
        return wrong


def processes(mark: str) -> list[int]:
    """Those that were started with this in their environment."""
    found = []
    for path in Path("/proc").glob("[0-9]*/environ"):
        with contextlib.suppress(OSError):
            if mark.encode() in path.read_bytes() and int(path.parent.name) != os.getpid():
                found.append(int(path.parent.name))
    return found


def living(mark: str) -> list[str]:
    texts = []
    for process in processes(mark):
        with contextlib.suppress(OSError):
            if ") Z " not in Path(f"/proc/{process}/stat").read_text():
                texts.append(Path(f"/proc/{process}/cmdline").read_text().replace("\0", " ").strip())
    return texts


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--times", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--busy", action="store_true")
    chosen = parser.parse_args()
    failed = 0
    for number in range(chosen.times):
        one = Round(f"{chosen.seed} {number} {chosen.busy}", chosen.busy)
        wrong = one.run()
        failed += bool(wrong)
        if wrong:
            print(f"round {number}: {one.told}", *wrong, sep="\n  ", flush=True)
    print(f"{chosen.times} ends of life, {failed} failed (seed {chosen.seed})")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
