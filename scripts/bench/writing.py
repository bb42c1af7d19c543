"""A write kept alive on a busy serial line, against the wait that was reckoned before it began; and how long a write
takes from being asked for to its first byte, against what it must do until then: read what stands there, and have its
row on disk.
"""

import asyncio
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.test_bench import free_port

from kanaleto.board.listener import Exchange, Sink
from kanaleto.control.alive import Wish
from kanaleto.control.control import Control
from kanaleto.control.ledger import Ledger, MemoryLedger
from kanaleto.control.lock import Lock
from kanaleto.control.order import Order
from kanaleto.control.waits import wait_on
from kanaleto.files.loading import load_site
from kanaleto.history.journalfile import JournalFile
from kanaleto.history.journalwriter import JournalLedger
from kanaleto.polling.session import Session
from kanaleto.site.model import Site
from kanaleto.wire.codes import WRITING, Table
from scripts.bench.figure import Figure

_ALIVE_S, _PERIOD_S, _WRITES = 40.0, 0.1, 60
_PULSE_S, _PULSES = 0.5, 20


def measure() -> list[Figure]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        rows = "".join(f"P{n},holding,{n},r\n" for n in range(125)) + "Word,holding,200,rw\n"
        (folder / "map.csv").write_text("name,table,address,access\n" + rows)
        port = free_port()
        (folder / "site.toml").write_text(
            '[site]\nname = "B"\n[[line]]\nname = "L"\nlink = "rtu://port/a?baud=38400"\n'
            '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\nperiod_s = 0\n'
            f'[[line]]\nname = "T"\nlink = "tcp://127.0.0.1:{port}"\n'
            '[[line.device]]\nname = "E"\nunit_id = 1\nmap = "map.csv"\n'
        )
        slave = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "serve", str(folder / "site.toml")], stdout=subprocess.PIPE, text=True
        )
        assert slave.stdout is not None
        slave.stdout.readline()
        try:
            site, _ = load_site(folder / "site.toml")
            return [
                *asyncio.run(_kept_alive(site)), asyncio.run(_way_back(site)), asyncio.run(_first_byte(site, folder)),
            ]  # fmt: skip
        finally:
            slave.terminate()
            slave.wait()
            slave.stdout.close()


def _control(session: Session, ledger: Ledger) -> Control:
    return Control(session, Lock(consents=True), ledger, lambda: None)


def _order(line: str, device: str, word: int) -> Order:
    return Order(
        line=line, unit_id=1, device=device, table=Table.HOLDING, address=200, data=word.to_bytes(2), points=("Word",)
    )


async def _kept_alive(site: Site) -> list[Figure]:
    session = Session(site)
    control = _control(session, MemoryLedger())
    task = asyncio.create_task(session.run())
    await asyncio.sleep(4)
    kept, result = await control.alives.begin(
        Wish(order=_order("L", "D", 7), period_s=_PERIOD_S, safe=b"\0\0", is_late_all_right=True)
    )
    assert kept is not None, result.text
    await asyncio.sleep(_ALIVE_S)
    late = sorted(kept.lateness)
    wait_s = kept.state.wait.longest_s
    await control.stop()
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    at95, worst = late[len(late) * 95 // 100], late[-1]
    what = f"kept alive every {1000 * _PERIOD_S:.0f} ms on a busy line at 38400: late, at"
    return [
        Figure(f"{what} 95 % / reckoned", f"{1000 * at95:.1f} ms", f"{1000 * wait_s:.1f} ms", at95 / wait_s, "≤ 1.1"),
        Figure(
            f"{what} worst / reckoned", f"{1000 * worst:.1f} ms", f"{1000 * wait_s:.1f} ms", worst / wait_s, "≤ 1.1"
        ),
    ]


async def _way_back(site: Site) -> Figure:
    """Pulses of half a second on the busy line: how much later than asked the other value goes, against the longest
    exchange that may be under way."""
    session = Session(site)
    control = _control(session, MemoryLedger())
    sent_s: list[float] = []
    session.listen(_Writes(sent_s))
    task = asyncio.create_task(session.run())
    await asyncio.sleep(4)
    wait_s = wait_on(session.named("L")).longest_s
    for _ in range(_PULSES):
        result = await control.pulse(_order("L", "D", 7), _order("L", "D", 0), _PULSE_S, lambda half: None)
        assert result.is_done, result.text
    await control.stop()
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    late = sorted(off - on - _PULSE_S for on, off in zip(sent_s[::2], sent_s[1::2], strict=True))
    what = f"way back of a pulse of {_PULSE_S:g} s on the same line: late, at worst of {_PULSES} / longest exchange"
    return Figure(what, f"{1000 * late[-1]:.1f} ms", f"{1000 * wait_s:.1f} ms", late[-1] / wait_s, "≤ 1.1")


class _Writes(Sink):
    """When each write had gone."""

    def __init__(self, sent_s: list[float]) -> None:
        self._sent_s = sent_s

    def on_exchange(self, exchange: Exchange) -> None:
        if exchange.request is not None and exchange.request.function in WRITING:
            self._sent_s.append(exchange.outcome.sent_at)


async def _first_byte(site: Site, folder: Path) -> Figure:
    path = folder / "journal.db"
    journal = JournalFile(path, "bench", "bench", 0)
    session = Session(site)
    control = _control(session, JournalLedger(lambda: (path, journal.run), "bench"))
    task = asyncio.create_task(session.run())
    await asyncio.sleep(1)
    took, floor = [], []
    for number in range(_WRITES):
        began_s = time.monotonic()
        result = await control.orders.send(_order("T", "E", number))
        assert result.outcome is not None, result.text
        took.append(result.outcome.asked_at - began_s)
        began_s = time.monotonic()
        await asyncio.to_thread(_commit, path)
        order = _order("T", "E", 0)
        await control.orders.read(order, control.orders.poller_of(order), None)
        floor.append(time.monotonic() - began_s)
        await asyncio.sleep(0.02)
    await control.stop()
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    journal.end(None)
    one, other = statistics.median(took[1:]), statistics.median(floor[1:])
    what = "a write, from being asked for to its first byte / a read and a row on disk"
    return Figure(what, f"{1000 * one:.2f} ms", f"{1000 * other:.2f} ms", one / other)


def _commit(path: Path) -> None:
    db = sqlite3.connect(path)
    db.execute("PRAGMA synchronous = FULL")
    with db:
        db.execute(
            "INSERT INTO event (kind, line, device, point, begun, count, last, who, text) "
            "VALUES ('x', '', '', '', 0, 1, 0, '', '')"
        )
    db.close()
