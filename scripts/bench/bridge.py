"""What a bridge adds to an exchange: beside a bare relay of asyncio between the same ends, in turns; a paced line under
four masters beside one; a pair of ends beside two bare pseudo-terminals and a thread.

The slave, the relay and the bridge are processes of their own; the master is this one, with a blocking socket.
"""

import asyncio
import gc
import os
import select
import socket
import subprocess
import sys
import tempfile
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from statistics import median

from msgspec.structs import replace
from tests.simulated import SimulatedLine, device
from tests.virtual import run_virtual

from kanaleto.bridge.bridging import Bridging
from kanaleto.bridge.watch import BridgeWatch
from kanaleto.files.loading import load_site
from kanaleto.polling.session import Session
from kanaleto.serving.answerer import Master
from kanaleto.site.bridges import Bridge, BridgeTarget, Route
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Site
from scripts.bench.figure import Figure

_ASKED, _ROUNDS, _PAIR_ASKED = 400, 4, 300
_BUSY_S = 6.0
_ENGINE_S = 2.0
_REQUEST = bytes.fromhex("0001 0000 0006 0103 0000 000A")
_ANSWER = bytes.fromhex("0001 0000 0017 0103 14") + bytes(20)

_RTU_REQUEST, _RTU_ANSWER = bytes.fromhex("010300000001840A"), bytes.fromhex("0103020000B844")

_SLAVE = """
import asyncio, sys
class Slave(asyncio.Protocol):
    def connection_made(self, transport): self.transport = transport
    def data_received(self, data): self.transport.write(data[:4] + bytes.fromhex("0017 0103 14") + bytes(20))
async def main():
    server = await asyncio.get_running_loop().create_server(Slave, "127.0.0.1", int(sys.argv[1]))
    print("ready", flush=True)
    await server.serve_forever()
asyncio.run(main())
"""
_RELAY = """
import asyncio, sys
class Out(asyncio.Protocol):
    def __init__(self, near): self.near = near
    def connection_made(self, transport): self.transport = transport
    def data_received(self, data): self.near.write(data)
class In(asyncio.Protocol):
    def connection_made(self, transport):
        self.out, self.held = None, b""
        asyncio.ensure_future(self.join(transport))
    async def join(self, transport):
        loop = asyncio.get_running_loop()
        _, out = await loop.create_connection(lambda: Out(transport), "127.0.0.1", int(sys.argv[2]))
        self.out = out.transport
        self.out.write(self.held)
    def data_received(self, data):
        if self.out is None: self.held += data
        else: self.out.write(data)
async def main():
    server = await asyncio.get_running_loop().create_server(In, "127.0.0.1", int(sys.argv[1]))
    print("ready", flush=True)
    await server.serve_forever()
asyncio.run(main())
"""
_SITE = """
[site]
name = "Bench"
[[line]]
name = "Out"
link = "{out}"
timeout_s = 2.0
[[bridge]]
name = "In"
listen = "tcp://127.0.0.1:{port}"
waiting = 100
patience_s = 30
[[bridge.route]]
units = "1-4"
to = "Out"
"""


def measure() -> list[Figure]:
    return [*_between_networks(), *_to_a_line(), *_pair(), *_engine(), *_memory()]


@contextmanager
def _process(*words: str) -> Iterator[None]:
    with subprocess.Popen([sys.executable, *words], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as process:
        assert process.stdout is not None
        process.stdout.readline()
        try:
            yield
        finally:
            process.terminate()
            process.wait(10)


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


def _asked(connection: socket.socket, request: bytes, size: int, count: int) -> list[float]:
    """How long each of so many exchanges took."""
    took = []
    for _ in range(count):
        began_s = time.perf_counter()
        connection.sendall(request)
        came = b""
        while len(came) < size:
            came += connection.recv(4096)
        took.append(time.perf_counter() - began_s)
    return took


def _at(values: list[float], share: float) -> float:
    return sorted(values)[min(int(len(values) * share), len(values) - 1)]


def _between_networks() -> list[Figure]:
    slave, relay, bridge = _free_port(), _free_port(), _free_port()
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder) / "bench.toml"
        site.write_text(_SITE.format(out=f"tcp://127.0.0.1:{slave}", port=bridge), encoding="utf-8")
        with (
            _process("-c", _SLAVE, str(slave)), _process("-c", _RELAY, str(relay), str(slave)),
            _process("-m", "kanaleto", "bridge", str(site)),
        ):  # fmt: skip
            time.sleep(1.0)
            took: dict[int, list[float]] = {slave: [], relay: [], bridge: []}
            for _ in range(_ROUNDS):
                for port, times in took.items():
                    with socket.create_connection(("127.0.0.1", port)) as connection:
                        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                        _asked(connection, _REQUEST, len(_ANSWER), 20)
                        times += _asked(connection, _REQUEST, len(_ANSWER), _ASKED)
    direct = median(took[slave])
    of_relay, of_bridge = median(took[relay]) - direct, median(took[bridge]) - direct
    most_relay, most_bridge = _at(took[relay], 0.99) - direct, _at(took[bridge], 0.99) - direct
    return [
        Figure("bridge: added TCP to TCP, median, beside a bare relay", f"{1000 * of_bridge:.2f} ms",
               f"{1000 * of_relay:.2f} ms", of_bridge / max(of_relay, 1e-6), "≤ 5, ≤ 1 ms"),
        Figure("bridge: added TCP to TCP, 99 %", f"{1000 * most_bridge:.2f} ms", f"{1000 * most_relay:.2f} ms",
               most_bridge / max(most_relay, 1e-6), "≤ 2, or ≤ 5 ms"),
    ]  # fmt: skip


