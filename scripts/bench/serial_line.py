"""How busy a paced serial line is kept: the time of the bytes and two 3.5-character gaps an exchange, over the time that passed.

Blocks of 125 registers at period 0, a simulated slave that answers at once on a pseudo-terminal in a process of its own.
"""

import asyncio
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from kanaleto.polling.session import Session
from kanaleto.site.link import SerialLink
from kanaleto.site.sitefile import load_site
from scripts.bench.figure import Figure

_SPAN_S = 8.0
_REQUEST_BYTES, _ANSWER_BYTES = 8, 5 + 250


def measure() -> list[Figure]:
    return [_measured(baud) for baud in (9600, 19200, 115200)]


def _measured(baud: int) -> Figure:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        rows = "".join(f"P{n},holding,{n}\n" for n in range(125))
        (Path(folder) / "map.csv").write_text("name,table,address\n" + rows)
        path.write_text(
            f'[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "rtu://port/a?baud={baud}"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\nperiod_s = 0\n'
        )
        slave = subprocess.Popen([sys.executable, "-m", "kanaleto", "serve", str(path)], stdout=subprocess.PIPE, text=True)
        assert slave.stdout is not None
        slave.stdout.readline()
        site, _ = load_site(path)
        exchanges, elapsed_s = asyncio.run(_poll(Session(site)))
        slave.terminate()
        slave.wait()
        slave.stdout.close()
        link = site.lines[0].link
        assert isinstance(link, SerialLink)
        line_s = exchanges * ((_REQUEST_BYTES + _ANSWER_BYTES) * link.settings.character_s + 2 * link.settings.gap_s)
    what = f"line time used at {link.settings}, blocks of 125 registers"
    target = "≥ 0.97" if baud != 19200 else ""
    return Figure(what, f"{line_s:.3f} s", f"{elapsed_s:.3f} s", line_s / elapsed_s, target)


async def _poll(session: Session) -> tuple[int, float]:
    """Good exchanges, and the time from the end of the first to the end of the last."""
    task = asyncio.create_task(session.run())
    while not session.exchanges:
        await asyncio.sleep(0.01)
    first = session.exchanges[0].outcome.done_at
    end = time.monotonic() + _SPAN_S
    while time.monotonic() < end:
        await asyncio.sleep(0.1)
    rows = [row.outcome for row in session.exchanges]
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    return sum(row.is_good for row in rows) - 1, rows[-1].done_at - first
