"""A bridge as a service, disturbed in turns: killed and started, its adapter pulled and put back; after each turn the
value of that turn comes through.

`python -m tests.bridgeturns [TURNS]` prints how long each took to come back.
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from tests.rawends import RawMaster, RawSlave
from tests.test_bench import free_port

_READ = b"\x03\x00\x00\x00\x01"
_RECONNECT_S = 0.5
_SITE = """
[site]
name = "Turns"
[[line]]
name = "Out"
link = "rtu://{folder}/port?baud=115200"
timeout_s = 0.3
reconnect_s = {reconnect_s}
[[bridge]]
name = "Room"
listen = "tcp://127.0.0.1:{port}"
[[bridge.route]]
units = 40
to = "Out"
there = 9
probe_s = 0.5
"""


class Turns:
    """`came_s` is how long after each turn the right value came."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.port, self.value = folder, free_port(), 0
        self.slave = self._slave()
        site = folder / "turns.toml"
        site.write_text(_SITE.format(folder=folder, port=self.port, reconnect_s=_RECONNECT_S), encoding="utf-8")
        self._words = [sys.executable, "-m", "kanaleto", "bridge", str(site)]
        self.service = self._service()

    def _slave(self) -> RawSlave:
        slave = RawSlave("rtu://x", str(self.folder / "port"))
        slave.handler = lambda unit, pdu: b"\x03\x02" + self.value.to_bytes(2)
        return slave

    def _service(self) -> "subprocess.Popen[bytes]":
        service = subprocess.Popen(self._words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        assert service.stdout is not None
        service.stdout.readline()
        return service

    def kill(self) -> None:
        self.service.kill()
        self._gone()
        self.service = self._service()

    def pull(self, for_s: float) -> None:
        (self.folder / "port").unlink()
        self.slave.close()
        time.sleep(for_s)
        self.slave = self._slave()

    def comes_s(self, most_s: float) -> float:
        """How long it takes until the value of this turn comes; a wrong one never does. Raises AssertionError."""
        self.value += 1
        began_s = time.monotonic()
        while time.monotonic() - began_s < most_s:
            master = RawMaster("tcp://x", self.port)
            try:
                answer = master.ask(40, _READ)
            finally:
                master.close()
            if answer is not None and answer[0] == 3:
                assert answer[2:] == self.value.to_bytes(2), f"{answer.hex()} is not the value of turn {self.value}"
                return time.monotonic() - began_s
            time.sleep(0.02)
        raise AssertionError(f"turn {self.value}: it has not come back in {most_s:g} s")

    def _gone(self) -> None:
        self.service.wait(20)
        assert self.service.stdout is not None
        self.service.stdout.close()

    def close(self) -> None:
        self.service.terminate()
        self._gone()
        self.slave.close()


def turns(count: int) -> tuple[list[float], list[float]]:
    """How long it took to come back after each kill and each pull, in seconds."""
    with tempfile.TemporaryDirectory() as folder:
        bridge = Turns(Path(folder))
        try:
            bridge.comes_s(10)
            killed, pulled = [], []
            for _ in range(count):
                bridge.kill()
                killed.append(bridge.comes_s(10))
            for turn in range(count):
                bridge.pull(0.1 + 0.1 * (turn % 7))
                pulled.append(bridge.comes_s(10))
            return killed, pulled
        finally:
            bridge.close()


def main() -> None:
    killed, pulled = turns(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
    for what, took in (("killed and started", killed), ("adapter pulled", pulled)):
        print(f"{what} {len(took)} times: back after {median(took):.2f} s, at most {max(took):.2f} s")


if __name__ == "__main__":
    main()
