"""What each picture of docs/screenshots shows: what is pressed, and how long it lasts."""

import asyncio
from collections.abc import Awaitable, Callable, Coroutine, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from kanaleto.lines.opening import exchanger_for
from kanaleto.site.links.tcp import TcpLink
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Read
from scripts.shots.clock import ScreenLoop
from scripts.shots.stage import Stage, staged

Beside = Callable[[], Coroutine[Any, Any, None]]


class Picture(Struct, frozen=True):
    """`beside` runs on the engine's loop as long as the picture is made."""

    make: Callable[[Stage], Awaitable[None]]
    theme: str = "lagoon"
    beside: Sequence[Beside] = ()


async def _live(stage: Stage) -> None:
    await stage.wait(60)
    for steps in (0, 10, 15):
        await stage.press(*["j"] * steps)
        await stage.kept()
        await stage.press("p")
    await stage.press("enter")


async def _trend(stage: Stage) -> None:
    await stage.wait(72)
    await stage.press("v", *["j"] * 10, "v", *["j"] * 12, "v", "j", "v", "j", "j", "v")
    await stage.kept()
    await stage.press("p", "t", "+", "+")
    await stage.press(*["left"] * 6, "v", *["left"] * 8)


async def _moved(stage: Stage) -> None:
    await stage.wait(17)
    await stage.press("m")
    await stage.wait(2)


async def _across(stage: Stage) -> None:
    await stage.wait(17)
    await stage.press("down", "a")


async def _later(stage: Stage) -> None:
    await stage.wait(38)


async def _find(stage: Stage) -> None:
    await stage.press("1", "j", "j", "g")
    await stage.wait(4)
    await stage.press("e")
    await stage.wait(2)


async def _everything(stage: Stage) -> None:
    await stage.press("1", "j", "j", "f")
    await stage.wait(12)


async def _map(stage: Stage) -> None:
    await stage.wait(27)
    await stage.press("2", "z")


async def _wire(stage: Stage) -> None:
    await stage.rest(9)
    await stage.press("4", "k", "k", "k")


async def _bench(stage: Stage) -> None:
    await stage.press("5", "j", "j", "I", "I")
    await stage.wait(3)
    await stage.press("y", "enter", "tab", *["j"] * 6, "f")
    await stage.wait(14)


async def _bridge(stage: Stage) -> None:
    await stage.press("6", "b")
    await stage.wait(16)
    await stage.press(*["k"] * 8)


def _master(unit_id: int, table: Table, start: int, count: int, every_s: float) -> Beside:
    """One that asks the demo's bridge again and again, once it is there."""

    async def work() -> None:
        exchanger = exchanger_for(TcpLink("127.0.0.1", 15502))
        await asyncio.sleep(6)
        await exchanger.open()
        while True:
            await exchanger.ask(unit_id, Read(table, start, count), 3.0)
            await asyncio.sleep(every_s)

    return work


_MASTERS = (
    _master(41, Table.INPUT, 0, 3, 0.5),
    _master(42, Table.HOLDING, 100, 4, 1.0),
    _master(13, Table.HOLDING, 16, 4, 2.0),
)


async def _proof(stage: Stage) -> None:
    await stage.wait(9)
    await stage.press("7", "]", "enter", "enter")  # a stand-in answers, as is proposed
    await stage.write("2.3")
    await stage.press("enter", "]", "enter")
    await stage.write("18.3")
    await stage.press("enter", "]", "V")
    await stage.write("failed sensor was not opened")
    await stage.press("enter", "k", "k")


async def _target(stage: Stage, *keys: str) -> None:
    await stage.press("/")
    await stage.write("target")
    await stage.press("enter", *keys)


async def _write(stage: Stage) -> None:
    await stage.wait(9)
    await _target(stage, "u", "w")
    await stage.write("65")


async def _pad(stage: Stage) -> None:
    await stage.wait(9)
    await _target(stage, "u", "u", "W", "K", "enter", "escape", "w", "o", "enter", "escape", "down")


async def _acting(stage: Stage) -> None:
    await stage.wait(9)
    await stage.press("/")
    await stage.write("horn")
    await stage.press("enter", "u", "w", "ctrl+u")
    await stage.write("on 90 s")
    await stage.press("enter", "escape", "escape")
    await _target(stage, "u", "u", "w")
    await stage.write("65")
    await stage.press("enter", "ctrl+u")
    await stage.write("40 every 0.5 s then 0")
    await stage.press("enter", "y", "escape", "escape", "H")


PICTURES = {
    "live": Picture(_live),
    "trend": Picture(_trend),
    "moved": Picture(_moved),
    "across": Picture(_across),
    "live-fresco": Picture(_later, "fresco"),
    "find": Picture(_find),
    "everything": Picture(_everything),
    "map": Picture(_map),
    "wire": Picture(_wire),
    "bench": Picture(_bench),
    "bridge": Picture(_bridge, beside=_MASTERS),
    "proof": Picture(_proof),
    "write": Picture(_write),
    "pad": Picture(_pad),
    "acting": Picture(_acting),
}


def made(name: str, folder: Path) -> str:
    """The picture of that name, as text for a terminal of 160×47; the demo's site is in `folder`."""
    picture = PICTURES[name]

    async def work() -> str:
        async with staged(folder, picture.theme, picture.beside) as stage:
            await stage.rest(3)
            await picture.make(stage)
            await stage.rest(2.5)
            return stage.painted()

    with asyncio.Runner(loop_factory=ScreenLoop) as runner:
        return runner.run(work())
