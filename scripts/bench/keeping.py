"""What keeping costs: samples recorded a second against the bare driver, the engine with all of it on against the
engine alone, memory over a day of it, and a million exchanges on disk searched."""

import asyncio
import gc
import sqlite3
import statistics
import tempfile
import time
import tracemalloc
from pathlib import Path

from tests.simulated import SimulatedLine, device, silent
from tests.virtual import run_virtual

from kanaleto.capture.packing import pack
from kanaleto.capture.reading import Capture
from kanaleto.capture.recorder import ExchangeRecorder
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.tape import Tape
from kanaleto.capture.words import asked_words
from kanaleto.events.clock import Clock
from kanaleto.evidence.gathered import Gathered
from kanaleto.history.journal import Journal
from kanaleto.history.recording import Recording
from kanaleto.history.recordsink import RecordSink
from kanaleto.history.store import SampleRow, Store, url_of
from kanaleto.keeping.kept import Kept
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.polling.processlimits import prepare_process
from kanaleto.polling.session import Session
from kanaleto.site.model import Site
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure
from scripts.bench.loopback import answer_of, plain_rows, site_at
from scripts.bench.responder import start_responder

_SAMPLES, _POINTS, _BATCH = 200_000, 100, 20
_ROUNDS, _ROUND_S = 15, 0.8
_MILLION = 1_000_000


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        return [_recorded(folder), *_engine(folder), _memory(folder), _searched(folder)]


# Samples


def _recorded(folder: Path) -> Figure:
    """All that the writer does with words as they come (decoding, comparing, rows, commits of so many), against tuples
    handed to the driver of SQLite, into the same table, with commits of as many."""
    ratios, recorded_s, bare_s = [], 0.0, 0.0
    for number in range(5):
        recorded_s = _record_all(folder / f"a{number}.db")
        bare_s = _bare(folder / f"b{number}.db")
        ratios.append(bare_s / recorded_s)
    what = f"samples recorded a second, {_POINTS} points a block, all changed, against executemany by tuples"
    ratio = statistics.median(ratios)
    return Figure(what, f"{_SAMPLES / recorded_s:.0f}/s", f"{_SAMPLES / bare_s:.0f}/s", ratio, "≥ 0.7")


