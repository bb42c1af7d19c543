"""Masters, units and faults by chance on a virtual clock, with a bridge between: registers hold unit and address, so
that an answer proves itself.

`python -m tests.bridged [SECONDS] [SEED] [REQUESTS]` runs it for so long of bridge time and prints what came of it;
with REQUESTS again and again, each time with the next seed, until so many were asked.
"""

import asyncio
import random
import sys
from collections import Counter
from dataclasses import dataclass, field

from kanaleto.bridge.bridging import Bridging
from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.opening import framing_of
from kanaleto.polling.session import Session
from kanaleto.serving.answerer import Master
from kanaleto.site.bridges import Bridge, BridgeTarget, Route, RouteAccess
from kanaleto.site.links.link import Link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Line, Site
from kanaleto.wire.frames import Frame, Role
from tests.virtual import run_virtual

TIMEOUT_S, PATIENCE_S = 0.3, 1.0


class FarEnd:
    """A line of units 1 to 5, of which the fifth is silent; a register holds 256 times its unit plus its address.
    `sent` is every request that came, with its time."""

    def __init__(self, name: str, is_serial: bool, chance: random.Random | None = None) -> None:
        self.link: Link = SerialLink("/virtual") if is_serial else TcpLink("192.0.2.1", 502)
        self.line = Line(name, self.link, (), timeout_s=TIMEOUT_S)
        self.sent: list[tuple[float, int, bytes]] = []
        self.delay_s = 0.005
        self.chance = chance
        self.is_dead = False
        self.busy_until = 0.0

    def exchanger(self) -> Exchanger:
        framing = framing_of(self.link)
        decoder = framing.decoder(Role.REQUESTS)
        settings = self.link.settings
        character_s = settings.character_s if settings is not None else 0.0

        def far_end(data: bytes, at: float) -> list[tuple[float, bytes]]:
            pieces = []
            for event in decoder.feed(data):
                assert isinstance(event, Frame)
                self.sent.append((at, event.unit_id, event.pdu))
                pdu = self._answer(event.unit_id, event.pdu)
                if pdu is None:
                    continue
                raw = framing.encode(event.unit_id, pdu, event.transaction or 0)
                delay_s, lost = self.delay_s, False
                if self.chance is not None:
                    delay_s = self.chance.choice((0.001, 0.005, 0.02, 0.1))
                    lost = self.chance.random() < 0.02
                    if self.chance.random() < 0.02:
                        raw = raw[:-1] + bytes((raw[-1] ^ 0x55,)) if framing.name == "rtu" else raw
                if not lost:
                    pieces.append((at + delay_s + len(raw) * character_s, raw))
            return pieces

        return Exchanger(MemoryChannel(far_end, character_s, settings.gap_s if settings is not None else 0.0), framing)

    def _answer(self, unit: int, pdu: bytes) -> bytes | None:
        if self.is_dead or not 1 <= unit <= 4:
            return None
        if pdu[0] in (3, 4):
            first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
            words = b"".join((256 * unit + at).to_bytes(2) for at in range(first, first + count))
            return bytes((pdu[0], 2 * count)) + words
        if pdu[0] == 6:
            return pdu
        return bytes((pdu[0] | 0x80, 1))


def site_of(*ends: FarEnd, **options: float) -> Site:
    """Units 10 to 15 lead to units 0 to 5 of the first line, 20 to 25 to those of the second, and so on."""
    routes = tuple(
        Route(tuple(10 * number + unit for unit in range(1, 6)),
              tuple(BridgeTarget(end.line.name, unit) for unit in range(1, 6)), RouteAccess.WRITE)
        for number, end in enumerate(ends, 1)
    )  # fmt: skip
    bridge = Bridge("Bridge", (TcpLink("127.0.0.1", 15502),), routes, **{"patience_s": PATIENCE_S, **options})  # type: ignore[arg-type]
    return Site("Bridged", tuple(end.line for end in ends), bridges=(bridge,))


def bridging_of(site: Site, *ends: FarEnd) -> Bridging:
    by_name = {end.line.name: end for end in ends}
    session = Session(site, lambda line: by_name[line.name].exchanger())
    return Bridging(session, site.bridges)


@dataclass
class Came:
    asked: int = 0
    wrong: int = 0
    out_of_order: int = 0
    late_writes: int = 0
    twice: int = 0
    waited_s: list[float] = field(default_factory=list)
    outcomes: Counter[str] = field(default_factory=Counter)


