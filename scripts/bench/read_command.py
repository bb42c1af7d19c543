"""`kanaleto read` and `--help` as whole processes, against a bare interpreter that imports click, in turns."""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from kanaleto.demo.start import free_port
from scripts.bench.figure import Figure

_RUNS = 9


def _took(*words: str) -> float:
    start = time.perf_counter()
    subprocess.run([sys.executable, *words], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        site, link = Path(folder) / "site.toml", f"tcp://127.0.0.1:{free_port(15021)}"
        (Path(folder) / "map.csv").write_text("name,table,address\nA,holding,0\n")
        device = '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\n'
        site.write_text(f'[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "{link}"\n{device}')
        slave = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "serve", str(site)], stdout=subprocess.PIPE, text=True
        )
        assert slave.stdout is not None
        slave.stdout.readline()
        read = ("-m", "kanaleto", "read", link, "holding", "0")
        runs = [(_took(*read), _took("-m", "kanaleto", "--help"), _took("-c", "import click")) for _ in range(_RUNS)]
        slave.terminate()
        slave.wait()
        slave.stdout.close()
    ours, helped, bare = (statistics.median(column) for column in zip(*runs, strict=True))
    read_ratio = statistics.median(one / floor for one, _, floor in runs)
    help_ratio = statistics.median(one / floor for _, one, floor in runs)
    what = "`kanaleto read` as a whole process, against python -c 'import click'"
    return [
        Figure(what, f"{ours:.3f} s", f"{bare:.3f} s", read_ratio, "≤ 2.5"),
        Figure("the same, `kanaleto --help`", f"{helped:.3f} s", f"{bare:.3f} s", help_ratio, "≤ 1.6"),
    ]
