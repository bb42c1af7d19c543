"""The application, driven by keys, over a far end that holds what the test says."""

import asyncio
import os
import re
import socket
import socketserver
import struct
import tempfile
import threading
import time
import unittest
import unittest.mock
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from textual.pilot import Pilot

from kanaleto.files.loading import load_whole
from kanaleto.polling.engine import Engine
from kanaleto.tui.app import KanaletoApp
from kanaleto.tui.shared.prompt import Prompt
from tests.test_disturbed import painted

MAP = """name,table,address,type,factor,unit,range_low,range_high,warn_high,alarm_high,hysteresis,labels,alarm_on
Level,holding,0,uint16,0.1,m,0,10,5,8,0.5,,
Torque,holding,1,int16,,Nm,0,100,,,,,
Pump,holding,2,uint16,,,,,,,,0=off;1=on;2=fault,fault
Name,holding,3,text:2,,,,,,,,,
"""


class Far(socketserver.ThreadingTCPServer):
    """Slaves whose holding registers are `values` by unit and address, 0 where nothing is said; the units in `silent`
    do not answer, addresses from 20 on are refused."""

    allow_reuse_address = daemon_threads = True

    def __init__(self) -> None:
        self.values: dict[tuple[int, int], int] = {}
        self.coils: dict[tuple[int, int], int] = {}
        self.silent: set[int] = set()
        self.wrote: list[bytes] = []
        """Unit and PDU of each write that was heard."""
        super().__init__(("127.0.0.1", 0), _Answers)

    def answer(self, unit: int, pdu: bytes) -> bytes:
        if pdu[0] not in (1, 2, 3, 4, 5, 6, 16, 22):
            return bytes((pdu[0] | 0x80, 1))
        function, first, count = pdu[0], *struct.unpack(">HH", pdu[1:5])
        if function in (1, 2):
            bits = sum(self.coils.get((unit, first + at), 0) << at for at in range(count))
            return bytes((function, (count + 7) // 8)) + bits.to_bytes((count + 7) // 8, "little")
        if function in (3, 4):
            if first + count > 20:
                return bytes((function | 0x80, 2))
            words = [self.values.get((unit, first + at), 0) for at in range(count)]
            return bytes((function, 2 * count)) + struct.pack(f">{count}H", *words)
        self.wrote.append(bytes((unit,)) + pdu)
        if function == 5:
            self.coils[unit, first] = int(count == 0xFF00)
        elif function == 6:
            self.values[unit, first] = count
        elif function == 16:
            for at, word in enumerate(struct.unpack(f">{count}H", pdu[6:])):
                self.values[unit, first + at] = word
        else:
            or_mask = int.from_bytes(pdu[5:7])
            self.values[unit, first] = self.values.get((unit, first), 0) & count | or_mask & ~count & 0xFFFF
        return pdu if function != 16 else pdu[:5]


class _Answers(socketserver.BaseRequestHandler):
    def handle(self) -> None:
        far = self.server
        assert isinstance(far, Far)
        while head := self.request.recv(7, socket.MSG_WAITALL):
            unit, pdu = head[6], self.request.recv(int.from_bytes(head[4:6]) - 1, socket.MSG_WAITALL)
            if unit in far.silent:
                continue
            answer = far.answer(unit, pdu)
            self.request.sendall(head[:4] + struct.pack(">HB", len(answer) + 1, unit) + answer)


Work = Callable[[Any, KanaletoApp, "Pilot[None]"], Awaitable[None]]


class LiveCase(unittest.TestCase):
    """The application on meters that the test plays."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        patch = unittest.mock.patch.dict(os.environ, {f"XDG_{name}_HOME": folder.name for name in ("DATA", "STATE")})
        patch.start()
        self.addCleanup(patch.stop)
        self.far = Far()
        threading.Thread(target=self.far.serve_forever, daemon=True).start()
        self.addCleanup(self.far.server_close)
        self.addCleanup(self.far.shutdown)

    def drive(self, work: Work, units: int = 3, map_text: str = MAP, more: str = "", of_device: str = "") -> None:
        (self.folder / "m.csv").write_text(map_text)
        port = self.far.server_address[1]
        site = '[site]\nname = "S"\nperiod_s = 0.1\n[[line]]\nname = "L"\ntimeout_s = 0.3\n'
        site += f'link = "tcp://127.0.0.1:{port}"\n'
        for unit in range(1, units + 1):
            site += f'[[line.device]]\nname = "Meter {unit}"\nunit_id = {unit}\nmap = "m.csv"\n{of_device}'
        self.drive_site(site + more, r"Level +0\.0", work)

    def drive_site(self, site: str, begins: str, work: Work) -> None:
        """The application on that site, once this is to be seen."""
        path = self.folder / "site.toml"
        path.write_text(site)

        async def run() -> None:
            loaded = load_whole(path)
            engine = Engine(loaded.site)
            engine.start()
            app = KanaletoApp(engine, loaded, "lagoon")
            try:
                async with app.run_test(size=(160, 47)) as pilot:
                    await self.shows(app, begins)
                    await self.until(lambda: app.is_whole, "all that the first frame did not need")
                    await work(self, app, pilot)
                    self.assertIsNone(app.crash)
            finally:
                app.writing.stop()
                app.door.close()
                engine.stop()
                app.bench.close()
                app.proof.close()
                app.keeping.stop()

        asyncio.run(run())

    async def until(self, is_so: Callable[[], object], what: str) -> None:
        end = time.monotonic() + 240
        while not is_so():
            self.assertLess(time.monotonic(), end, f"{what} did not come about")
            await asyncio.sleep(0.05)

    async def alone(self, pilot: "Pilot[None]", *keys: str) -> None:
        """Keys as a person presses them: none in the same instant as another."""
        for key in keys:
            await asyncio.sleep(0.07)
            await pilot.press(key)

    async def shows(self, app: KanaletoApp, pattern: str) -> None:
        try:
            await self.until(lambda: any(re.search(pattern, row) for row in painted(app)), pattern)
        except AssertionError as error:
            raise AssertionError("\n".join([str(error), app.notice, *painted(app)])) from None

    async def answer(self, app: KanaletoApp, pilot: "Pilot[None]", text: str) -> None:
        prompt = app.query_one(Prompt)
        await self.until(lambda: prompt.is_open, "the question")
        app.take_paste(text)
        await pilot.press("enter")


def rows_shown(app: KanaletoApp, pattern: str) -> list[str]:
    return [found[1] for row in painted(app) if (found := re.search(pattern, row))]
