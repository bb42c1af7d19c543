"""Only what differs is drawn at a tick: what stands on the screen is what would be drawn anew, whatever was pressed."""

import asyncio
import os
import re
import tempfile
import unittest
import unittest.mock
from pathlib import Path

from kanaleto.files.loading import load_whole
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.shared.pane import Drawn
from tests.test_bench import free_port
from tests.test_disturbed import painted

_KEYS = (
    "down", "slash", *"two", "enter", "pagedown", "escape", "p", "n", "end", "enter", "home", "enter", "2", "down",
    "right", "end", "slash", *"one", "enter", "x", "n", "escape", "left", "up", "4", "3", "slash", *"alpha", "escape",
    "1", "down", "3", "up", "n", "low", "down", "2", "small", "right", "down", "3", "enter", "large", "enter", "4",
    "low", "2", "large", "3", "down", "f", "f", "s", "s", "o", "escape", "v", "v", "p", "t", "left", "plus",
    "percent_sign", "low", "v", "small", "left", "large", "g", "escape", "m", "small", "large", "escape", "c", "o",
    "low", "large", "escape", "a", "right", "small", "large", "escape", "b", "escape", "E", "f", "low", "large", "E",
    "less_than_sign", "g",
)  # fmt: skip


_SIZES = {"low": (100, 30), "small": (80, 24), "large": (160, 47)}


def _timeless(rows: list[str]) -> list[str]:
    """Without what changes by itself: clocks, ages, pauses, and the water of the lanes."""
    return [re.sub(r"[0-9]+(\.[0-9]+)?|[▁▂▃▄▅▆▇█✕◐◇ ]+", "", row) for row in rows[:-5]]


class Redrawn(unittest.TestCase):
    def test_the_screen_is_what_would_be_drawn_anew(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            kept = {f"XDG_{name}_HOME": folder for name in ("DATA", "STATE")}
            with unittest.mock.patch.dict(os.environ, kept):
                asyncio.run(self._work(Path(folder)))

    async def _work(self, folder: Path) -> None:
        rows = "".join(f"{name} {n},holding,{n * 2 + at},uint16\n" for at, name in enumerate(("Alpha", "Beta one"))
                       for n in range(40))  # fmt: skip
        (folder / "map.csv").write_text("name,table,address,type\n" + rows)
        (folder / "two.csv").write_text("name,table,address,type\nTwo,holding,5,float32\nLamp two,coil,1,\n")
        device = '[[line.device]]\nname = "{0}"\nunit_id = {1}\nmap = "{2}"\n'
        site = f'[site]\nname = "S"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{free_port()}"\nreconnect_s = 60\n'
        (folder / "s.toml").write_text(site + device.format("One", 1, "map.csv") + device.format("Two", 2, "two.csv"))
        loaded = load_whole(folder / "s.toml")
        engine = Engine(loaded.site)
        engine.start()
        app = KanaletoApp(engine, loaded, "lagoon")
        try:
            async with app.run_test(size=(140, 40)) as pilot:
                while not app.is_whole:
                    await pilot.pause(0.02)
                await pilot.pause(0.6)
                for number, key in enumerate(_KEYS):
                    if key in _SIZES:
                        await pilot.resize_terminal(*_SIZES[key])
                    else:
                        await pilot.press(key)
                    await pilot.pause(0.3)
                    stands = _timeless(painted(app))
                    for widget in app.screen.query(Drawn):
                        widget.refresh()
                    await pilot.pause(0.1)
                    self.assertEqual(stands, _timeless(painted(app)), (number, key))
        finally:
            app.door.close()
            engine.stop()
            app.keeping.stop()
