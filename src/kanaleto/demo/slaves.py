"""The process that plays the devices of the demo site: `python -m kanaleto.demo.slaves SITE`.

Prints `ready` once everything listens. Ends at SIGTERM, or when its standard input closes, so that it never outlives
the one who started it.
"""

import asyncio
import os
import sys
import threading
from collections.abc import Callable, Iterable
from pathlib import Path

from kanaleto.bench.bench import Bench
from kanaleto.bench.statements import STEP_S
from kanaleto.files.loading import load_site
from kanaleto.lines.openfiles import raise_limit
from kanaleto.serving.network import CannotServe
from kanaleto.supervision.signals import on_signals
from kanaleto.values.visible import visible

_POWER_S = 8.0


class PowerCycles:
    """The demo's devices take a new unit ID only after their power was off and on: here that happens by itself, some
    seconds after it was written. `waiting` gives the devices that wait, `off_and_on` switches one."""

    def __init__(self, waiting: Callable[[], Iterable[str]], off_and_on: Callable[[str], None]) -> None:
        self._waiting, self._off_and_on = waiting, off_and_on
        self._waited_s: dict[str, float] = {}

    def step(self, dt_s: float) -> None:
        """Let `dt_s` seconds pass."""
        self._waited_s = {name: self._waited_s.get(name, 0.0) + dt_s for name in self._waiting()}
        for name, waited_s in self._waited_s.items():
            if waited_s >= _POWER_S:
                self._off_and_on(name)


async def _play(site_path: Path) -> int:
    site, _ = load_site(site_path)
    bench = Bench(site)
    try:
        await bench.start()
    except CannotServe as error:
        sys.stderr.write(f"{visible(str(error))}\n")
        return 1
    sys.setswitchinterval(0.0005)  # the lines' threads keep time; what moves can wait
    power = PowerCycles(bench.settings.waiting, bench.settings.after_power)
    is_over = asyncio.Event()
    loop = asyncio.get_running_loop()
    on_signals(loop, ("SIGTERM",), is_over.set)
    on_signals(loop, ("SIGINT", "SIGHUP"), lambda: None)  # the terminal sends it to both; the parent decides
    raise_limit()
    # no executor: the end of the loop would wait for it, and it reads for as long as its parent lives
    threading.Thread(target=_wait_for_parent, args=(loop, is_over), name="parent", daemon=True).start()
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    running = asyncio.create_task(bench.run(lambda: power.step(STEP_S)))
    await is_over.wait()
    running.cancel()
    await bench.stop()
    return 0


def _wait_for_parent(loop: asyncio.AbstractEventLoop, is_over: asyncio.Event) -> None:
    sys.stdin.buffer.read()
    try:
        loop.call_soon_threadsafe(is_over.set)
    except RuntimeError:  # the loop is over already
        return


if __name__ == "__main__":
    exit_code = asyncio.run(_play(Path(sys.argv[1])))
    sys.stdout.flush()
    os._exit(exit_code)  # the thread that reads standard input holds its lock
