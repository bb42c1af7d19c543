"""How long 247 units with 10 answering take on a paced serial line, against the line time and the timeouts that cannot
be avoided.

The far end is a process of its own on a pseudo-terminal. Unavoidable is, for each question asked: the time of its
bytes, then the timeout in force where nobody answers, or the answer as it came, and the silence between frames.
"""

import asyncio
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from kanaleto.files.loading import load_site
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.question import survey_exchanger
from kanaleto.probing.units import UnitSurvey
from kanaleto.site.links.serial import SerialLink
from scripts.bench.figure import Figure


def measure() -> list[Figure]:
    chosen = sorted(random.Random(5).sample(range(1, 248), 10))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        (Path(folder) / "map.csv").write_text("name,table,address\nLevel,holding,0\n")
        devices = "".join(f'[[line.device]]\nname = "D{unit}"\nunit_id = {unit}\nmap = "map.csv"\n' for unit in chosen)
        path.write_text(f'[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "rtu://port/a?baud=19200"\n{devices}')
        slave = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "serve", str(path)], stdout=subprocess.PIPE, text=True
        )
        assert slave.stdout is not None
        slave.stdout.readline()
        link = load_site(path)[0].lines[0].link
        assert isinstance(link, SerialLink)
        took_s, least_s, found = asyncio.run(_survey(link))
        slave.terminate()
        slave.wait()
        slave.stdout.close()
    assert found == chosen, f"found {found}, there are {chosen}"
    return [
        Figure(
            "247 units asked, 10 answering, 19200 8E1",
            f"{took_s:.2f} s",
            f"{least_s:.2f} s",
            took_s / least_s,
            "≤ 1.15",
        )
    ]


async def _survey(link: SerialLink) -> tuple[float, float, list[int]]:
    exchanger = survey_exchanger(link)
    await exchanger.open()
    survey = UnitSurvey(exchanger, listen_s=0, asks_identity=False)
    start = time.monotonic()
    await survey.run()
    took_s = time.monotonic() - start
    exchanger.close()
    least_s = 0.0
    for outcome, timeout_s in survey.outcomes:
        line_s = len(outcome.request) * link.settings.character_s + link.settings.gap_s
        least_s += line_s + (timeout_s if outcome.kind is OutcomeKind.TIMEOUT else outcome.took_s)
    return took_s, least_s, sorted(survey.found)
