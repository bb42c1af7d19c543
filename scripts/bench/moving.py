"""A step of ten thousand moving registers of all kinds, against the same arithmetic as one function by hand with one
packing a register; how long a lock is held; what steps leave in memory."""

import gc
import math
import random
import struct
import tempfile
import time
from pathlib import Path

from kanaleto.bench.compiledmoves import Movement
from kanaleto.bench.servedunits import Units
from kanaleto.files.loading import load_site
from scripts.bench.figure import Figure

_DEVICES, _EACH = 20, 500
_KINDS = (
    ("float32", '{{ wave = "sine", low = 0, high = {n}, period_s = 40 }}'),
    ("float32", '{{ follow = "P{before}", rate = 4, lag_s = 0.5 }}'),
    ("int16", "{{ walk = 0.2, low = -100, high = 100 }}"),
    ("float32", '{{ formula = "24 + 0.3 * [P{before}]" }}'),
    ("uint32", "{{ counts_s = 3600 }}"),
)


def _site(folder: Path, devices: int = _DEVICES, each: int = _EACH) -> Path:
    rows = "".join(f"P{n},holding,{2 * n},{_KINDS[n % len(_KINDS)][0]}\n" for n in range(each))
    (folder / "m.csv").write_text("name,table,address,type\n" + rows)
    text = '[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:1502"\n'
    for unit in range(1, devices + 1):
        text += f'[[line.device]]\nname = "D{unit}"\nunit_id = {unit}\nmap = "m.csv"\n[line.device.moves]\n'
        for n in range(each):
            text += f"P{n} = {_KINDS[n % len(_KINDS)][1].format(n=n + 1, before=n - 1)}\n"
    path = folder / "site.toml"
    path.write_text(text)
    return path


def _by_hand() -> float:
    """Seconds of one step of the same arithmetic, with one packing a register."""
    count = _DEVICES * _EACH
    values, memory = [0.0] * count, bytearray(4 * count)
    draw = random.Random(1).gauss
    pack, sin, exp = struct.pack_into, math.sin, math.exp

    def step(t: float, dt: float) -> None:
        for at in range(0, count, 5):
            values[at] = 10 + 10 * sin(6.283185 * ((t / 40) % 1))
            values[at + 1] += min(max((values[at] - values[at + 1]) * (1 - exp(-dt / 0.5)), -4 * dt), 4 * dt)
            values[at + 2] = min(max(values[at + 2] + 0.2 * dt**0.5 * draw(0.0, 1.0), -100), 100)
            values[at + 3] = 24 + 0.3 * values[at + 2]
            values[at + 4] = t // 3600
            pack(">f", memory, 4 * at, values[at])
            pack(">f", memory, 4 * at + 4, values[at + 1])
            pack(">h", memory, 4 * at + 8, round(values[at + 2]))
            pack(">f", memory, 4 * at + 12, values[at + 3])
            pack(">I", memory, 4 * at + 16, int(values[at + 4]))

    best = math.inf
    for number in range(15):
        start = time.perf_counter()
        step(number * 0.1, 0.1)
        best = min(best, time.perf_counter() - start)
    return best


def _day() -> float:
    """Bytes that the process takes more after 24 simulated hours than after the first of them."""
    with tempfile.TemporaryDirectory() as folder:
        site, _ = load_site(_site(Path(folder), 1, 5))
        movement = Movement([one for line in site.lines for one in Units(line, False).devices], site.lines, 7)
    for _ in range(36_000):
        movement.step()
    first = _resident()
    for _ in range(23 * 36_000):
        movement.step()
    return float(max(_resident() - first, 0))


def _resident() -> int:
    """Bytes of this process in memory."""
    gc.collect()
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        site, _ = load_site(_site(Path(folder)))
        movement = Movement([one for line in site.lines for one in Units(line, False).devices], site.lines, 7)
        best, held = math.inf, 0.0
        for _ in range(15):
            start = time.perf_counter()
            movement.step()
            best = min(best, time.perf_counter() - start)
            held = max(held, movement.held_s)
        floor = _by_hand()
    grown = _day()
    return [
        Figure(
            "a step of 10 000 moving registers", f"{1e3 * best:.1f} ms", f"{1e3 * floor:.1f} ms", best / floor, "≤ 4"
        ),
        Figure("the longest that its lock is held", f"{1e3 * held:.2f} ms", "5 ms", held / 0.005, "≤ 1"),
        Figure(
            "memory growth over 24 simulated hours of moving registers of all kinds, against 1 MiB",
            f"{grown / 1024:.0f} KiB",
            "1024 KiB",
            grown / 2**20,
            "< 1",
        ),
    ]
