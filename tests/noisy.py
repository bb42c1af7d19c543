"""Bytes of a noisy console, typed into the application on the demo: pieces of escape sequences, letters of other
charsets, bytes that are none. `python -m tests.noisy [SECONDS] [SEED]`: it must live, leave no fault, and end in order.
"""

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

_PIECES = (
    b"\x1b[", b"\x1b[<", b"\x1b[<0;10;10M", b"\x1b[<999999999;5;5M", b"\x1b[M", b"\x1b[200~", b"\x1b[201~", b"\x1bO",
    b"\x1b]", b"\x1bP", b"\x1b[?", b"\x1b[8;1;1t", b"\x1b[48;47;160;800;1280t", b"\x1b[1;1R", b"\x1b[?2048;1$y",
    b"\x1b[?2026;2$y", b"\x9b", b"\xc3", b"\xff\xfe", b"\x00", b"\x1b[I", b"\x1b[O", b"\x1b\x1b", b"\x1b[<35;1e9;0M",
    b"\x1b[38;2;1m", b"\xe6\xb0", b"\xed\xa0\x80",
)  # fmt: skip
_ENDING = b"qQ\x11\x03\x1c\x1a"  # what quits, or stops the process, is no noise


def _drained(near: int, for_s: float) -> bool:
    """Read what it draws; whether it is still there."""
    end = time.monotonic() + for_s
    while time.monotonic() < end:
        if select.select([near], [], [], 0.05)[0]:
            try:
                os.read(near, 65536)
            except OSError:
                return False
    return True


def noisy(seconds: float, seed: int, home: Path) -> str:
    """What is wrong, or nothing."""
    chance = random.Random(seed)
    process, near = pty.fork()
    if process == 0:
        os.chdir(home)  # noise saves the site under a name of its own, too
        settings = {"TERM": "xterm-256color", "HOME": str(home)}
        settings |= {"XDG_STATE_HOME": str(home / "state"), "XDG_DATA_HOME": str(home / "data")}
        os.execve(sys.executable, [sys.executable, "-m", "kanaleto", "demo"], {**os.environ, **settings})
    fcntl.ioctl(near, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 0, 0))
    _drained(near, 8)
    end, count = time.monotonic() + seconds, 0
    while time.monotonic() < end:
        noise = bytes(byte for byte in chance.randbytes(chance.randrange(1, 8)) if byte not in _ENDING)
        os.write(near, chance.choice(_PIECES) if chance.random() < 0.4 else noise)
        count += 1
        if not _drained(near, chance.choice((0.01, 0.05, 0.2))):
            return f"it ended after {count} pieces of noise"
    os.kill(process, signal.SIGTERM)
    end = time.monotonic() + 12
    while os.waitpid(process, os.WNOHANG) != (process, 0):
        if time.monotonic() > end:
            os.kill(process, signal.SIGKILL)
            return "it did not end in order within 12 s"
        _drained(near, 0.1)
    faults = sorted((home / "state").rglob("*.txt"))
    return f"a fault: {faults[0].read_text()[-600:]}" if faults else ""


def main() -> int:
    seconds, seed = (float(sys.argv[1]) if len(sys.argv) > 1 else 30.0), int((sys.argv[2:] or ["1"])[0])
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as home:
        wrong = noisy(seconds, seed, Path(home))
    sys.stdout.write(f"noise, seed {seed}, {seconds:g} s: {wrong or 'lived, and ended in order'}\n")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
