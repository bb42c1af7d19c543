"""A report of many points beside the document library putting the same cells into tables; what is really there beside
the line time of its requests; a long checkout sheet opened."""

import asyncio
import json
import resource
import subprocess
import sys
import tempfile
import time
from io import BytesIO
from pathlib import Path
from statistics import median

import msgspec
from msgspec.structs import replace
from tests.simulated import SimulatedLine, device

from kanaleto.files.loading import load_site
from kanaleto.paper.drawing import drawn
from kanaleto.paper.report import report_document
from kanaleto.paper.scene import PLAIN, _fonts
from kanaleto.paper.sheets import DocumentSheet
from kanaleto.polling.session import Session
from kanaleto.proof.checkout import Checkout, sheet_path
from kanaleto.proof.reportfacts import gather
from kanaleto.proof.sheet import SheetLine, append, new_id
from kanaleto.proof.there import KnownThere, check_there
from kanaleto.supervision.collector import settle
from scripts.bench.figure import Figure

_DEVICES, _POINTS, _LINES = 20, 100, 20_000
_ROUNDS = 3
_POLLED_S = 12


def measure() -> list[Figure]:
    settle()  # as every command does
    with tempfile.TemporaryDirectory() as text:
        folder = Path(text)
        return [*_report(folder), *_sheet(folder), *_there()]


def _site(folder: Path) -> Path:
    rows = "".join(f"Point number {at},holding,{at},uint16,0.1,bar,0,1000\n" for at in range(_POINTS))
    (folder / "map.csv").write_text("name,table,address,type,factor,unit,range_low,range_high\n" + rows)
    site = '[site]\nname = "Bench"\n[[line]]\nname = "L"\nlink = "tcp://192.0.2.1"\n'
    for number in range(1, _DEVICES + 1):
        site += f'[[line.device]]\nname = "Device {number}"\nunit_id = {number}\nmap = "map.csv"\n'
    path = folder / "site.toml"
    path.write_text(site)
    return path


def _lines(path: Path, count: int) -> list[SheetLine]:
    site, _ = load_site(path)
    points = [(device.name, point.name) for _, device in site.devices() for point in device.points]
    return [
        SheetLine(new_id(), "value", *points[at % len(points)], "passed", f"2026-05-17T{at:06}",
                  expected=12.5, seen=12.4, tolerance=0.5, of="span", words="007C", who="anna", origin="stand-in",
                  exchange={"at": "", "line": "L", "request": "010300000001840A", "answer": "0103020000B844"})
        for at in range(count)
    ]  # fmt: skip


def _report(folder: Path) -> list[Figure]:
    path = _site(folder)
    append(sheet_path(path), "Bench", "2026-05-17", _lines(path, _DEVICES * _POINTS))
    site, _ = load_site(path)
    document = report_document(gather(site, path, None, None, (), ""))
    whole, bare = [], []
    for _ in range(_ROUNDS):
        began_s = time.perf_counter()
        drawn(document, "pdf")
        whole.append(time.perf_counter() - began_s)
        began_s = time.perf_counter()
        _with_the_library(document)
        bare.append(time.perf_counter() - began_s)
    out = folder / "report.pdf"
    child = subprocess.run(
        [sys.executable, "-m", "kanaleto.paper", str(out)], input=msgspec.json.encode(document), check=True
    )
    assert child.returncode == 0
    most_mib = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    alone, beside = _polled(None), _polled(document)
    return [
        Figure("proof: the demo's exchanges while reports are made one after the other", f"{beside} in {_POLLED_S} s",
               f"{alone}", beside / alone, "≥ 0.9"),
        Figure("proof: a report of 2 000 points beside the library's tables", f"{median(whole):.1f} s",
               f"{median(bare):.1f} s", median(whole) / median(bare), "≤ 3, ≤ 20 s"),
        Figure("proof: memory of the process that makes it", f"{most_mib:.0f} MiB", "300 MiB", most_mib / 300, "≤ 1"),
    ]  # fmt: skip