async def masters_by_chance(seconds: float, seed: int) -> Came:
    """Six masters that ask reads and writes of many units, one after the other, for so long."""
    chance = random.Random(seed)
    ends = (FarEnd("East", True, random.Random(f"east {seed}")), FarEnd("West", False, random.Random(f"west {seed}")))
    site = site_of(*ends)
    bridging = bridging_of(site, *ends)
    came = Came()
    loop = asyncio.get_running_loop()
    tasks = [loop.create_task(bridging.session.run()), loop.create_task(bridging.run())]
    await asyncio.sleep(0.5)
    end_s = loop.time() + seconds
    written: dict[tuple[int, bytes], list[float]] = {}
    order: dict[str, list[tuple[int, bytes]]] = {}

    async def ask(number: int) -> None:
        master, chance = Master(f"master {number}", "Bridge"), random.Random(f"{seed} {number}")
        value = number
        while loop.time() < end_s:
            unit = chance.choice((11, 12, 13, 14, 15, 21, 22, 23, 25))
            if chance.random() < 0.2:
                value = (value + 16) % 60000
                pdu = b"\x06\x00\x07" + value.to_bytes(2)
                written.setdefault((unit, pdu), []).append(loop.time())
                order.setdefault(f"{master.name} {unit // 10}", []).append((unit, pdu))
            else:
                pdu = (
                    bytes((chance.choice((3, 4)),))
                    + chance.randrange(200).to_bytes(2)
                    + chance.randrange(1, 4).to_bytes(2)
                )
            began_s = loop.time()
            asking = loop.create_task(bridging.ask(site.bridges[0], unit, pdu, master, False))
            if chance.random() < 0.03:
                await asyncio.sleep(chance.random() * 0.1)
                asking.cancel()
                await asyncio.gather(asking, return_exceptions=True)
                came.outcomes["gone"] += 1
                continue
            answer = await asking
            came.asked += 1
            came.waited_s.append(loop.time() - began_s)
            assert isinstance(answer, bytes)
            _judge(unit, pdu, answer, came)
            await asyncio.sleep(chance.choice((0.0, 0.0, 0.01, 0.2)))

    async def disturb() -> None:
        while True:
            await asyncio.sleep(chance.uniform(5, 60))
            end = chance.choice(ends)
            end.is_dead = True
            await asyncio.sleep(chance.uniform(0.5, 5))
            end.is_dead = False

    disturbing = loop.create_task(disturb())
    await asyncio.gather(*(ask(number) for number in range(6)))
    for task in (disturbing, *tasks):
        task.cancel()
    await asyncio.gather(disturbing, *tasks, return_exceptions=True)
    _judge_sent(ends, written, order, came)
    return came


def _judge(unit: int, pdu: bytes, answer: bytes, came: Came) -> None:
    if answer[0] & 0x80:
        came.outcomes[f"exception {answer[1]:02X}"] += 1
        came.wrong += answer[0] != pdu[0] | 0x80
        return
    came.outcomes["good"] += 1
    if pdu[0] == 6:
        came.wrong += answer != pdu
        return
    first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
    right = b"".join((256 * (unit % 10) + at).to_bytes(2) for at in range(first, first + count))
    came.wrong += answer != bytes((pdu[0], 2 * count)) + right


def _judge_sent(
    ends: tuple[FarEnd, ...], written: dict[tuple[int, bytes], list[float]],
    order: dict[str, list[tuple[int, bytes]]], came: Came,
) -> None:  # fmt: skip
    for number, end in enumerate(ends, 1):
        writes = [(at, (10 * number + unit, pdu)) for at, unit, pdu in end.sent if pdu[0] == 6]
        counts = Counter(key for _, key in writes)
        came.twice += sum(max(count - len(written[key]), 0) for key, count in counts.items())
        places = {key: at for at, (_, key) in enumerate(writes)}
        came.late_writes += sum(
            not any(0 <= at - asked_s <= PATIENCE_S + 0.05 for asked_s in written[key]) for at, key in writes
        )
        for name, keys in order.items():
            if name.endswith(f" {number}") and len(set(keys)) == len(keys):
                seen = [places[key] for key in keys if key in places]
                came.out_of_order += seen != sorted(seen)


def main() -> None:
    seconds, seed, wanted = (float(word) for word in (*sys.argv[1:], *("600", "1", "0")[len(sys.argv) - 1 :]))
    asked, seed = 0, int(seed)
    while not asked or asked < wanted:
        came = run_virtual(masters_by_chance(seconds, seed))
        asked += came.asked
        print(f"seed {seed}, {seconds:g} s: {came.asked} requests, {asked} so far, {came.wrong} wrong answers")
        print(f"  {came.twice} writes sent twice, {came.late_writes} after their patience")
        print(f"  {came.out_of_order} masters out of order; {dict(came.outcomes)}", flush=True)
        if came.wrong or came.twice or came.late_writes or came.out_of_order:
            sys.exit(f"python -m tests.bridged {seconds:g} {seed}")
        seed += 1


if __name__ == "__main__":
    main()
