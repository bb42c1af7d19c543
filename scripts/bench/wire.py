"""Wire over a million exchanges on tape: the first page of what failed, paging through, memory; and how long it takes
to say when it fails."""

import asyncio
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from pathlib import Path

from textual.pilot import Pilot

from kanaleto.capture.filter import FAILED, parse_filter
from kanaleto.capture.packing import head_line, pack
from kanaleto.capture.reel import Reel
from kanaleto.capture.row import ExchangeRow
from kanaleto.evidence.when import WhenQuestion, ask_elsewhere
from kanaleto.files.loading import LoadedSite, load_whole
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.polling.engine import Engine
from kanaleto.site.model import Site
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.start import CaptureApp
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure
from scripts.bench.loopback import answer_of
from scripts.bench.responder import start_responder

_MILLION, _BLOCK, _ONE_IN = 1_000_000, 500, 10_000
_PAGE, _PAGING_S = 40, 10.0
_TWO_HOURS = 331_000
_KEY_S, _BESIDE_S, _TURNS, _DEVICES = 1 / 30, 4.0, 3, 10


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        tape, empty, demo = folder / "million.tape", folder / "empty.tape", folder / "demo.tape"
        _write(tape, _MILLION, 1000)
        _write(empty, 1, 1000)
        _write(demo, _TWO_HOURS, 21_700)
        return [_first_page(tape), _paged(tape), _beside_polling(tape, folder), _memory(tape, empty), _when(demo)]


def _write(path: Path, count: int, apart_us: int) -> None:
    with path.open("wb") as file:
        file.write(head_line({"site": "S"}))
        for first in range(0, count, _BLOCK):
            file.write(pack([_row(number, apart_us) for number in range(first, min(first + _BLOCK, count))]))


def _row(number: int, apart_us: int) -> ExchangeRow:
    unit = number % 10 + 1
    request = Tcp().encode(unit, Read(Table.HOLDING, unit * 100, 10).encode(), number % 65536)
    at_us = 1_700_000_000_000_000 + number * apart_us
    is_lost = number % _ONE_IN == 77 or (apart_us > 1000 and unit == 3 and number % 170 < 20)
    kind = OutcomeKind.TIMEOUT if is_lost else OutcomeKind.GOOD
    answer = b"" if is_lost else answer_of(10)
    return ExchangeRow(
        at_us, "L", "tcp://127.0.0.1:502", "real", f"D{unit}", unit, kind, 0, request, answer, 9, 300, 320, ""
    )


def _opened(path: Path) -> Reel:
    reel = Reel(path)
    while reel.is_opening or not len(reel.newest):
        reel.look(0.05)
    return reel


def _first_page(path: Path) -> Figure:
    """From the key to the first page of what failed, the newest first."""
    reel = _opened(path)
    start = time.perf_counter()
    search = reel.search(parse_filter("").narrowed(FAILED))
    while len(search.ranked) < _PAGE and not search.is_over:
        time.sleep(0.002)
    took_s = time.perf_counter() - start
    reel.close()
    what = "first page of only what failed, one in ten thousand of a million on tape, against 1 s"
    return Figure(what, f"{1000 * took_s:.0f} ms", "1000 ms", took_s, "< 1")


