"""1 000 TCP devices of 10 points at 1 s, each on a connection of its own, in one process on one core: overruns, CPU,
memory; and the memory of the same asked five times as often, until every ring is full."""

import asyncio
import multiprocessing
import os
import time
from multiprocessing.connection import Connection
from pathlib import Path

import psutil

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.lines.openfiles import raise_limit
from kanaleto.polling.session import Session
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Device, Line, Site
from kanaleto.supervision.collector import settle
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import ReadAnswer
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure
from scripts.bench.responder import start_responder

_DEVICES, _POINTS, _SPAN_S, _FULL_S = 1000, 10, 20.0, 70.0
_ANSWER = Tcp().encode(1, ReadAnswer(Table.HOLDING, bytes(2 * _POINTS)).encode(), 1)


def _poll(port: int, result: Connection, period_s: float, span_s: float) -> None:
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    raise_limit()
    text = "name,table,address\n" + "".join(f"P{n},holding,{n}\n" for n in range(_POINTS))
    points, _ = read_map(Path("b.csv"), text, MapDefaults(period_s=period_s))
    devices = [Device(f"D{n}", 1, points, 2.0, 0) for n in range(_DEVICES)]
    site = Site("Bench", tuple(Line(f"L{n}", TcpLink("127.0.0.1", port), (one,)) for n, one in enumerate(devices)))

    async def work() -> None:
        session = Session(site)
        settle()
        task = asyncio.create_task(session.run())
        while sum(poller.exchanger.is_open for poller in session.pollers) < _DEVICES:
            await asyncio.sleep(0.2)
        await asyncio.sleep(2)
        exchanges, overruns = session.count, sum(poller.overruns for poller in session.pollers)
        cpu, start = time.process_time(), time.perf_counter()
        await asyncio.sleep(span_s)
        spent, took = time.process_time() - cpu, time.perf_counter() - start
        overruns = sum(poller.overruns for poller in session.pollers) - overruns
        memory = psutil.Process().memory_info().rss / 2**20
        result.send(((session.count - exchanges) / took, overruns, spent / took, memory))
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)

    asyncio.run(work())


def _measured(period_s: float, span_s: float) -> tuple[float, int, float, float]:
    """Exchanges a second, overruns, share of a processor, MiB."""
    near, far = multiprocessing.Pipe()
    responder, port = start_responder(_ANSWER)
    poller = multiprocessing.get_context("spawn").Process(target=_poll, args=(port, far, period_s, span_s), daemon=True)
    poller.start()
    result: tuple[float, int, float, float] = near.recv()
    poller.join()
    responder.terminate()
    return result


def measure() -> list[Figure]:
    rate, overruns, cpu, memory = _measured(1.0, _SPAN_S)
    what = (
        f"{_DEVICES} TCP devices of {_POINTS} points at 1 s on one core: {overruns} "
        f"overruns, {100 * cpu:.0f} % CPU, {memory:.0f} MiB"
    )
    often, _, _, full = _measured(0.2, _FULL_S)
    return [
        Figure(what, f"{rate:.0f}/s", f"{_DEVICES}/s", rate / _DEVICES, "≥ 0.99, no overruns"),
        Figure(
            f"memory once every ring is full, {_DEVICES * _POINTS} points, {often:.0f} exchanges a second",
            f"{full:.0f} MiB",
            "150 MiB",
            full / 150,
            "≤ 1",
        ),
    ]
