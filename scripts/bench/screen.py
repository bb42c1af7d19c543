"""What the application writes to its terminal at rest and what its screen's thread costs, and how long a key takes to
its frame with 5 000 points; starting, to the first frame, on the demo and on large sites."""

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from kanaleto.demo.start import free_port
from scripts.bench.figure import Figure
from scripts.bench.sites import large_site
from scripts.bench.terminal import OnTerminal

_VIEWS = (("Find", "1", 20), ("Map", "2", 30), ("Live", "3", 40), ("Wire", "4", 60))
_REST_S = 6.0
_KEYS = 60
_STARTS = 5


def measure() -> list[Figure]:
    return [*_at_rest(), *_with_5000(), *_starts()]


def _at_rest() -> list[Figure]:
    terminal = OnTerminal("demo")
    terminal.read_until(b"busy")
    terminal.read_for(3)
    figures = []
    for name, key, most in _VIEWS:
        terminal.press(key.encode())
        terminal.read_for(2)
        before, start = terminal.screen_cpu_s(), time.perf_counter()
        rate = terminal.read_for(_REST_S) / _REST_S / 1024
        cpu = (terminal.screen_cpu_s() - before) / (time.perf_counter() - start)
        figures.append(
            Figure(f"written at rest, demo, {name}", f"{rate:.1f} KiB/s", f"{most} KiB/s", rate / most, "≤ 1")
        )
        figures.append(Figure(f"the screen's thread at rest, {name}", f"{100 * cpu:.1f} %", "5 %", cpu / 0.05, "≤ 1"))
    terminal.close()
    return figures


def _with_5000() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        site = large_site(Path(folder), 5000, free_port(15030))
        slave = subprocess.Popen([sys.executable, "-m", "kanaleto", "serve", str(site)], stdout=subprocess.PIPE)
        assert slave.stdout is not None
        slave.stdout.readline()
        terminal = OnTerminal(str(site))
        terminal.read_until(b"busy")
        terminal.read_for(3)
        before, start = terminal.screen_cpu_s(), time.perf_counter()
        rate = terminal.read_for(_REST_S) / _REST_S / 1024
        cpu = (terminal.screen_cpu_s() - before) / (time.perf_counter() - start)
        alone = _key_times(terminal)
        neighbour = subprocess.Popen([sys.executable, "-c", "while True: pass"])
        try:
            beside = _key_times(terminal)
        finally:
            neighbour.kill()
            neighbour.wait()
        terminal.press(b" ")
        terminal.read_for(2)
        held = terminal.read_for(_REST_S) / _REST_S / 1024
        terminal.close()
        slave.terminate()
        slave.wait()
        slave.stdout.close()
    return [
        Figure("written at rest, 5 000 points, Live", f"{rate:.1f} KiB/s", "40 KiB/s", rate / 40, "≤ 1"),
        Figure("the screen's thread, 5 000 points, Live", f"{100 * cpu:.1f} %", "10 %", cpu / 0.1, "≤ 1"),
        Figure("the same with polling held", f"{held:.1f} KiB/s", "40 KiB/s", held / 40, "≤ 1"),
        _key_figure("key to frame with 5 000 points", alone),
        _key_figure("the same with one busy process beside it", beside),
    ]


def _key_times(terminal: OnTerminal) -> list[float]:
    return sorted(terminal.first_answer_s(b"j" if n % 10 else b"\x1b[6~") for n in range(_KEYS))


def _key_figure(what: str, times: list[float]) -> Figure:
    late, middle = times[int(0.95 * len(times))], statistics.median(times)
    return Figure(f"{what}, 95 % (median {1e3 * middle:.0f} ms)", f"{1e3 * late:.0f} ms", "50 ms", late / 0.05, "≤ 1")


def _imported() -> float:
    start = time.perf_counter()
    subprocess.run([sys.executable, "-c", "import textual.app"], check=True)
    return time.perf_counter() - start


def _painted(*words: str) -> float:
    terminal = OnTerminal(*words)
    took = terminal.read_until(b"busy")
    terminal.close()
    return took


def _starts() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        five, fifty = Path(folder) / "5", Path(folder) / "50"
        for made, count in ((five, 5000), (fifty, 50_000)):
            made.mkdir()
            large_site(made, count, 9)
        return [
            _start("a site of one point", lambda: _painted(str(_small(Path(folder)))), "≤ 2"),
            _start("5 000 points", lambda: _painted(str(five / "site.toml")), "≤ 2.2"),
            _start("50 000 points", lambda: _painted(str(fifty / "site.toml")), "≤ 3"),
        ]


def _small(folder: Path) -> Path:
    (folder / "map.csv").write_text("name,table,address\nA,holding,0\n")
    device = '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\n'
    site = folder / "small.toml"
    site.write_text(f'[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:9"\n{device}')
    return site


def _start(what: str, painted: Callable[[], float], target: str) -> Figure:
    pairs = [(painted(), _imported()) for _ in range(_STARTS)]
    ratio = statistics.median(ours / bare for ours, bare in pairs)
    ours, bare = (statistics.median(times) for times in zip(*pairs, strict=True))
    return Figure(
        f"start to the first frame, {what}, against importing Textual", f"{ours:.2f} s", f"{bare:.2f} s", ratio, target
    )
