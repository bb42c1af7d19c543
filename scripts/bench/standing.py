"""How long the screen's thread stands still for an edit and its undoing, with 20 000 points in one map, in Live and in
Map."""

import asyncio
import tempfile
from pathlib import Path

from kanaleto.editing.pointedit import change_points
from kanaleto.files.loading import load_whole
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from scripts.bench.figure import Figure
from scripts.bench.sites import site_of_one_map
from scripts.bench.watching import Watch

_POINTS = 20_000
_LONGEST_S = 10.0


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        loaded = load_whole(site_of_one_map(Path(folder), _POINTS))
        engine = Engine(loaded.site)
        engine.start()
        app = KanaletoApp(engine, loaded, "lagoon")
        stands = asyncio.run(_stands(app))
        app.door.close()
        engine.stop()
    return [
        Figure(
            f"the screen stands for an undo, {_POINTS} points, {name}", f"{1e3 * s:.0f} ms", "100 ms", s / 0.1, "≤ 1"
        )
        for name, s in stands.items()
    ]


async def _stands(app: KanaletoApp) -> dict[str, float]:
    watch = Watch()
    found = {}
    async with app.run_test(size=(160, 47)) as pilot:
        watching = asyncio.create_task(watch.run())
        for name, digit in (("Live", "3"), ("Map", "2")):
            await pilot.press(digit)
            await asyncio.sleep(1)
            edited = app.door.edit(change_points("D", ["Point 5"], {"unit": name}))
            await asyncio.wait_for(asyncio.wrap_future(edited), _LONGEST_S)
            await asyncio.sleep(1)
            watch.waits.clear()
            await asyncio.wait_for(asyncio.wrap_future(app.door.undo()), _LONGEST_S)
            await asyncio.sleep(1)
            found[name] = watch.longest_s
        watching.cancel()
        app.exit()
    return found