def _record_all(path: Path) -> float:
    store = Store(url_of(str(path)))
    recording = Recording(store, "S", "bench", "Ada", "here", 0)
    points = [
        {"name": f"P{n}", "told": f'{{"address": {n}, "order": "ABCD", "table": "holding", "type": "uint16"}}',
         "deadband": 0.0, "offset": n} for n in range(_POINTS)
    ]  # fmt: skip
    recording.take({"block": {"handle": 1, "device": "D", "points": points, "count": _POINTS, "is_bits": False}})
    messages = []
    for first in range(0, _SAMPLES // _POINTS, _BATCH):
        messages.append(
            [[1, n * 1000, b"".join((n * 7 + p & 0xFFFF).to_bytes(2) for p in range(_POINTS)).hex()]
             for n in range(first, first + _BATCH)]
        )  # fmt: skip
    start = time.perf_counter()
    for message in messages:
        recording.take({"rows": message})
        recording.commit()
    took_s = time.perf_counter() - start
    assert recording.rows_kept == _SAMPLES
    store.close()
    return took_s


def _bare(path: Path) -> float:
    Store(url_of(str(path))).close()
    rows: list[SampleRow] = []
    for n in range(_SAMPLES // _POINTS):
        words = [(n * 7 + p & 0xFFFF) for p in range(_POINTS)]
        rows += [(p, n * 1000, 1, 1, 0, float(word), word.to_bytes(2), 1, None) for p, word in enumerate(words)]
    db = sqlite3.connect(path)
    db.execute("PRAGMA synchronous = NORMAL")
    start = time.perf_counter()
    for first in range(0, len(rows), _POINTS * _BATCH):
        with db:
            db.executemany(
                "INSERT INTO sample VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", rows[first : first + _POINTS * _BATCH]
            )
    took_s = time.perf_counter() - start
    db.close()
    return took_s


# The engine


def _engine(folder: Path) -> list[Figure]:
    """One line at period 0, 10 registers that stand still, as most do: with everything kept, and without."""
    prepare_process()  # as the engine does when it starts
    responder, port = start_responder(answer_of(10))
    site = site_at(port, plain_rows(10))
    pairs = [(asyncio.run(_rate(site, folder / f"e{n}")), asyncio.run(_rate(site, None))) for n in range(_ROUNDS)]
    responder.terminate()
    ratio = statistics.median(kept / bare for kept, bare in pairs)
    kept, bare = (statistics.median(rates) for rates in zip(*pairs, strict=True))
    what = "exchanges a second, 10 registers, with journal, record and tape, against without"
    return [Figure(what, f"{kept:.0f}/s", f"{bare:.0f}/s", ratio, "≥ 0.9")]


async def _rate(site: Site, folder: Path | None) -> float:
    session = Session(site)
    kept: Kept | None = None
    if folder is not None:
        folder.mkdir()
        (folder / "site.toml").touch()
        kept = Kept("bench", session.events, session.clock, lambda *_: None)
        kept.listen_to(session)
        kept.start(folder / "site.toml", site)
        kept.begin_recording()
    task = asyncio.create_task(session.run())
    await asyncio.sleep(0.5)
    before, start = session.count, time.perf_counter()
    await asyncio.sleep(_ROUND_S)
    rate = (session.count - before) / (time.perf_counter() - start)
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    if kept is not None:
        kept.stop()
    return rate


# Memory


def _memory(folder: Path) -> Figure:
    """24 simulated hours, one device of two silent, everything kept."""
    line = SimulatedLine(device("Alive", 7, period_s=5.0), device("Dead", 8, period_s=5.0))
    line.fault = silent(8)

    async def work() -> tuple[int, int]:
        session = Session(line.site, line.exchanger, clock=Clock(None))
        journal = Journal(folder / "m", "bench", "Ada", session.clock.now, lambda text: None)
        journal.follow(session.events)
        exchanges = ExchangeRecorder(session.clock.now, lambda *_: None, lambda *_: None)
        exchanges.follow(folder / "m" / "tape", "S", frozenset())
        sink = RecordSink()
        for listener in (exchanges, sink):
            session.listen(listener)
        recording = Recording(Store(url_of(str(folder / "m.db"))), "S", "bench", "Ada", "here", 0)
        tracemalloc.start()
        task = asyncio.create_task(session.run())
        seen = []
        for minute in range(24 * 60 + 1):
            if minute in (5 * 60, 24 * 60):
                line.requests.clear()
                gc.collect()
                seen.append(tracemalloc.get_traced_memory()[0])
            await asyncio.sleep(60)
            line.requests.clear()
            exchanges.flush()
            journal.flush()
            for message in sink.take():
                recording.take(message)
            recording.commit()
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        journal.close()
        exchanges.close()
        return seen[0], seen[1]

    before, after = run_virtual(work())
    tracemalloc.stop()
    grown = after - before
    what = "memory growth over 24 simulated hours with journal, record and tape, against 1 MiB"
    return Figure(what, f"{grown / 1024:.0f} KiB", "1024 KiB", max(grown, 0) / 2**20, "< 1")


# Search


def _searched(folder: Path) -> Figure:
    """A million exchanges on tape, searched for words that one of them has, against reading the files' bytes."""
    tape = Tape(folder / "s", {"site": "S"}, pack)
    for first in range(0, _MILLION, 10_000):
        tape.put([_row(number) for number in range(first, first + 10_000)], 1_700_000_000_000_000 + first * 1000)
    tape.write_rest(0)
    start = time.perf_counter()
    size = sum(len(path.read_bytes()) for path in (folder / "s").glob("*.tape"))
    floor_s = time.perf_counter() - start
    start = time.perf_counter()
    gathered = Gathered()
    found = 0
    for row in Capture(folder / "s"):
        gathered.add(row)
        found += "from 54321" in asked_words(row) and row.unit_id == 7 if b"\xd4\x31" in row.request else False
    took_s = time.perf_counter() - start
    what = (
        f"a million exchanges on disk ({size / 1e6:.0f} MB) searched by text and counted, against reading their bytes"
    )
    assert found and gathered.rows == _MILLION
    return Figure(what, f"{took_s:.1f} s", f"{floor_s:.3f} s", took_s / floor_s)


def _row(number: int) -> ExchangeRow:
    request = Tcp().encode(7, Read(Table.HOLDING, number % 65500, 10).encode(), number % 65536)
    at_us = 1_700_000_000_000_000 + number * 1000
    answer = answer_of(10)
    return ExchangeRow(
        at_us, "L", "tcp://127.0.0.1:502", "real", "D", 7, OutcomeKind.GOOD, 0, request, answer, 9, 300, 320, ""
    )