def _polled(document: DocumentSheet | None) -> int:
    """How many exchanges the demo has in so long; with a document, while that is made again and again."""
    command = [sys.executable, "-m", "kanaleto", "demo", "--headless", "--for", str(_POLLED_S)]
    with (
        tempfile.TemporaryDirectory() as folder,
        subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as demo,
    ):
        number = 0
        while document is not None and demo.poll() is None:
            number += 1
            words = [sys.executable, "-m", "kanaleto.paper", str(Path(folder) / f"{number}.pdf")]
            subprocess.run(words, input=msgspec.json.encode(document), check=True)
        text = demo.communicate()[0]
    return int(text.split()[0])


def _with_the_library(document: DocumentSheet) -> bytes:
    """The same cells in its own tables, heads repeated."""
    from reportlab.lib.pagesizes import A4, landscape
    from reportlab.platypus import LongTable, SimpleDocTemplate
    from reportlab.platypus.tables import TableStyle

    _fonts()
    out = BytesIO()
    look = TableStyle([("FONT", (0, 0), (-1, -1), PLAIN, 7)])
    story = []
    for section in document.sections:
        count = len(section.columns)
        rows = [[column.heading for column in section.columns]]
        rows += [row if len(row) == count else [*row, *[""] * (count - len(row))] for row in section.rows]
        story.append(LongTable(rows, repeatRows=1, style=look))
    SimpleDocTemplate(out, pagesize=landscape(A4)).build(story)
    return out.getvalue()


def _sheet(folder: Path) -> list[Figure]:
    """Opened, with how each claim stands, beside decoding its lines as JSON."""
    path = folder / "site.toml"
    site, _ = load_site(path)
    sheet = sheet_path(path)
    sheet.unlink(missing_ok=True)
    append(sheet, "Bench", "2026-05-17", _lines(path, _LINES))
    whole, bare = [], []
    for _ in range(_ROUNDS):
        began_s = time.perf_counter()
        Checkout(site, sheet).claims()
        whole.append(time.perf_counter() - began_s)
        began_s = time.perf_counter()
        for row in sheet.read_text().splitlines():
            json.loads(row)
        bare.append(time.perf_counter() - began_s)
    return [
        Figure("proof: a sheet of 20 000 lines opened, beside decoding them", f"{1000 * median(whole):.0f} ms",
               f"{1000 * median(bare):.0f} ms", median(whole) / median(bare), "≤ 300 ms")
    ]  # fmt: skip


def _there() -> list[Figure]:
    """Ten devices on one wire, on a virtual clock: how long it took, beside the line time of requests and answers."""
    from tests.virtual import run_virtual

    line = SimulatedLine(*(replace(device(f"D{unit}", unit), is_enabled=True) for unit in range(1, 11)), delay_s=0.005)

    async def work() -> tuple[float, float]:
        session = Session(line.site, line.exchanger)
        session.hold(True)
        polling = asyncio.create_task(session.run())
        await asyncio.sleep(0.5)
        loop = asyncio.get_running_loop()
        began_s = loop.time()
        await check_there(session, KnownThere({}, {}), (), False, lambda one: None)
        took_s = loop.time() - began_s
        polling.cancel()
        await asyncio.gather(polling, return_exceptions=True)
        settings = line.line.link.settings
        assert settings is not None
        sizes = [len(frame.raw) + 5 + 2 * int.from_bytes(frame.pdu[3:5]) for frame in line.requests]
        bare_s = sum(size * settings.character_s + 0.005 + 2 * settings.gap_s for size in sizes)
        return took_s, bare_s

    took_s, bare_s = run_virtual(work())
    return [
        Figure("proof: what is there of 10 devices, beside the line time of its requests", f"{1000 * took_s:.0f} ms",
               f"{1000 * bare_s:.0f} ms", took_s / bare_s, "≤ 1.2")
    ]  # fmt: skip
