"""`python -m tests.killed [TIMES]`: a site is polled and recorded, and killed by SIGKILL at a moment of chance, again
and again, three at once. Every store opens, at most half a second is missing, each value is its own, and what had
ended has its end in the journal.

The far end's registers prove themselves: the upper byte of each is its own address, the lower one counts answers.
"""

import os
import random
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from kanaleto.files.beside import folder_beside
from kanaleto.history.journal import journals_of
from kanaleto.history.journalfile import events_of
from kanaleto.history.query import History
from kanaleto.history.recorderprocess import records_of
from tests.servers import Server, take

MISSING_S = 0.5
_REGISTERS = 20
_SETTLE_S = 60.0


class Broken(AssertionError):
    """Something was not kept as promised."""


class FarEnd(Server):
    """Answers reads of holding registers; unit 2 is silent now and then. `answered` is when each answered last."""

    def __init__(self) -> None:
        self.answered = {1: 0.0, 2: 0.0}
        self.count = 0
        self.is_mute = False
        super().__init__(("127.0.0.1", 0), None)  # type: ignore[arg-type]
        threading.Thread(target=self.serve_forever, daemon=True).start()

    @property
    def port(self) -> int:
        return int(self.server_address[1])

    def finish_request(self, request: object, client_address: object) -> None:
        connection: socket.socket = request  # type: ignore[assignment]
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        while head := take(connection, 12):
            first, count = struct.unpack(">HH", head[8:12])
            if head[6] == 2 and self.is_mute:
                continue
            self.count += 1
            words = [(address << 8) | self.count & 0xFF for address in range(first, first + count)]
            body = struct.pack(f">BB{count}H", 3, 2 * count, *words)
            try:
                connection.sendall(head[:4] + struct.pack(">HB", len(body) + 1, head[6]) + body)
            except OSError:
                return
            self.answered[head[6]] = time.time()


def write_site(folder: Path, port: int) -> Path:
    """A site of two devices, all registers of which are polled ten times a second."""
    rows = "\n".join(f"R{number},holding,{number},uint16" for number in range(_REGISTERS))
    (folder / "m.csv").write_text(f"name,table,address,type\n{rows}\n")
    usual = 'map = "m.csv"\nperiod_s = 0.1\ntimeout_s = 0.15\nretries = 0\n'
    devices = "".join(f'[[line.device]]\nname = "D{unit}"\nunit_id = {unit}\n{usual}' for unit in (1, 2))
    path = folder / "site.toml"
    path.write_text(f'[site]\nname = "Killed"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{port}"\n{devices}')
    return path


def kill_once(seed: int) -> tuple[float, int]:
    """Seconds that are missing, samples that were kept. Raises Broken."""
    source = random.Random(seed)
    with tempfile.TemporaryDirectory() as name:
        far = FarEnd()
        path = write_site(Path(name), far.port)
        command = [sys.executable, "-m", "kanaleto", "poll", str(path), "--record", "--quiet"]
        process = subprocess.Popen(command, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True)
        assert process.stderr is not None
        for line in process.stderr:
            if "recording to" in line:
                break
        _outage(far, source)
        os.kill(process.pid, signal.SIGKILL)
        answered = far.answered[1]
        process.wait()
        process.stderr.close()
        far.shutdown()
        far.server_close()
        folder = folder_beside(path)
        _check_journal(folder)
        return _check_record(folder, answered)


def _outage(far: FarEnd, source: random.Random) -> None:
    """A device is away for a while and comes back; the kill comes any time after that."""
    time.sleep(source.uniform(0.4, 1.2))
    far.is_mute = True
    time.sleep(0.6)
    far.is_mute, back = False, time.time()
    end = time.monotonic() + _SETTLE_S
    while far.answered[2] < back and time.monotonic() < end:
        time.sleep(0.01)
    time.sleep(1.0 + source.uniform(0.0, 1.0))  # what has ended a second ago is in the journal


def _check_journal(folder: Path) -> None:
    events = [event for path in journals_of(folder) for event in events_of(path)]
    lost = [event for event in events if event.kind == "device lost"]
    if not lost:
        raise Broken("the outage is not in the journal")
    if lost[0].ended is None or lost[0].end_is_unknown:
        raise Broken(f"the outage had ended, and its end is not in the journal: {lost[0]}")


def _check_record(folder: Path, answered: float) -> tuple[float, int]:
    (store,) = records_of(folder)
    lock = store.with_name(f"{store.name}.lock")
    end = time.monotonic() + _SETTLE_S
    while lock.exists() and time.monotonic() < end:  # the writer outlives who started it by a moment
        time.sleep(0.05)
    history = History(str(store))
    try:
        last_s, count = 0.0, 0
        for series in history.series():
            for one in history.samples(series):
                if one.quality == "good":
                    count += 1
                    if not isinstance(one.value, int) or one.value >> 8 != int(series.point[1:]):
                        raise Broken(f"{series.device}/{series.point} holds {one.value!r}, which is another's")
                    last_s = max(last_s, one.at_us / 1e6) if series.device == "D1" else last_s
    finally:
        history.close()
    missing_s = answered - last_s
    if missing_s > MISSING_S:
        raise Broken(f"{missing_s:.2f} s are missing before the kill")
    return missing_s, count


def main(times: int, at_once: int = 3) -> None:
    with ThreadPoolExecutor(at_once) as pool:
        found = list(pool.map(kill_once, range(times)))
    missing = sorted(missing_s for missing_s, _ in found)
    print(
        f"killed {times} times, {sum(count for _, count in found)} samples: each store opened, each value its own; "
        f"missing before the kill: median {missing[len(missing) // 2]:.2f} s, at most {missing[-1]:.2f} s"
    )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 50)
