"""Time to the first painted frame: from starting `kanaleto SITE` on a terminal to the first lane on it, against
importing Textual alone."""

import fcntl
import os
import pty
import select
import statistics
import struct
import subprocess
import sys
import tempfile
import termios
import time
from pathlib import Path

from scripts.bench.figure import Figure

_RUNS = 7


def _painted(site: Path) -> float:
    near, far = pty.openpty()
    fcntl.ioctl(far, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 0, 0))
    start = time.perf_counter()
    process = subprocess.Popen([sys.executable, "-m", "kanaleto", str(site)], stdin=far, stdout=far, stderr=far)
    seen = b""
    while b"busy" not in seen and time.perf_counter() - start < 30:
        if select.select([near], [], [], 0.1)[0]:
            seen += os.read(near, 65536)
    took = time.perf_counter() - start
    os.write(near, b"q")
    while process.poll() is None:
        if select.select([near], [], [], 0.1)[0]:
            os.read(near, 65536)
    os.close(near)
    os.close(far)
    return took


def _imported(code: str) -> float:
    start = time.perf_counter()
    subprocess.run([sys.executable, "-c", code], check=True)
    return time.perf_counter() - start


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder) / "site.toml"
        (Path(folder) / "map.csv").write_text("name,table,address\nA,holding,0\n")
        site.write_text(
            '[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:9"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\n'
        )
        pairs = [(_painted(site), _imported("import textual.app")) for _ in range(_RUNS)]
    ratio = statistics.median(painted / imported for painted, imported in pairs)
    painted, imported = (statistics.median(times) for times in zip(*pairs, strict=True))
    what = "time to the first painted frame, against python -c 'import textual.app'"
    return [Figure(what, f"{painted:.2f} s", f"{imported:.2f} s", ratio)]
