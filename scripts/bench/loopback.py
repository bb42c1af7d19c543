"""Exchanges a second over loopback TCP: the engine at period 0 against bare asyncio protocols with the same bytes,
in turns; one line with few, many and mixed points, and many lines at once.

The far end is the same for both, in a process of its own: it answers each request with a prepared frame whose
transaction is the request's.
"""

import asyncio
import random
import statistics
import time
from pathlib import Path

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.polling.session import Session
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Device, Line, Site
from kanaleto.supervision.collector import settle
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure
from scripts.bench.responder import start_responder

_ROUND_S = 0.4
_ROUNDS = 11


class _Bare(asyncio.Protocol):
    """Sends the next request as soon as the answer is whole."""

    count = 0

    def __init__(self, request: bytes, answer_bytes: int) -> None:
        self._request, self._answer_bytes = request, answer_bytes

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport
        self._held = 0
        transport.write(self._request)  # type: ignore[attr-defined]

    def data_received(self, data: bytes) -> None:
        self._held += len(data)
        if self._held >= self._answer_bytes:
            self._held = 0
            self.count += 1
            self._transport.write(self._request)  # type: ignore[attr-defined]


async def _bare(port: int, registers: int, lines: int) -> float:
    request, answer = Tcp().encode(1, Read(Table.HOLDING, 0, registers).encode(), 1), answer_of(registers)
    made = [
        await asyncio.get_running_loop().create_connection(lambda: _Bare(request, len(answer)), "127.0.0.1", port)
        for _ in range(lines)
    ]
    before, start = sum(protocol.count for _, protocol in made), time.perf_counter()
    await asyncio.sleep(_ROUND_S)
    rate = (sum(protocol.count for _, protocol in made) - before) / (time.perf_counter() - start)
    for transport, _ in made:
        transport.abort()
    return rate


def answer_of(registers: int) -> bytes:
    return Tcp().encode(1, ReadAnswer(Table.HOLDING, bytes(2 * registers)).encode(), 1)


def plain_rows(registers: int) -> str:
    return "".join(f"P{n},holding,{n},{'int16' if n % 2 else 'uint16'},,\n" for n in range(registers))


def mixed_rows() -> str:
    """100 points in 125 registers: words and floats, some scaled, some with swapped words."""
    chance, rows, at = random.Random(1), [], 0
    for n in range(100):
        left, most = 100 - n, 125 - at  # of points, and of registers for them
        kind = "float32" if most == 2 * left or (most > left and chance.random() < 0.25) else "uint16"
        order = chance.choice(("ABCD", "CDAB")) if kind == "float32" else ""
        factor = "0.1" if kind != "float32" and n % 3 == 0 else ""
        rows.append(f"P{n},holding,{at},{kind},{order},{factor}\n")
        at += 2 if kind == "float32" else 1
    return "".join(rows)


def site_at(port: int, rows: str, lines: int = 1) -> Site:
    text = "name,table,address,type,order,factor\n" + rows
    points, _ = read_map(Path("bench.csv"), text, MapDefaults(period_s=0))
    return Site(
        "Bench",
        tuple(
            Line(f"L{n}", TcpLink("127.0.0.1", port), (Device(f"D{n}", 1, points, 1.0, 0, period_s=0),))
            for n in range(lines)
        ),
    )


async def _engine(site: Site) -> float:
    session = Session(site)
    task = asyncio.create_task(session.run())
    while session.count < len(site.lines):
        await asyncio.sleep(0.01)
    before, start = session.count, time.perf_counter()
    await asyncio.sleep(_ROUND_S)
    rate = (session.count - before) / (time.perf_counter() - start)
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    return rate


def measure() -> list[Figure]:
    settle()  # as the engine does when it starts; the bare protocol runs with the same
    ten = "exchanges a second over loopback TCP, 10 registers"
    return [
        _measured(ten, 10, plain_rows(10), 1, "≥ 0.65"),
        _measured("the same, 125 registers", 125, plain_rows(125), 1, "≥ 0.6"),
        _measured("the same, 100 mixed points", 125, mixed_rows(), 1, "≥ 0.5"),
        _measured("the same, 16 lines, 10 registers", 10, plain_rows(10), 16, "≥ 0.5"),
        _measured("the same, 64 lines, 10 registers", 10, plain_rows(10), 64, "≥ 0.5"),
    ]


def _measured(what: str, registers: int, rows: str, lines: int, target: str) -> Figure:
    responder, port = start_responder(answer_of(registers))
    site = site_at(port, rows, lines)
    pairs = [(asyncio.run(_engine(site)), asyncio.run(_bare(port, registers, lines))) for _ in range(_ROUNDS)]
    responder.terminate()
    ratio = statistics.median(engine / bare for engine, bare in pairs)
    engine, bare = (statistics.median(rates) for rates in zip(*pairs, strict=True))
    return Figure(what, f"{engine:.0f}/s", f"{bare:.0f}/s", ratio, target)
