"""One edit of a map and its undoing, from asking to the engine going on with it, and the longest that the engine's loop
waited meanwhile, all points being polled; a large map read; an import of thousands of rows of one name."""

import csv
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from kanaleto.editing.door import Door
from kanaleto.editing.draft import Edit
from kanaleto.editing.pointedit import change_points
from kanaleto.files.loading import load_site, load_whole
from kanaleto.polling.engine import Engine
from kanaleto.polling.process import quieten_collector
from kanaleto.site.counting import Numbering
from kanaleto.tables.importing import import_rows
from kanaleto.tables.matching import match_columns
from kanaleto.tables.sheets import read_text_table
from scripts.bench.figure import Figure
from scripts.bench.responder import start_responder
from scripts.bench.sites import site_of_one_map
from scripts.bench.watching import Watch

_EDITS = 9
_SITES = ((5000, 60), (20_000, 150))


def measure() -> list[Figure]:
    quieten_collector()
    said = [figure for points, most_ms in _SITES for figure in _edited(points, most_ms, "", _unit)]
    moved = [
        figure for points, most_ms in _SITES for figure in _edited(points, most_ms, " that moves a point", _address)
    ]
    return [*said, *moved, _read(20_000), _imported(8000)]


def _unit(number: int) -> Edit:
    return change_points("D", [f"Point {7 * number}"], {"unit": f"u{number}"})


def _address(number: int) -> Edit:
    return change_points("D", [f"Point {7 * number}"], {"address": str(60_000 + number)})


def _edited(points: int, most_ms: int, what_kind: str, make: Callable[[int], Edit]) -> list[Figure]:
    """One kind of edit and its undoing."""
    responder, port = start_responder()
    watch = Watch()
    with tempfile.TemporaryDirectory() as folder:
        path = site_of_one_map(Path(folder), points, port)
        loaded = load_whole(path)
        engine = Engine(loaded.site)
        engine.start()
        while engine.session.count < len(engine.session.board.records):
            time.sleep(0.1)
        door = Door(loaded, path, False, lambda change: engine.take_over(change.site).result())
        watching = engine.run(watch.run())
        took, longest = [], []
        for number in range(_EDITS):
            time.sleep(0.3)
            watch.waits.clear()
            start = time.perf_counter()
            (door.undo() if number % 3 == 2 else door.edit(make(number))).result()
            took.append(time.perf_counter() - start)
            longest.append(watch.longest_s)
        watching.cancel()
        door.close()
        engine.stop()
    responder.terminate()
    edit_s, wait_s = statistics.median(took), statistics.median(longest)
    what = f"an edit{what_kind} or its undoing, {points} points in one map"
    return [
        Figure(what, f"{1e3 * edit_s:.0f} ms", f"{most_ms} ms", 1e3 * edit_s / most_ms, "≤ 1"),
        Figure(
            f"the longest that the loop waits for it (at worst {1e3 * max(longest):.1f} ms)",
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
