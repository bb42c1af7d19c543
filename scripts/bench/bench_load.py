"""Devices that stand in under load: 1 000 TCP lines and 247 units on one pseudo-terminal, each asked once a second; how
others fare while one master floods; how long a clone of one sluice takes over 19 200 baud."""

import os
import select
import socket
import subprocess
import sys
import tempfile
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kanaleto.demo.start import copy_site, free_port
from kanaleto.lines.openfiles import raise_limit
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp
from scripts.bench.figure import Figure

_LINES, _UNITS, _SECONDS = 1000, 247, 20
_FIRST_PORT = 21000
_MAP = "name,table,address,type,initial\n" + "".join(f"A{n},holding,{n},uint16,{n}\n" for n in range(10))
_ASKED = Read(Table.HOLDING, 0, 10).encode()


@contextmanager
def _served(site: Path) -> Iterator[None]:
    serving = subprocess.Popen([sys.executable, "-m", "kanaleto", "serve", str(site)], stdout=subprocess.PIPE)
    assert serving.stdout is not None
    try:
        serving.stdout.readline()
        yield
    finally:
        serving.terminate()
        serving.wait()
        serving.stdout.close()


def _site(folder: Path, lines: list[tuple[str, range]]) -> Path:
    (folder / "m.csv").write_text(_MAP)
    text = '[site]\nname = "B"\n'
    for number, (link, units) in enumerate(lines):
        text += f'[[line]]\nname = "L{number}"\nlink = "{link}"\n'
        for unit in units:
            text += f'[[line.device]]\nname = "D{number}.{unit}"\nunit_id = {unit}\nmap = "m.csv"\n'
    path = folder / "site.toml"
    path.write_text(text)
    return path


def _many_lines() -> Figure:
    """How many of all requests are answered within their second."""
    raise_limit()
    request = Tcp().encode(1, _ASKED, 1)
    with tempfile.TemporaryDirectory() as folder:
        ports = range(_FIRST_PORT, _FIRST_PORT + _LINES)
        with _served(_site(Path(folder), [(f"tcp://127.0.0.1:{port}", range(1, 2)) for port in ports])):
            made = [socket.create_connection(("127.0.0.1", port)) for port in ports]
            by_number = {one.fileno(): one for one in made}
            poll = select.epoll()
            for one in made:
                poll.register(one.fileno(), select.EPOLLIN)
            answered = 0
            for _ in range(_SECONDS):
                end = time.perf_counter() + 1.0
                for one in made:
                    one.sendall(request)
                while (left := end - time.perf_counter()) > 0:
                    for number, _event in poll.poll(left):
                        answered += by_number[number].recv(4096).count(b"\x03\x14")
            for one in made:
                one.close()
    asked = _LINES * _SECONDS
    what = f"{_LINES} TCP lines served, each asked once a second: answered within it"
    return Figure(what, f"{answered}", f"{asked}", answered / asked, "≥ 0.99")


