"""Writing to simulated devices, in memory on a virtual clock."""

import asyncio
import tempfile
from collections.abc import Callable, Coroutine
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from msgspec.structs import replace

from kanaleto.control.control import Control
from kanaleto.control.ledger import LedgerRow, MemoryLedger
from kanaleto.control.lock import Lock
from kanaleto.control.order import Order
from kanaleto.control.routine import Routine
from kanaleto.control.routinefile import read_routines
from kanaleto.control.wanted import wanted
from kanaleto.planning.plan import Place
from kanaleto.site.filefaults import Fault
from kanaleto.site.model import Device, Site
from kanaleto.wire.codes import WRITING
from tests.simulated import SimulatedLine, device
from tests.test_polling import Running
from tests.virtual import run_virtual

DRIVE = """name,table,address,type,factor,unit,access,labels,bit,range_low,range_high,role,feedback,write,repeat
Command word,holding,0,bits,,,rw,0=Enable;1=Open;7=Acknowledge,,,,command,,,
Target,holding,1,uint16,0.01,%,rw,,,0,100,setpoint,Position,,
Status word,holding,2,bits,,,r,0=Enabled;15=Fault,,,,status,,,
Position,holding,3,uint16,0.01,%,r,,,0,100,actual,,,
Level,holding,4,float32,,m,rw,,,,,,,,
Kept back,holding,6,uint16,,,rw,,,,,,,confirm,
Never,holding,7,uint16,,,rw,,,,,,,never,
Bit three,holding,8,bool,,,rw,,3,,,,,,
Often,holding,9,uint16,,,rw,,,,,,,,yes
Only written,holding,10,uint16,,,w,,,,,,,,
Mode,holding,11,uint16,,,rw,0=Manual;1=Automatic,,,,,,,
Horn,coil,0,bool,,,rw,0=off;1=on,,,,,,,
Lamp,coil,1,bool,,,rw,0=off;1=on,,,,,,,
"""


class SlowLedger(MemoryLedger):
    """Each row takes `delay_s`."""

    delay_s = 0.0

    async def begin(self, row: LedgerRow) -> int:
        await asyncio.sleep(self.delay_s)
        return await super().begin(row)

    async def complete(
        self, number: int, wall_s: float, data: dict[str, object], count: int = 1, goes_on: bool = False
    ) -> None:
        await asyncio.sleep(self.delay_s)
        await super().complete(number, wall_s, data, count, goes_on)


class Controlled:
    """A drive on a simulated line, polled and told what to do. `wrote` are the writing PDUs that the far end heard."""

    def __init__(self, *devices: Device, lock: Lock | None = None) -> None:
        self.line = SimulatedLine(*(devices or (device("Drive", 7, DRIVE, 0.2),)))
        self.running = Running(self.line)
        self.session = self.running.session
        self.ledger = SlowLedger()
        self.lock = lock or Lock()
        if lock is None:
            self.lock.unlock()
        self.control = Control(self.session, self.lock, self.ledger, lambda: None)

    async def __aenter__(self) -> Self:
        await self.running.__aenter__()
        self.session.listen(self.control)
        await self.running.for_s(1.0)
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.control.stop()
        await self.running.__aexit__(kind, error, trace)

    @property
    def wrote(self) -> list[bytes]:
        return [frame.pdu for frame in self.line.requests if frame.pdu[0] in WRITING]

    def order(self, name: str, text: str, device_name: str = "Drive", **changes: Any) -> Order:
        place = self.session.plan.place_of((device_name, name))
        assert isinstance(place, Place)
        made = wanted(place.point, text)
        order = Order(
            line=place.line.name, unit_id=place.device.unit_id, device=device_name, table=place.point.table,
            address=place.point.address, data=made.data, mask=made.mask, points=(name,), new_text=made.text,
            may_repeat=place.point.writing.may_repeat,
        )  # fmt: skip
        return replace(order, **changes) if changes else order

    def value(self, name: str, unit_id: int = 7) -> object:
        """What the simulated device holds."""
        return next(simulated for simulated in self.line.units.devices if simulated.device.unit_id == unit_id).value(
            name
        )

    def rows_match(self) -> bool:
        """Whether each writing request has its row, and no row is without one."""
        counted = sum(self.ledger.counts.get(number, 1) for number in self.ledger.rows)
        return counted == len(self.wrote)


def routines_of(site: Site, **texts: str) -> tuple[dict[str, Routine], list[Fault]]:
    """Routines from texts, by file name."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "routines").mkdir()
        for name, text in texts.items():
            (Path(folder) / "routines" / f"{name}.toml").write_text(text)
        return read_routines(replace(site, path=Path(folder) / "site.toml"))


def controlled(
    work: Callable[[Controlled], Coroutine[Any, Any, None]], *devices: Device, lock: Lock | None = None
) -> None:
    """Run it, on a virtual clock."""

    async def run() -> None:
        async with Controlled(*devices, lock=lock) as rig:
            await work(rig)

    run_virtual(run())
