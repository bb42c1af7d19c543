"""Planning 10 000 points, against sorting and grouping them by hand into runs without a gap: what any plan must at
least do."""

import random
import statistics
import time
from pathlib import Path

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.planning.plan import plan_site
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Device, Line, Site
from scripts.bench.figure import Figure

_POINTS = 10_000
_ROUNDS = 9


def _site() -> Site:
    source, rows, address = random.Random(1), [], 0
    for number in range(_POINTS):
        rows.append(f"P{number},holding,{address}")
        address += 1 + (source.random() < 0.2) * source.randint(1, 20)
    points, _ = read_map(Path("bench.csv"), "name,table,address\n" + "\n".join(rows), MapDefaults())
    return Site("Bench", (Line("L", SerialLink("/x"), (Device("D", 1, points, 1.0, 0),)),))


def measure() -> list[Figure]:
    site = _site()
    points = site.lines[0].devices[0].points

    def planned() -> float:
        start = time.perf_counter()
        plan_site(site)
        return time.perf_counter() - start

    def grouped() -> float:
        start = time.perf_counter()
        runs, end = 0, -1
        for point in sorted(points, key=lambda one: (one.address, one.end)):
            runs += point.address != end
            end = point.end
        return time.perf_counter() - start

    pairs = [(planned(), grouped()) for _ in range(_ROUNDS)]
    ours, floor = (min(column) for column in zip(*pairs, strict=True))
    ratio = statistics.median(plan / sort for plan, sort in pairs)
    what = (
        f"planning {_POINTS} points of one device (the best of {_ROUNDS}), against sorting them and finding their runs"
    )
    return [Figure(what, f"{1000 * ours:.0f} ms", f"{1000 * floor:.0f} ms", ratio, "< 100 ms")]
