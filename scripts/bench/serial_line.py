"""How busy a paced serial line is kept: the time of the bytes and two 3.5-character gaps of an exchange, over the time
that one takes.

Blocks of 125 registers at period 0, a simulated slave that answers at once on a pseudo-terminal in a process of its
own.
"""

import asyncio
import statistics
import subprocess
import sys
import tempfile
from itertools import pairwise
from pathlib import Path

from kanaleto.files.loading import load_site
from kanaleto.polling.session import Session
from kanaleto.site.links.serial import SerialLink
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
        slave = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "serve", str(path)], stdout=subprocess.PIPE, text=True
        )
        assert slave.stdout is not None
        slave.stdout.readline()
        site, _ = load_site(path)
        cycle_s = asyncio.run(_poll(Session(site)))
        slave.terminate()
        slave.wait()
        slave.stdout.close()
        link = site.lines[0].link
        assert isinstance(link, SerialLink)
        line_s = (_REQUEST_BYTES + _ANSWER_BYTES) * link.settings.character_s + 2 * link.settings.gap_s
    what = f"line time used at {link.settings}, blocks of 125 registers"
    target = "≥ 0.97" if baud != 19200 else ""
    return Figure(what, f"{1000 * line_s:.2f} ms", f"{1000 * cycle_s:.2f} ms", line_s / cycle_s, target)


async def _poll(session: Session) -> float:
    """The median time from the end of one good exchange to the end of the next: a machine that stands still now and
    then does not count against the line."""
    task = asyncio.create_task(session.run())
    await asyncio.sleep(_SPAN_S)
    ends = [row.outcome.done_at for row in session.exchanges if row.outcome.is_good]
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    return statistics.median(behind - before for before, behind in pairwise(ends))
