"""Answers a second of served devices, to 1, 16 and 256 connections that ask without a pause, against a bare asyncio
protocol that answers the same bytes; the asking side is sockets and nothing else."""

import asyncio
import multiprocessing
import select
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from multiprocessing.connection import Connection
from pathlib import Path

from kanaleto.demo.start import free_port
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure
from scripts.bench.loopback import answer_of, plain_rows

_ROUND_S = 0.6
_ROUNDS = 5
_REGISTERS = 10
_REQUEST = Tcp().encode(1, Read(Table.HOLDING, 0, _REGISTERS).encode(), 1)
_ANSWER = answer_of(_REGISTERS)


class _Bare(asyncio.Protocol):
    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport

    def data_received(self, data: bytes) -> None:
        self._transport.write(data[:2] + _ANSWER[2:])  # type: ignore[attr-defined]


def _serve_bare(ready: Connection) -> None:
    async def serve() -> None:
        server = await asyncio.get_running_loop().create_server(_Bare, "127.0.0.1", 0, backlog=512)
        ready.send(server.sockets[0].getsockname()[1])
        await server.serve_forever()

    asyncio.run(serve())


def _asked(port: int, connections: int) -> float:
    """Answers a second."""
    poll, made = select.epoll(), dict[int, socket.socket]()
    for _ in range(connections):
        one = socket.create_connection(("127.0.0.1", port))
        one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        made[one.fileno()] = one
        poll.register(one.fileno(), select.EPOLLIN)
    for one in made.values():
        one.sendall(_REQUEST)
    count, start = 0, time.perf_counter()
    while (now := time.perf_counter()) - start < _ROUND_S:
        for number, _ in poll.poll(0.1):
            if made[number].recv(4096):
                count += 1
                made[number].send(_REQUEST)
    for one in made.values():
        one.close()
    return count / (now - start)


def _site(folder: Path, port: int, moving: int) -> Path:
    """A device with as many registers as are asked for, and `moving` more that move."""
    rows = plain_rows(_REGISTERS)
    rows += "".join(f"M{n},holding,{1000 + 2 * n},float32,,\n" for n in range(moving))
    (folder / "map.csv").write_text("name,table,address,type,order,factor\n" + rows)
    moves = "".join(
        f'M{n} = {{ wave = "sine", low = 0, high = {n + 1}, period_s = 40 }}\n'
        if n % 2
        else f"M{n} = {{ walk = 0.1 }}\n"
        for n in range(moving)
    )
    path = folder / "site.toml"
    path.write_text(
        f'[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{port}"\n'
        '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\n'
        + (f"[line.device.moves]\n{moves}" if moves else "")
    )
    return path


def _compared(
    what: str, moving: int, arguments: tuple[str, ...], bare_port: int, targets: tuple[tuple[int, str], ...]
) -> list[Figure]:
    figures = []
    with tempfile.TemporaryDirectory() as folder:
        port = free_port(15025)
        site = _site(Path(folder), port, moving)
        more = [text.format(folder=folder) for text in arguments]
        ours = subprocess.Popen([sys.executable, "-m", "kanaleto", "serve", str(site), *more], stdout=subprocess.PIPE)
        assert ours.stdout is not None
        ours.stdout.readline()
        for connections, target in targets:
            pairs = [(_asked(port, connections), _asked(bare_port, connections)) for _ in range(_ROUNDS)]
            served, floor = (statistics.median(rates) for rates in zip(*pairs, strict=True))
            ratio = statistics.median(one / other for one, other in pairs)
            message = f"answers a second of {what}, {connections} connection{'s' * (connections > 1)}"
            figures.append(Figure(message, f"{served:.0f}/s", f"{floor:.0f}/s", ratio, target))
        ours.terminate()
        ours.wait()
        ours.stdout.close()
    return figures


def measure() -> list[Figure]:
    near, far = multiprocessing.Pipe()
    bare = multiprocessing.get_context("spawn").Process(target=_serve_bare, args=(far,), daemon=True)
    bare.start()
    bare_port = near.recv()
    figures = _compared("a served device", 0, (), bare_port, ((1, "≥ 0.6"), (16, "≥ 0.5"), (256, "≥ 0.5")))
    log = ("--log", "{folder}/log.jsonl")
    figures += _compared("one with 500 moving registers and a log", 500, log, bare_port, ((1, "≥ 0.5"), (16, "≥ 0.5")))
    bare.terminate()
    return figures
