"""A record of five million rows, as a busy site writes in some days: listed, told in figures, and printed."""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from kanaleto.history.definition import read_definition
from kanaleto.history.standing import CHANGED, GOOD
from kanaleto.history.store import SampleRow, Store, url_of
from scripts.bench.figure import Figure

_POINTS, _SECONDS, _AT_ONCE = 10, 500_000, 50_000
_BEGUN_US = 1_700_000_000_000_000
_TOLD = '{"address": 0, "order": "ABCD", "table": "holding", "type": "uint16"}'


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        record = str(Path(folder) / "record.db")
        _write(record)
        return [
            _timed("a record of 5 million rows listed", 1.0, "history", record, "--list"),
            _timed("and told in figures, all points", 5.0, "history", record, "--statistics"),
            _timed("and six days of a point printed", 10.0, *_printed(folder, record)),
        ]


def _write(record: str) -> None:
    store = Store(url_of(record))
    run = store.begin_run("B", "bench", "", "", _BEGUN_US)
    span = store.begin_span(run, _BEGUN_US)
    definition = store.definition(_TOLD, read_definition(_TOLD).fingerprint)
    numbers = [store.series("B", "D", f"P{point}") for point in range(_POINTS)]
    for begun in range(0, _SECONDS, _AT_ONCE):
        for series in numbers:
            store.put([_row(series, at, span, definition) for at in range(begun, begun + _AT_ONCE)])
            store.commit()
    store.extend_span(span, _BEGUN_US + _SECONDS * 1_000_000)
    store.end_run(run, _BEGUN_US + _SECONDS * 1_000_000)
    store.commit()
    store.close()


def _row(series: int, at_s: int, span: int, definition: int) -> SampleRow:
    value = at_s * 7 % 1000
    at_us = _BEGUN_US + at_s * 1_000_000
    return (series, at_us, span, CHANGED, GOOD, float(value), value.to_bytes(2), definition, None)


def _printed(folder: str, record: str) -> list[str]:
    site, page = Path(folder) / "site.toml", Path(folder) / "six-days.pdf"
    site.write_text(
        '[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:9"\n\n'
        '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "d.csv"\n'
    )
    (Path(folder) / "d.csv").write_text("name,table,address,type\nP0,holding,0,uint16\n")
    from_to = ["--from", "2023-11-14T22:15", "--to", "2023-11-20T17:00"]
    return ["export", "trend", str(site), str(page), "--point", "D/P0", "--store", record, *from_to]


def _timed(what: str, most_s: float, *arguments: str) -> Figure:
    begun = time.perf_counter()
    subprocess.run([sys.executable, "-m", "kanaleto", *arguments], check=True, capture_output=True)
    took = time.perf_counter() - begun
    return Figure(what, f"{took:.2f} s", f"{most_s:g} s", took / most_s, "≤ 1")
