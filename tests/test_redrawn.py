"""Only what differs is drawn at a tick: the screen is what a whole drawing would give, whatever was pressed."""

import asyncio
import os
import socketserver
import struct
import tempfile
import threading
import unittest
import unittest.mock
from datetime import datetime, tzinfo
from pathlib import Path

from kanaleto.files.loading import load_whole
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.parts.trend.chart import TrendChart
from kanaleto.tui.shared.pane import Drawn
from tests.servers import Server, take
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


_LANES = -5  # what flows in the lanes below is drawn by the clock
_CLOCK = "kanaleto.tui.frame.toprow.datetime"
_SIZES = {"low": (100, 30), "small": (80, 24), "large": (160, 47)}


class _Moving(socketserver.BaseRequestHandler):
    """Every register holds its address, and more at each request. Nothing comes while the `gate` is shut."""

    gate = threading.Event()

    def handle(self) -> None:
        more = 0
        while head := take(self.request, 12):
            first, count = struct.unpack(">HH", head[8:12])
            more += 1
            body = struct.pack(f">BB{count}H", 3, 2 * count, *range(first + more, first + more + count))
            self.gate.wait(5)
            self.request.sendall(head[:4] + struct.pack(">HB", len(body) + 1, head[6]) + body)


def _both(app: KanaletoApp) -> tuple[list[str], list[str]]:
    """What stands after a tick, and what is there where all is drawn again. Then what stood stands again."""
    for chart in app.screen.query(TrendChart):
        chart._drawn_for = ()  # it moves by whole dots: let this be the moment of one
    app.tick()
    stands = painted(app)[:_LANES]
    drawn = [(widget, dict(widget._on_screen)) for widget in app.screen.query(Drawn)]
    for widget, _ in drawn:
        widget.refresh()
    again = painted(app)[:_LANES]
    for widget, lines in drawn:
        widget.refresh()
        widget._on_screen.update(lines)
    return stands, again


class _Noon(datetime):
    """The clock of the wall stands, so that all that is drawn can be compared."""

    @classmethod
    def now(cls, tz: tzinfo | None = None) -> "_Noon":
        return cls(2026, 5, 17, 12, 0, 0, tzinfo=tz)


class Redrawn(unittest.TestCase):
    def test_the_screen_is_what_would_be_drawn_again(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            kept = {f"XDG_{name}_HOME": folder for name in ("DATA", "STATE")}
            with unittest.mock.patch.dict(os.environ, kept), unittest.mock.patch(_CLOCK, _Noon):
                asyncio.run(self._work(Path(folder)))

    async def _work(self, folder: Path) -> None:
        rows = "".join(f"{name} {n},holding,{n * 2 + at},uint16\n" for at, name in enumerate(("Alpha", "Beta one"))
                       for n in range(40))  # fmt: skip
        (folder / "map.csv").write_text("name,table,address,type\n" + rows)
        (folder / "two.csv").write_text("name,table,address,type\nTwo,holding,5,float32\nLamp two,coil,1,\n")
        line = '[[line]]\nname = "{0}"\nlink = "tcp://127.0.0.1:{1}"\nreconnect_s = 60\n'
        device = '[[line.device]]\nname = "{0}"\nunit_id = {1}\nmap = "{2}"\n'
        _Moving.gate.set()
        server = Server(("127.0.0.1", 0), _Moving)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        answers = line.format("L", server.server_address[1]) + device.format("One", 1, "map.csv")
        silent = line.format("K", free_port()) + device.format("Two", 2, "two.csv")
        (folder / "s.toml").write_text('[site]\nname = "S"\nperiod_s = 0.1\n' + answers + silent)
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
                    for _ in range(20):
                        await pilot.pause(0.2)
                        _Moving.gate.clear()
                        await pilot.pause(
                            0.05
                        )  # what was under way may come between the two: then it is looked at again
                        stands, again = _both(app)
                        _Moving.gate.set()
                        if stands == again:
                            break
                    self.assertEqual(stands, again, (number, key))
        finally:
            app.door.close()
            engine.stop()
            app.keeping.stop()