def _to_a_line() -> list[Figure]:
    """Through a bridge to a line of 19 200 baud: what stands beside the time that the bytes take, and how much of the
    line four masters get together beside one."""
    bridge = _free_port()
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "map.csv").write_text(
            "name,table,address,initial\n" + "".join(f"R{at},holding,{at},{at}\n" for at in range(60)), encoding="utf-8"
        )
        port = f"rtu://{folder}/line?baud=19200"
        units = "".join(
            f'[[line.device]]\nname = "D{unit}"\nunit_id = {unit}\nmap = "map.csv"\n' for unit in range(1, 5)
        )
        site = Path(folder) / "bench.toml"
        site.write_text(
            _SITE.format(out=port, port=bridge).replace("[[bridge]]", units + "[[bridge]]"), encoding="utf-8"
        )
        with _process("-m", "kanaleto", "serve", str(site)), _process("-m", "kanaleto", "bridge", str(site)):
            time.sleep(1.5)
            alone, beside = _masters(bridge, 1), _masters(bridge, 4)
    bytes_s = (8 + 25) * 11 / 19200 + 2 * 3.5 * 11 / 19200
    added = median(alone[1]) - bytes_s
    busy = len(beside[1]) / _BUSY_S * bytes_s
    return [
        Figure("bridge: added TCP to a line of 19 200 baud, beside its bytes, median", f"{1000 * added:.2f} ms",
               f"{1000 * bytes_s:.2f} ms", (bytes_s + added) / bytes_s, "≤ 2 ms"),
        Figure("bridge: the line busy with four masters, different questions", f"{100 * busy:.0f} %", "100 %", busy,
               "≥ 0.95"),
        Figure("bridge: exchanges of four masters beside one", str(len(beside[1])), str(len(alone[1])),
               len(beside[1]) / max(len(alone[1]), 1), "≥ 0.97"),
    ]  # fmt: skip


def _masters(port: int, count: int) -> tuple[float, list[float]]:
    """So many masters without pause, for some seconds: when it began, and how long each exchange took."""
    took: list[float] = []
    end_s = time.monotonic() + _BUSY_S

    def ask(number: int) -> None:
        request = bytes.fromhex(f"0001 0000 0006 0{number}03 00{5 * number:02X} 000A")
        with socket.create_connection(("127.0.0.1", port)) as connection:
            connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            while time.monotonic() < end_s:
                took.extend(_asked(connection, request, len(_ANSWER), 1))

    threads = [threading.Thread(target=ask, args=(number,)) for number in range(1, count + 1)]
    began_s = time.monotonic()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return began_s, took


def _pair() -> list[Figure]:
    """A pair of ends, beside two bare pseudo-terminals and a thread that copies."""
    with tempfile.TemporaryDirectory() as folder:
        with _process("-m", "kanaleto", "pair", f"rtu://{folder}/a", f"rtu://{folder}/b"):
            time.sleep(0.5)
            of_pair = _echoed(
                os.open(f"{folder}/a", os.O_RDWR | os.O_NOCTTY), os.open(f"{folder}/b", os.O_RDWR | os.O_NOCTTY)
            )
        one, other = os.openpty(), os.openpty()
        for end in (*one, *other):
            tty.setraw(end)
        is_over = threading.Event()

        def copy() -> None:
            while not is_over.is_set():
                for end in select.select([one[0], other[0]], [], [], 0.2)[0]:
                    os.write(other[0] if end == one[0] else one[0], os.read(end, 4096))

        thread = threading.Thread(target=copy)
        thread.start()
        bare = _echoed(one[1], other[1])
        is_over.set()
        thread.join()
    return [
        Figure("pair: an exchange, median, beside two terminals and a thread", f"{1000 * median(of_pair):.2f} ms",
               f"{1000 * median(bare):.2f} ms", median(of_pair) / median(bare), "≤ 3")
    ]  # fmt: skip


