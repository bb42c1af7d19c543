"""A day at one sample a second of eight points: drawn at the width of a large screen, out of memory; and read out of a
record."""

import math
import random
import statistics
import tempfile
import time
from pathlib import Path

from kanaleto.board.memory import Remembered
from kanaleto.history.curves import FromMemory, thinned
from kanaleto.history.definition import read_definition
from kanaleto.history.query import History
from kanaleto.history.standing import CHANGED, GOOD
from kanaleto.history.store import Store, url_of
from kanaleto.history.storedcurve import stored_curve
from kanaleto.tui.parts.trend.raster import curve_dots, drawn
from scripts.bench.figure import Figure

_DAY_S, _POINTS, _COLUMNS, _ROWS = 86_400, 8, 290, 34
_TURNS = 15
_TOLD = '{"address": 0, "order": "ABCD", "table": "holding", "type": "uint16"}'


def measure() -> list[Figure]:
    return [_drawn(), *_recorded()]


def _samples(point: int) -> list[float]:
    dice = random.Random(point)
    return [100 * math.sin(at / 3000 + point) + dice.gauss(0, 2) for at in range(_DAY_S)]


def _drawn() -> Figure:
    remembered = []
    for point in range(_POINTS):
        curve = Remembered()
        for at, value in enumerate(_samples(point)):
            curve.note(float(at), value, 0)
        remembered.append(FromMemory(curve))
    times = []
    for _ in range(_TURNS):
        start = time.perf_counter()
        thins = [thinned(from_memory.curve(), 0.0, float(_DAY_S), 2 * _COLUMNS) for from_memory in remembered]
        drawn([curve_dots(thin.low, thin.high, -110.0, 110.0, _ROWS) for thin in thins])
        times.append(time.perf_counter() - start)
    took = statistics.median(times)
    return Figure("a day at 1 Hz of 8 points drawn, from memory", f"{1000 * took:.1f} ms", "50 ms", took / 0.05, "≤ 1")


def _recorded() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        url = url_of(str(Path(folder) / "record.db"))
        store = Store(url)
        run = store.begin_run("B", "bench", "", "", 0)
        span = store.begin_span(run, 0)
        definition = store.definition(_TOLD, read_definition(_TOLD).fingerprint)
        for point in range(_POINTS):
            series = store.series("B", "D", f"P{point}")
            words = b"\0\0"
            store.put(
                [
                    (series, at * 1_000_000, span, CHANGED, GOOD, value, words, definition, None)
                    for at, value in enumerate(_samples(point))
                ]
            )
        store.extend_span(span, _DAY_S * 1_000_000)
        store.commit()
        store.close()
        history = History(url)
        wanted = history.series_named("B", {("D", f"P{point}") for point in range(_POINTS)})
        start = time.perf_counter()
        curves = [stored_curve(history, series, 0.0, float(_DAY_S)).curve for series in wanted]
        took = time.perf_counter() - start
        rows = sum(map(len, curves))
        start = time.perf_counter()
        history.connection.exec_driver_sql("select series, at, value from sample").fetchall()
        bare = time.perf_counter() - start
        history.close()
    what = f"the same out of a record ({rows} rows), against reading the bare rows"
    return [Figure(what, f"{took:.2f} s", f"{bare:.2f} s", took / bare, "≤ 4")]
