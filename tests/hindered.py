"""Ends the application at moments drawn from a seed while something hinders it: `python -m tests.hindered --times 100`.

A record that somebody else holds locked, a network store that takes a connection and says nothing, a disk that is full,
a device in the middle of an answer. Five seconds later nothing of it may run, and there may be no file of an error.
"""

import argparse
import contextlib
import fcntl
import os
import pty
import random
import resource
import select
import signal
import socket
import socketserver
import sqlite3
import struct
import subprocess
import sys
import tempfile
import termios
import threading
import time
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.ended import LIVES_S, living, processes
from tests.postgres import Server

_AT_ONCE = 2
_POINTS = 12


class HalfWay(socketserver.ThreadingTCPServer):
    """Slaves whose registers count up; from `is_stuck` on an answer ends in its middle."""

    allow_reuse_address = daemon_threads = True

    def __init__(self) -> None:
        self.is_stuck = False
        super().__init__(("127.0.0.1", 0), _Answer)

    def handle_error(self, request: object, client_address: object) -> None:
        """Whoever asks goes away in the middle."""


class _Answer(socketserver.BaseRequestHandler):
    server: HalfWay

    def handle(self) -> None:
        read = self.request.makefile("rb")
        number = 0
        while len(head := read.read(7)) == 7:
            pdu = read.read(int.from_bytes(head[4:6]) - 1)
            count, number = int.from_bytes(pdu[3:5]), number + 1
            body = bytes((pdu[0], 2 * count)) + b"".join(
                struct.pack(">H", (number + at) & 0xFFFF) for at in range(count)
            )
            frame = head[:4] + struct.pack(">H", len(body) + 1) + head[6:] + body
            self.request.sendall(frame[: len(frame) // 2] if self.server.is_stuck else frame)


class Proxy:
    """Stands between a client and a server, and passes nothing on any more once it is stuck."""

    def __init__(self, port: int) -> None:
        self.is_stuck = threading.Event()
        self._port, self._listening = port, socket.create_server(("127.0.0.1", 0))
        self.port = int(self._listening.getsockname()[1])
        self._all = [self._listening]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                near = self._listening.accept()[0]
                self._all.append(near)
                if self._port:
                    far = socket.create_connection(("127.0.0.1", self._port))
                    self._all.append(far)
                    for one, other in ((near, far), (far, near)):
                        threading.Thread(target=self._pass_on, args=(one, other), daemon=True).start()

    def _pass_on(self, one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while data := one.recv(65536):
                while self.is_stuck.is_set():
                    time.sleep(0.1)
                other.sendall(data)
            other.shutdown(socket.SHUT_WR)

    def close(self) -> None:
        self.is_stuck.clear()
        for each in self._all:
            each.close()


class Round:
    """One start and its end. `kind` is what hinders."""

    store_port = 0
    """Of a server of PostgreSQL; 0 where there is none, then a store says nothing from the beginning."""

    KINDS = ("a locked record", "a store that says nothing", "a full disk", "half an answer")

    def __init__(self, seed: str, kind: str) -> None:
        self._pick = random.Random(seed)
        self.kind = kind
        self.told = ""
        self._undo: list[Callable[[], object]] = []
        self._seen = b""

    def run(self) -> list[str]:
        """What is wrong with how it ended."""
        far = HalfWay()
        threading.Thread(target=far.serve_forever, daemon=True).start()
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as home:
            folder = Path(home)
            try:
                return self._run(folder, far)
            finally:
                for undo in reversed(self._undo):
                    undo()
                far.shutdown()
                far.server_close()
                for process in processes(f"KANALETO_ROUND={home}"):
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(process, signal.SIGKILL)

    def _run(self, folder: Path, far: HalfWay) -> list[str]:
        rows = "".join(f"R{at},holding,{at},uint16\n" for at in range(_POINTS))
        (folder / "m.csv").write_text(f"name,table,address,type\n{rows}")
        lines = "".join(
            f'[[line]]\nname = "{name}"\nlink = "tcp://127.0.0.1:{far.server_address[1]}"\n'
            f'[[line.device]]\nname = "{name}"\nunit_id = 1\nmap = "m.csv"\n'
            for name in ("A", "B")
        )
        (folder / "s.toml").write_text(f'[site]\nname = "S"\nperiod_s = 0.1\n{lines}')
        environment = {
            **os.environ, "TERM": "xterm-256color",
            **dict.fromkeys(("HOME", "TMPDIR", "KANALETO_ROUND"), str(folder)),
            **{f"XDG_{name}_HOME": str(folder / name.lower()) for name in ("DATA", "STATE", "CONFIG", "CACHE")},
        }  # fmt: skip
        if self.kind == "a store that says nothing":
            return self._poll(folder, environment)
        return self._application(folder, environment, far)

    # The application

    def _application(self, folder: Path, environment: dict[str, str], far: HalfWay) -> list[str]:
        pick, mark = self._pick, f"KANALETO_ROUND={folder}"
        pid, master = pty.fork()
        if pid == 0:
            os.execve(sys.executable, [sys.executable, "-m", "kanaleto", str(folder / "s.toml")], environment)
        self._undo += [lambda: os.close(master)]
        fcntl.ioctl(master, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 140, 0, 0))
        self._read_until(master, lambda: b"R11" in self._seen, 60)
        self._read(master, 1.0)
        os.write(master, b"R")
        self._read_until(master, lambda: any(_records(folder)), 30)
        if not any(_records(folder)):
            return ["no recording was begun"]
        before_s, then_s = pick.uniform(0, 1.5), pick.uniform(0, 1.5)
        self._read(master, before_s)
        self._hinder(folder, far, mark)
        self._read(master, then_s)
        way = pick.choice(("keys", "keys", "terminate"))
        self.told = f"{self.kind} after {before_s:.2f} s, ended by {way} after {then_s:.2f} s"
        begun_s = time.monotonic()
        code: int | None = None
        last_s = 0.0
        if way == "terminate":
            os.kill(pid, signal.SIGTERM)
        while (now_s := time.monotonic()) - begun_s < LIVES_S:
            if way == "keys" and now_s - last_s > 0.4:  # twice: it is asked whether one means it
                with contextlib.suppress(OSError):
                    os.write(master, b"q")
                last_s = now_s
            self._read(master, 0.05)
            if code is None:
                done, status = os.waitpid(pid, os.WNOHANG)
                code = os.waitstatus_to_exitcode(status) if done else None
            if code is not None and not living(mark):
                break
        wrong = [f"lives on: {text}" for text in living(mark)]
        if code is None:
            wrong.append("it did not end")
        elif code not in (0, 143, -signal.SIGTERM):
            wrong.append(f"it ended with {code}")
        return wrong + _errors(folder)

    def _hinder(self, folder: Path, far: HalfWay, mark: str) -> None:
        if self.kind == "half an answer":
            far.is_stuck = True
        elif self.kind == "a full disk":
            for process in processes(mark):
                with contextlib.suppress(ProcessLookupError):
                    resource.prlimit(process, resource.RLIMIT_FSIZE, (0, resource.RLIM_INFINITY))
        else:
            for path in _records(folder):
                db = sqlite3.connect(path, timeout=30, check_same_thread=False, isolation_level=None)
                self._undo.append(db.close)
                db.execute("BEGIN IMMEDIATE")

    # Polling without a screen

    def _poll(self, folder: Path, environment: dict[str, str]) -> list[str]:
        """Which takes the address of a network store."""
        is_mute = not self.store_port or self._pick.random() < 0.3
        proxy = Proxy(0 if is_mute else self.store_port)
        self._undo.append(proxy.close)
        url = f"postgresql://kanaleto@127.0.0.1:{proxy.port}/postgres"
        command = [sys.executable, "-m", "kanaleto", "poll", str(folder / "s.toml"), "--record", url]
        with open(folder / "said.txt", "wb") as said:
            process = subprocess.Popen(command, env=environment, stdin=subprocess.DEVNULL, stdout=said, stderr=said)
        self._undo += [process.wait, process.kill]
        end_s = time.monotonic() + (4 if is_mute else 60)
        while b"R11" not in (folder / "said.txt").read_bytes() and time.monotonic() < end_s:
            time.sleep(0.05)
        if not is_mute and b"R11" not in (folder / "said.txt").read_bytes():
            return ["nothing was polled", (folder / "said.txt").read_text()[-500:]]
        time.sleep(self._pick.uniform(0, 1.5))
        proxy.is_stuck.set()
        then_s = self._pick.uniform(0, 3)
        time.sleep(then_s)
        number = self._pick.choice((signal.SIGINT, signal.SIGTERM))
        since = "the beginning" if is_mute else "some time"
        self.told = f"{self.kind} since {since}, ended by {number.name} after {then_s:.2f} s"
        begun_s = time.monotonic()
        process.send_signal(number)
        mark = f"KANALETO_ROUND={folder}"
        while time.monotonic() - begun_s < LIVES_S and (process.poll() is None or living(mark)):
            time.sleep(0.05)
        return [f"lives on: {text}" for text in living(mark)] + _errors(folder)

    def _read_until(self, master: int, is_so: Callable[[], bool], most_s: float) -> None:
        end_s = time.monotonic() + most_s
        while not is_so() and time.monotonic() < end_s:
            self._read(master, 0.1)

    def _read(self, master: int, for_s: float) -> None:
        end_s = time.monotonic() + for_s
        while (left_s := end_s - time.monotonic()) > 0:
            if select.select([master], [], [], left_s)[0]:
                try:
                    self._seen = (self._seen + os.read(master, 65536))[-200_000:]
                except OSError:
                    time.sleep(max(min(left_s, 0.05), 0))
                    return


def _records(folder: Path) -> list[Path]:
    return [path for path in folder.rglob("*record*") if path.is_file() and path.read_bytes()[:6] == b"SQLite"]


def _errors(folder: Path) -> list[str]:
    paths = [path for path in folder.rglob("*-*.txt") if path.name.startswith(("crash-", "fault-"))]
    return [f"{path.name}: {path.read_text()[-600:]}" for path in paths]


def rounds(times: int, seed: int) -> list[tuple[Round, list[str]]]:
    """As many, one kind after the other; each with what is wrong."""
    made = [Round(f"{seed} {number}", Round.KINDS[number % len(Round.KINDS)]) for number in range(times)]
    with contextlib.ExitStack() as stack:
        with contextlib.suppress(unittest.SkipTest):  # then it is a store that never says anything
            server = Server(Path(stack.enter_context(tempfile.TemporaryDirectory())))
            stack.callback(server.stop)
            Round.store_port = server.port
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            return list(zip(made, pool.map(Round.run, made), strict=True))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--times", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    failed = 0
    for number, (one, wrong) in enumerate(rounds(chosen.times, chosen.seed)):
        failed += bool(wrong)
        if wrong:
            print(f"round {number}: {one.told}", *wrong, sep="\n  ", flush=True)
    print(f"{chosen.times} ends of life, hindered, {failed} failed (seed {chosen.seed})")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
