"""A simulated line that is recorded to a file, on a virtual clock."""

import asyncio
import json
import struct
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

from kanaleto.history.query import History, SeriesInfo
from kanaleto.history.recording import Recording
from kanaleto.history.recordsink import RecordSink
from kanaleto.history.standing import BEGIN, CHANGED
from kanaleto.history.store import Store, url_of
from kanaleto.site.model import Site
from tests.simulated import SimulatedLine
from tests.test_polling import Running
from tests.virtual import run_virtual

NEW = (BEGIN, CHANGED)
COUNTER = "name,table,address,type\nCount,holding,0,uint16\nStill,holding,1,uint16\n"


class Kept:
    """A session on a virtual clock, recorded to a file."""

    def __init__(self, running: Running, url: str, site: str = "Virtual") -> None:
        self.session = running.session
        self.running = running
        self.store = Store(url)
        self.sink = RecordSink()
        self.wall_us: Callable[[], int] = lambda: round(self.session.clock.now() * 1e6)
        self.recording = Recording(self.store, site, "a test", "Ada", "here", self.wall_us())
        self.session.listen(self.sink)
        self.session.events.follow(self.sink.on_event)

    async def for_s(self, seconds: float, every_s: float = 1.0) -> None:
        end = asyncio.get_running_loop().time() + seconds
        while asyncio.get_running_loop().time() < end - 1e-6:
            await self.running.for_s(every_s)
            self.hand_on()

    def hand_on(self) -> None:
        for message in self.sink.take():
            self.recording.take(json.loads(json.dumps(message)))
        self.recording.commit()

    def end(self) -> None:
        self.sink.end(self.wall_us())
        self.hand_on()
        self.store.close()

    def break_off(self) -> None:
        """As if it had been killed."""
        self.hand_on()
        self.store.close()


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "record.db"
        self.url = url_of(str(self.path))

    def history(self) -> History:
        history = History(self.url)
        self.addCleanup(history.close)
        return history

    def series(self, history: History, point: str, device_name: str = "Device") -> SeriesInfo:
        (one_series,) = [series for series in history.series() if (series.device, series.point) == (device_name, point)]
        return one_series

    def rows(self, point: str, device_name: str = "Device") -> list[tuple[float, int, str, object]]:
        """Seconds, kind, quality, value."""
        history = self.history()
        series = self.series(history, point, device_name)
        return [(one.at_us / 1e6, one.kind, one.quality, one.value) for one in history.samples(series)]

    def run_recorded(self, line: SimulatedLine, work: Callable[[Kept], Any], site: Site | None = None) -> None:
        async def run() -> None:
            async with Running(line) as running:
                if site is not None:
                    running.session.take_over(site)
                await work(Kept(running, self.url))

        run_virtual(run())


def counting(line: SimulatedLine, every_s: float) -> None:
    """The first register of unit 7 counts up in time; the others stay."""

    def fault(frame, at, right):  # type: ignore[no-untyped-def]
        data = bytearray(right[-1][1]) if right else b""
        if frame.unit_id == 7 and frame.pdu[0] == 3 and data:
            pdu = bytes((3, 4)) + struct.pack(">HH", int((at - 1000) / every_s) % 65536, 4711)
            return [(right[-1][0], line.exchanger().framing.encode(7, pdu))]
        return right

    line.fault = fault