def _many_units() -> Figure:
    """How long one round over all units takes."""
    with tempfile.TemporaryDirectory() as folder:
        port = f"{folder}/port"
        site = _site(Path(folder), [(f"rtu://{port}?baud=921600&parity=none", range(1, _UNITS + 1))])
        with _served(site):
            descriptor = os.open(port, os.O_RDWR | os.O_NOCTTY)
            tty.setraw(descriptor)
            rounds = []
            for _ in range(5):
                start = time.perf_counter()
                for unit in range(1, _UNITS + 1):
                    os.write(descriptor, Rtu().encode(unit, _ASKED))
                    came = b""
                    while len(came) < 25 and select.select([descriptor], [], [], 0.5)[0]:
                        came += os.read(descriptor, 100)
                rounds.append(time.perf_counter() - start)
            os.close(descriptor)
    took = sorted(rounds)[len(rounds) // 2]
    return Figure(f"{_UNITS} units on one pseudo-terminal asked, all answering", f"{took:.2f} s", "1 s", took, "≤ 1")


def _flooded() -> Figure:
    """The pace of one who asks and waits for each answer, while eight others flood."""
    request = Tcp().encode(1, _ASKED, 1)

    def pace(port: int, seconds: float) -> float:
        with socket.create_connection(("127.0.0.1", port)) as polite:
            count, start = 0, time.perf_counter()
            while (now := time.perf_counter()) - start < seconds:
                polite.sendall(request)
                polite.recv(4096)
                count += 1
                time.sleep(max(0.02 - (time.perf_counter() - now), 0.0))
            return count / (now - start)

    with tempfile.TemporaryDirectory() as folder:
        port = free_port(15027)
        with _served(_site(Path(folder), [(f"tcp://127.0.0.1:{port}", range(1, 2))])):
            alone = pace(port, 3.0)
            script = (
                "import socket,sys\nrequest=bytes.fromhex(sys.argv[2])*20\n"
                "made=[socket.create_connection(('127.0.0.1',int(sys.argv[1]))) for _ in range(8)]\n"
                "while True:\n for one in made:\n  one.sendall(request)\n  one.recv(65536)\n"
            )
            flood = subprocess.Popen([sys.executable, "-c", script, str(port), request.hex()])
            time.sleep(1.0)
            beside = pace(port, 3.0)
            flood.kill()
            flood.wait()
    what = "requests a second of a master that asks every 20 ms, while another floods on 8 connections"
    return Figure(what, f"{beside:.1f}/s", f"{alone:.1f}/s", beside / alone, "≥ 0.9")


def _line_time() -> Figure:
    """What one exchange of 125 registers must take on a line of 19 200 baud, of what it takes while others move."""
    moving = "".join(f"M{n},holding,{1000 + 2 * n},float32,\n" for n in range(2000))
    plain = "".join(f"B{n},holding,{n},uint16,{n}\n" for n in range(125))
    with tempfile.TemporaryDirectory() as folder:
        port = f"{folder}/port"
        site = _site(Path(folder), [(f"rtu://{port}?baud=19200", range(1, 2))])
        (Path(folder) / "m.csv").write_text("name,table,address,type,initial\n" + plain + moving)
        moves = "".join(f'M{n} = {{ wave = "sine", low = 0, high = 9, period_s = 40 }}\n' for n in range(2000))
        site.write_text(site.read_text() + f"[line.device.moves]\n{moves}")
        with _served(site):
            descriptor, times = os.open(port, os.O_RDWR | os.O_NOCTTY), []
            tty.setraw(descriptor)
            request = Rtu().encode(1, Read(Table.HOLDING, 0, 125).encode())
            for _ in range(30):
                start, came = time.perf_counter(), 0
                os.write(descriptor, request)
                while came < 255 and select.select([descriptor], [], [], 1.0)[0]:
                    came += len(os.read(descriptor, 300))
                times.append(time.perf_counter() - start)
            os.close(descriptor)
    character_s = 11 / 19200
    least, took = (8 + 255 + 3.5) * character_s, sorted(times)[len(times) // 2]
    what = "line time used at 19200 8E1 by a device that stands in while 2 000 registers move"
    return Figure(what, f"{1e3 * took:.2f} ms", f"{1e3 * least:.2f} ms", least / took, "≥ 0.97")


def _clone() -> Figure:
    with tempfile.TemporaryDirectory() as folder:
        site = copy_site(Path(folder), free_port(15028))
        with _served(site):
            start = time.perf_counter()
            command = [sys.executable, "-m", "kanaleto", "clone", str(site), f"{folder}/copy.toml", "--yes"]
            subprocess.run([*command, "--device", "Upper sluice"], check=True, capture_output=True)
            took = time.perf_counter() - start
    return Figure("a clone of one sluice over 19 200 baud", f"{took:.1f} s", "60 s", took / 60, "≤ 1")


def measure() -> list[Figure]:
    return [_many_lines(), _many_units(), _flooded(), _line_time(), _clone()]
