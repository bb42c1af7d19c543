"""Memory over 24 simulated hours: the engine on a virtual clock, one device of two silent, from the fifth hour to the
last."""

import asyncio
import gc
import tracemalloc

from tests.simulated import SimulatedLine, device, silent
from tests.virtual import run_virtual

from kanaleto.events.clock import Clock
from kanaleto.polling.session import Session
from scripts.bench.figure import Figure

_HOURS = 24


def measure() -> list[Figure]:
    line = SimulatedLine(device("Alive", 7, period_s=5.0), device("Dead", 8, period_s=5.0))
    line.fault = silent(8)

    async def work() -> tuple[int, int, int]:
        session = Session(line.site, line.exchanger, clock=Clock(None))
        tracemalloc.start()
        task = asyncio.create_task(session.run())
        seen = []
        for hour in range(_HOURS + 1):
            if hour in (5, _HOURS):  # by the fifth hour every ring is full
                line.requests.clear()
                gc.collect()
                seen.append(tracemalloc.get_traced_memory()[0])
            await asyncio.sleep(3600)
            line.requests.clear()
        count = session.count
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        return seen[0], seen[1], count

    before, after, count = run_virtual(work())
    tracemalloc.stop()
    what = f"memory growth over {_HOURS} simulated hours, {count} exchanges, one device of two silent, against 1 MiB"
    grown = after - before
    return [Figure(what, f"{grown / 1024:.0f} KiB", "1024 KiB", max(grown, 0) / 2**20, "< 1")]
