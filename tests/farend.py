"""Simulated devices that write down what they were told: `python -m tests.farend SITE LOG`.

As `kanaleto serve SITE`, and each writing request that comes (function, first address, its bytes) becomes a line of LOG
before it is answered.
"""

import sys
import time
from pathlib import Path

from kanaleto.bench.device import SimulatedDevice
from kanaleto.cli.main import main
from kanaleto.wire.codes import WRITING


def told(path: Path) -> list[tuple[int, int, str, float]]:
    """Unit ID, address, PDU and moment (wall, seconds) of all that was written down."""
    rows = []
    for line in path.read_text().splitlines() if path.exists() else ():
        unit, address, pdu, at = line.split()
        rows.append((int(unit), int(address), pdu, float(at)))
    return rows


def serve(site: str, log_path: str) -> int:
    answer = SimulatedDevice.answer

    def noting(self: SimulatedDevice, pdu: bytes, is_broadcast: bool = False) -> bytes | None:
        if pdu and pdu[0] in WRITING:
            with open(log_path, "a", encoding="utf-8") as log:
                log.write(f"{self.device.unit_id} {int.from_bytes(pdu[1:3])} {pdu.hex()} {time.time():.3f}\n")
        return answer(self, pdu, is_broadcast)

    SimulatedDevice.answer = noting  # type: ignore[method-assign]
    return main(["serve", site])


if __name__ == "__main__":
    sys.exit(serve(sys.argv[1], sys.argv[2]))