def _read(end: int, count: int) -> None:
    while count > 0:
        count -= len(os.read(end, count))


def _echoed(one: int, other: int) -> list[float]:
    for end in (one, other):
        tty.setraw(end)
    took = []
    for _ in range(_PAIR_ASKED):
        began_s = time.perf_counter()
        os.write(one, _RTU_REQUEST)
        _read(other, len(_RTU_REQUEST))
        os.write(other, _RTU_ANSWER)
        _read(one, len(_RTU_ANSWER))
        took.append(time.perf_counter() - began_s)
    return took


def _engine() -> list[Figure]:
    """Exchanges of the engine's own polling without a pause, with a bridge beside it that nobody asks, and without."""
    slave, bridge = _free_port(), _free_port()
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "map.csv").write_text(
            "name,table,address\n" + "".join(f"R{at},holding,{at}\n" for at in range(10))
        )
        polled = '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\nperiod_s = 0\n'
        text = _SITE.format(out=f"tcp://127.0.0.1:{slave}", port=bridge)
        path = Path(folder) / "bench.toml"
        path.write_text(text.replace("[[bridge]]", polled + "[[bridge]]", 1), encoding="utf-8")
        site, _ = load_site(path)
        counts: dict[bool, list[int]] = {False: [], True: []}
        with _process("-c", _SLAVE, str(slave)):
            for _ in range(_ROUNDS):
                for has_bridge, found in counts.items():
                    found.append(asyncio.run(_polled(site, has_bridge)))
    without, beside = median(counts[False]), median(counts[True])
    return [
        Figure("bridge: exchanges of the engine beside one that runs", f"{beside / _ENGINE_S:.0f}/s",
               f"{without / _ENGINE_S:.0f}/s", beside / max(without, 1), "≥ 0.9")
    ]  # fmt: skip


async def _polled(site: Site, has_bridge: bool) -> int:
    session = Session(site)
    tasks = [asyncio.create_task(session.run())]
    bridging = Bridging(session, site.bridges)
    if has_bridge:
        await bridging.start()
        tasks.append(asyncio.create_task(bridging.run()))
    await asyncio.sleep(0.3)
    session.publish()
    before = session.snapshot.exchanges
    await asyncio.sleep(_ENGINE_S)
    session.publish()
    asked = session.snapshot.exchanges - before
    for task in tasks:
        task.cancel()
    await asyncio.gather(*tasks, return_exceptions=True)
    if has_bridge:
        await bridging.stop()
    return asked


def _memory() -> list[Figure]:
    """What a day of bridge time adds: masters that connect for each request, on a virtual clock; the first hour is
    not counted."""
    line = SimulatedLine(replace(device("D", 1), is_enabled=False))
    route = Route((1,), (BridgeTarget(line.line.name, 1),))
    site = Site("Bench", (line.line,), bridges=(Bridge("In", (TcpLink("127.0.0.1", 0),), (route,)),))

    async def day() -> tuple[int, int]:
        session = Session(site, line.exchanger)
        bridging, watch = Bridging(session, site.bridges), BridgeWatch()
        loop = asyncio.get_running_loop()
        bridging.on_asked = lambda asked: watch.asked(asked, loop.time())
        tasks = [asyncio.create_task(session.run()), asyncio.create_task(bridging.run())]
        at_first = 0
        for number in range(24 * 360):
            for each in range(3):
                master = Master(f"10.0.{number % 200}.{each}:{number}", "In")
                await bridging.ask(site.bridges[0], 1, bytes.fromhex("03000000 01"), master, False)
            line.requests.clear()
            watch.state(bridging, loop.time())
            await asyncio.sleep(10)
            if number == 360:
                at_first = _resident()
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        return at_first, _resident()

    first, last = run_virtual(day())
    return [
        Figure("bridge: memory after 24 simulated hours, beside that after one", f"{last / 1024:.0f} KiB",
               f"{first / 1024:.0f} KiB", (last - first) / 2**20, "≤ 1 MiB more")
    ]  # fmt: skip


def _resident() -> int:
    gc.collect()
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGESIZE")
