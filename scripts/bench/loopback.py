"""Exchanges a second over loopback TCP: the engine at period 0 against a bare asyncio protocol exchanging the same
bytes, in turns.

The far end is the same bare responder for both, in a process of its own: it answers each request with a prepared frame
whose transaction is the request's.
"""

import asyncio
import statistics
import time
from pathlib import Path

from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.polling.engine import quieten_collector
from kanaleto.polling.session import Session
from kanaleto.site.link import TcpLink
from kanaleto.site.model import Device, Line, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read, ReadAnswer
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure
from scripts.bench.responder import start_responder

_POINTS = 100
_ROUND_S = 0.4
_ROUNDS = 21
_REQUEST = Tcp().encode(1, Read(Table.HOLDING, 0, _POINTS).encode(), 1)
_ANSWER = Tcp().encode(1, ReadAnswer(Table.HOLDING, bytes(2 * _POINTS)).encode(), 1)


class _Bare(asyncio.Protocol):
    """Sends the next request as soon as the answer is whole."""

    count = 0

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport
        self._held = 0
        transport.write(_REQUEST)  # type: ignore[attr-defined]

    def data_received(self, data: bytes) -> None:
        self._held += len(data)
        if self._held >= len(_ANSWER):
            self._held = 0
            self.count += 1
            self._transport.write(_REQUEST)  # type: ignore[attr-defined]


async def _bare(port: int) -> float:
    transport, protocol = await asyncio.get_running_loop().create_connection(_Bare, "127.0.0.1", port)
    start = time.perf_counter()
    await asyncio.sleep(_ROUND_S)
    rate = protocol.count / (time.perf_counter() - start)
    transport.abort()
    return rate


def site_at(port: int) -> Site:
    rows = "".join(f"P{n},holding,{n},{'int16' if n % 2 else 'uint16'}\n" for n in range(_POINTS))
    points, _ = read_map(Path("bench.csv"), "name,table,address,type\n" + rows, MapDefaults(period_s=0))
    return Site("Bench", (Line("L", TcpLink("127.0.0.1", port), (Device("D", 1, points, 1.0, 0, period_s=0),)),))


async def _engine(port: int) -> float:
    session = Session(site_at(port))
    task = asyncio.create_task(session.run())
    while session.count == 0:
        await asyncio.sleep(0.01)
    before, start = session.count, time.perf_counter()
    await asyncio.sleep(_ROUND_S)
    rate = (session.count - before) / (time.perf_counter() - start)
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    return rate


def measure() -> list[Figure]:
    responder, port = start_responder(_ANSWER)
    quieten_collector()  # as the engine does when it starts; the bare protocol runs with the same
    pairs = [(asyncio.run(_engine(port)), asyncio.run(_bare(port))) for _ in range(_ROUNDS)]
    responder.terminate()
    ratio = statistics.median(engine / bare for engine, bare in pairs)
    engine, bare = (statistics.median(rates) for rates in zip(*pairs, strict=True))
    what = f"exchanges a second over loopback TCP, {_POINTS} points a block, against a bare asyncio protocol"
    return [Figure(what, f"{engine:.0f}/s", f"{bare:.0f}/s", ratio, "≥ 0.6")]
