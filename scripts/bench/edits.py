"""One edit of a map and its undoing, from asking to the engine going on with it, and what the engine's loop
waited meanwhile, all points being polled; a large map read; an import of thousands of rows of one name."""

import csv
import statistics
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from kanaleto.editing.door import Door
from kanaleto.editing.pointedit import change_points
from kanaleto.editing.workingcopy import Edit
from kanaleto.files.loading import load_site, load_whole
from kanaleto.polling.engine import Engine
from kanaleto.site.counting import Numbering
from kanaleto.supervision.collector import settle
from kanaleto.tables.csvtext import read_text_table
from kanaleto.tables.importing import import_rows
from kanaleto.tables.matching import match_columns
from scripts.bench.figure import Figure
from scripts.bench.responder import start_responder
from scripts.bench.sites import large_site, site_of_one_map
from scripts.bench.watching import Watch

_EDITS = 9


def measure() -> list[Figure]:
    settle()
    kinds = (("", _unit), (" that moves a point", _address))
    several = [
        figure
        for kind, make in kinds
        for figure in _edited(_twenty_devices, 60, kind, "5000 points in 20 devices", partial(make, "D7"))
    ]
    one = [
        figure
        for kind, make in kinds
        for figure in _edited(_one_map, 600, kind, "20000 points in one map", partial(make, "D"))
    ]
    return [*several, *one, _read(20_000), _imported(8000)]


def _twenty_devices(folder: Path, port: int) -> Path:
    return large_site(folder, 5000, port, 250, 10)


def _one_map(folder: Path, port: int) -> Path:
    return site_of_one_map(folder, 20_000, port)


def _unit(device: str, number: int) -> Edit:
    return change_points(device, [f"Point {7 * number}"], {"unit": f"u{number}"})


def _address(device: str, number: int) -> Edit:
    return change_points(device, [f"Point {7 * number}"], {"address": str(60_000 + number)})


def _edited(
    lay_out: Callable[[Path, int], Path], most_ms: int, what_kind: str, where: str, make: Callable[[int], Edit]
) -> list[Figure]:
    """One kind of edit and its undoing."""
    responder, port = start_responder()
    watch = Watch()
    with tempfile.TemporaryDirectory() as folder:
        path = lay_out(Path(folder), port)
        loaded = load_whole(path)
        engine = Engine(loaded.site)
        engine.start()
        while engine.session.count < len(engine.session.board.records):
            time.sleep(0.1)
        door = Door(loaded, path, False, lambda change: engine.take_over(change.site).result())
        watching = engine.run(watch.run())
        took, longest, waits = [], [], list[float]()
        for number in range(_EDITS):
            time.sleep(0.3)
            watch.waits.clear()
            start = time.perf_counter()
            (door.undo() if number % 3 == 2 else door.edit(make(number))).result()
            took.append(time.perf_counter() - start)
            longest.append(watch.longest_s)
            waits += watch.waits
        watching.cancel()
        door.close()
        engine.stop()
    responder.terminate()
    edit_s, wait_s = statistics.median(took), sorted(waits)[len(waits) * 95 // 100]
    what = f"an edit{what_kind} or its undoing, {where}"
    return [
        Figure(what, f"{1e3 * edit_s:.0f} ms", f"{most_ms} ms", 1e3 * edit_s / most_ms, "≤ 1"),
        Figure(
            f"what the loop waits meanwhile at 95 % (at worst {1e3 * statistics.median(longest):.1f} ms)",
            f"{1e3 * wait_s:.1f} ms",
            "5 ms",
            wait_s / 0.005,
            "≤ 1",
        ),
    ]


def _read(points: int) -> Figure:
    with tempfile.TemporaryDirectory() as folder:
        path = site_of_one_map(Path(folder), points)
        pairs = []
        for _ in range(5):
            start = time.perf_counter()
            load_site(path)
            middle = time.perf_counter()
            with (path.parent / "map.csv").open(newline="") as file:
                list(csv.reader(file))
            pairs.append((middle - start, time.perf_counter() - middle))
    ours, cells = (statistics.median(times) for times in zip(*pairs, strict=True))
    what = f"{points} points in one map read (≤ 0.5 s), against splitting it into cells"
    return Figure(what, f"{1e3 * ours:.0f} ms", f"{1e3 * cells:.0f} ms", ours / cells, "≤ 15")


def _imported(rows: int) -> Figure:
    def took(count: int) -> float:
        text = "name,table,address,type\n" + "".join(f"Same,holding,{n},uint16\n" for n in range(count))
        start = time.perf_counter()
        import_rows(match_columns(read_text_table(text)), Numbering.PROTOCOL)
        return time.perf_counter() - start

    half, whole = took(rows // 2), took(rows)
    what = f"{rows} rows of one name imported (≤ 0.4 s), against twice the half of them"
    return Figure(what, f"{1e3 * whole:.0f} ms", f"{2e3 * half:.0f} ms", whole / (2 * half), "≤ 1.2")