def _paged(path: Path) -> Figure:
    """Page down held in the application on the tape: from a key until its rows are drawn."""
    took: list[float] = []

    async def page() -> None:
        loaded = LoadedSite(Site(path.name, ()))
        engine = Engine(loaded.site)
        engine.start()
        app = CaptureApp(engine, loaded, "lagoon", path)
        try:
            async with app.run_test(size=(160, 47)) as pilot:
                while not app.is_whole:
                    await asyncio.sleep(0.05)
                await pilot.press("home")
                end = time.perf_counter() + _PAGING_S
                while time.perf_counter() < end:
                    start = time.perf_counter()
                    await pilot.press("pagedown")
                    took.append(time.perf_counter() - start)
        finally:
            engine.stop()
            app.keeping.stop()

    asyncio.run(page())
    took.sort()
    at_95_s = took[len(took) * 95 // 100]
    what = f"page down through a million on tape, {len(took)} pages, 95 % within, against 100 ms"
    return Figure(what, f"{1000 * at_95_s:.0f} ms", "100 ms", at_95_s / 0.1, "< 1")


def _beside_polling(path: Path, folder: Path) -> Figure:
    """Exchanges a second while a person pages through the tape of the site, against those while nobody does."""
    process, port = start_responder(answer_of(10))
    site = folder / "site.toml"
    (folder / "map.csv").write_text("name,table,address\n" + "".join(f"P{n},holding,{n}\n" for n in range(10)))
    head = f'[site]\nname = "S"\nperiod_s = 0.01\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{port}"\n'
    device = '[[line.device]]\nname = "D{0}"\nunit_id = {0}\nmap = "map.csv"\n'
    site.write_text(head + "".join(device.format(number) for number in range(1, 1 + _DEVICES)))
    tape = folder / "site.kanaleto" / "tape"
    tape.mkdir(parents=True)
    os.link(path, tape / "20231114-221320-000000-1.tape")
    rates: list[tuple[float, float]] = []

    async def work() -> None:
        loaded = load_whole(site)
        engine = Engine(loaded.site)
        engine.start()
        app = KanaletoApp(engine, loaded, "lagoon")
        try:
            async with app.run_test(size=(160, 47)) as pilot:
                while not app.is_whole or engine.snapshot.exchanges < 1000:
                    await asyncio.sleep(0.05)
                await pilot.press("4")
                for _ in range(_TURNS):
                    await pilot.press("f", "f")
                    still = await _rate(engine, lambda: asyncio.sleep(_KEY_S))
                    await pilot.press("home")
                    rates.append((await _rate(engine, lambda: _page_down(pilot)), still))
        finally:
            app.writing.stop()
            app.door.close()
            engine.stop()
            app.keeping.stop()

    try:
        asyncio.run(work())
    finally:
        process.terminate()
    ratio = statistics.median(paging / still for paging, still in rates)
    paging, still = (statistics.median(column) for column in zip(*rates, strict=True))
    what = "exchanges a second (10 devices each 10 ms) while paging through a million, against standing still"
    return Figure(what, f"{paging:.0f}/s", f"{still:.0f}/s", ratio, "≥ 0.9")


async def _page_down(pilot: "Pilot[None]") -> None:
    """A key that is held."""
    begun = time.perf_counter()
    await pilot.press("pagedown")
    await asyncio.sleep(max(_KEY_S - (time.perf_counter() - begun), 0))


async def _rate(engine: Engine, each: Callable[[], Awaitable[None]]) -> float:
    await asyncio.sleep(0.5)
    (poller,) = engine.session.pollers
    before, start = poller.outcomes, time.perf_counter()
    while time.perf_counter() < start + _BESIDE_S:
        await each()
    return (poller.outcomes - before) / (time.perf_counter() - start)


_IN_MEMORY = """
import sys, time
from pathlib import Path
from kanaleto.capture.filter import FAILED, parse_filter
from kanaleto.capture.reel import Reel
reel = Reel(Path(sys.argv[1]))
while reel.is_opening or not len(reel.newest):
    reel.look(0.05)
ranked = reel.newest
for rank in range(0, len(ranked), max(len(ranked) // 300, 1)):
    reel.want(ranked, rank, 5)
search = reel.search(parse_filter("").narrowed(FAILED))
while not search.is_over or not search.of:
    time.sleep(0.01)
told = Path("/proc/self/status").read_text()
print(next(line.split()[1] for line in told.splitlines() if line.startswith("VmHWM")))
"""


def _memory(tape: Path, empty: Path) -> Figure:
    """The most that a process ever had, on the million and on one."""
    most = [
        int(subprocess.run([sys.executable, "-c", _IN_MEMORY, str(path)], capture_output=True, check=True).stdout)
        for path in (tape, empty)
    ]
    grown = (most[0] - most[1]) / 1024
    what = "memory of the list over a million on tape above an empty one, against 60 MiB"
    return Figure(what, f"{grown:.0f} MiB", "60 MiB", grown / 60, "< 1")


def _when(demo: Path) -> Figure:
    start = time.perf_counter()
    found = ask_elsewhere(WhenQuestion(str(demo)))
    took_s = time.perf_counter() - start
    assert found is not None and found.cases
    what = f"when it fails, over two hours of the demo ({_TWO_HOURS} exchanges), {found.causes} causes, against 20 s"
    return Figure(what, f"{took_s:.1f} s", "20 s", took_s / 20, "< 1")
