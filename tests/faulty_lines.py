"""Lines with one thing wrong each, in memory on a virtual clock: what the engine has on tape of them."""

import asyncio
import random
from collections.abc import Callable

from msgspec.structs import replace

from kanaleto.board.listener import Exchange, Sink
from kanaleto.capture.row import ExchangeRow, row_of
from kanaleto.events.clock import Clock
from kanaleto.evidence.finding import FindingKind
from kanaleto.lines.channel import OnData, OnLost
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.polling.session import Session
from kanaleto.wire.checks import crc_bytes
from kanaleto.wire.frames import Frame
from tests.simulated import Fault, Pieces, SimulatedLine, device, silent
from tests.virtual import run_virtual
from tests.wires import heard_with

START_S = 1_780_000_000.0


def _map(source: random.Random) -> str:
    rows = ["name,table,address,type"]
    for block, (first, count) in enumerate(((0, 2), (100, source.randrange(6, 14)), (200, source.randrange(30, 60)))):
        rows += [f"B{block} {at},holding,{first + at},uint16" for at in range(count)]
    return "\n".join(rows) + "\n"


class FaultyLine:
    """Three or four devices on a line; `fault` is made by whoever has this."""

    def __init__(self, seed: int, is_serial: bool, timeout_s: float = 0.5) -> None:
        self.source = random.Random(seed)
        period_s = self.source.choice((0.5, 1.0))
        devices = [
            device(name, unit, _map(self.source), period_s, timeout_s, self.source.choice((0, 1)))
            for unit, name in enumerate(("Pump", "Gate", "Mast", "Winch")[: self.source.choice((3, 4))], 1)
        ]
        self.line = SimulatedLine(*devices, is_serial=is_serial, name="Line", delay_s=self.source.uniform(0.002, 0.02))
        self.unit = self.source.randrange(1, len(devices) + 1)
        self.channel = self.line.channel
        self.for_s = 90.0
        self.meanwhile: Callable[[], None] = lambda: None
        """Called once when all runs."""

    def rows(self) -> list[ExchangeRow]:
        found: list[ExchangeRow] = []

        class Kept(Sink):
            def on_exchange(self, exchange: Exchange) -> None:
                found.append(
                    row_of(replace(exchange, wall_s=START_S + exchange.wall_s), str(exchange.line.link), "real")
                )

            def on_stray(self, exchange: Exchange) -> None:
                self.on_exchange(exchange)

        async def work() -> None:
            session = Session(self.line.site, self.line.exchanger, clock=Clock(None))
            session.listen(Kept())
            task = asyncio.create_task(session.run())
            await asyncio.sleep(0)
            self.meanwhile()
            await asyncio.sleep(self.for_s)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        run_virtual(work())
        return found

    def at(self, unit: int, fault: Fault) -> Fault:
        """Of that unit alone."""
        return lambda frame, at, right: fault(frame, at, right) if frame.unit_id == unit else right


def _refusing(line: FaultyLine, code: int, when: Callable[[Frame], bool]) -> Fault:
    framing = line.line._framing

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        if frame.unit_id != line.unit or not when(frame):
            return right
        pdu = bytes((frame.pdu[0] | 0x80, code))
        return [(at + 0.005, framing.encode(frame.unit_id, pdu, frame.transaction or 0))]

    return fault


def _count(frame: Frame) -> int:
    return int.from_bytes(frame.pdu[3:5])


def _address(frame: Frame) -> int:
    return int.from_bytes(frame.pdu[1:3])


def _begins_at(line: FaultyLine, fault: Fault) -> Fault:
    """From the start, or from some moment on."""
    begin_s = line.source.choice((0.0, 1000 + line.source.uniform(10, 40)))
    return lambda frame, at, right: fault(frame, at, right) if at >= begin_s else right


def silent_one(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)
    line.line.fault = _begins_at(line, silent(line.unit))
    line.for_s = 240.0
    return line


def silent_all(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)
    line.line.fault = _begins_at(line, lambda frame, at, right: [])
    return line


def not_listening(seed: int) -> FaultyLine:
    line = FaultyLine(seed, False)
    line.channel.why_unreachable = "192.0.2.1:502 refused the connection; nothing listens on that port"
    return line


def another_rate(seed: int) -> FaultyLine:
    """Bytes that make no frame; or all answers, or those of one unit, are sent at half the rate."""
    line = FaultyLine(seed, True)
    settings = line.line.site.lines[0].link.settings
    assert settings is not None
    half = replace(settings, baud=settings.baud // 2)

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        size = line.source.randrange(2, 12)
        return [(at + 0.02, line.source.randbytes(size))] if line.source.random() < 0.8 else []

    def sent_slowly(frame: Frame, at: float, right: Pieces) -> Pieces:
        return [(when, heard_with(line.source, raw, half, settings)) for when, raw in right]

    line.line.fault = (fault, sent_slowly, line.at(line.unit, sent_slowly))[seed % 3]
    return line


def two_alike(seed: int) -> FaultyLine:
    """The other one answers sooner or later, with values of its own."""
    line = FaultyLine(seed, True)
    character_s, later_s = line.line._character_s, line.source.choice((-0.002, 0.001, 0.004, 0.2))

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        (end, raw) = right[0]
        other = bytearray(raw[:-2])
        for place in range(3, len(other)):
            other[place] = line.source.randrange(256)
        second = bytes(other) + crc_bytes(bytes(other))
        second_end = max(end + later_s, at + 0.001 + len(second) * character_s)
        apart = second_end - end
        if abs(apart) >= len(raw) * character_s + 0.01:
            return sorted([(end, raw), (second_end, second)])
        shift = round(apart / character_s)
        first, last = (raw, second) if shift >= 0 else (second, raw)
        mixed = bytearray(abs(shift) + len(last))
        for place in range(len(mixed)):
            one = first[place] if place < len(first) else 0xFF
            two = last[place - abs(shift)] if place >= abs(shift) else 0xFF
            mixed[place] = one & two
        return [(max(end, second_end), bytes(mixed))]

    line.line.fault = line.at(line.unit, fault)
    return line


def echo(seed: int) -> FaultyLine:
    line = FaultyLine(seed, True)
    line.line.fault = lambda frame, at, right: [(at, frame.raw), *right]
    return line


def timeout_short(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        later_s = line.source.uniform(0.3, 0.85)
        return [(end + later_s, raw) for end, raw in right]

    line.line.fault = line.at(line.unit, fault)
    line.for_s = 180.0
    return line


def limit(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)
    most = line.source.randrange(16, 28)
    line.line.fault = _refusing(line, 3, lambda frame: _count(frame) > most)
    return line


def end_of_table(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)
    line.line.fault = _refusing(line, 2, lambda frame: _address(frame) + _count(frame) > 150)
    line.for_s = 1800.0
    return line


def gateway_path(seed: int) -> FaultyLine:
    line = FaultyLine(seed, False)
    line.line.fault = _begins_at(line, _refusing(line, 0x0A, lambda frame: True))
    line.for_s = 300.0
    return line


def gateway_target(seed: int) -> FaultyLine:
    line = FaultyLine(seed, False)
    line.line.fault = _begins_at(line, _refusing(line, 0x0B, lambda frame: True))
    line.for_s = 300.0
    return line


def hangs_up(seed: int) -> FaultyLine:
    line = FaultyLine(seed, False)
    after = line.source.randrange(5, 15)
    answered = [0]

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        answered[0] += 1
        if answered[0] >= after:
            answered[0] = 0
            asyncio.get_running_loop().call_at(
                right[-1][0] + 0.01, _cut, line.channel, "the far end closed the connection"
            )
        return right

    line.line.fault = fault
    return line


def _cut(channel: MemoryChannel, why: str) -> None:
    channel.break_off(why)
    channel.why_unreachable = None


class _Full(MemoryChannel):
    """Lets a connection in and closes it at once while others have all there are."""

    is_full: Callable[[], bool] = staticmethod(lambda: False)

    async def open(self, on_data: OnData, on_lost: OnLost) -> None:
        await super().open(on_data, on_lost)
        if self.is_full():
            asyncio.get_running_loop().call_later(0.002, _cut, self, "the far end closed the connection")


def takes_few(seed: int) -> FaultyLine:
    line = FaultyLine(seed, False)
    full = _Full(line.line._far_end)
    full.is_full = lambda: line.source.random() < 0.7
    line.line.channel = line.channel = full

    def meanwhile() -> None:
        loop = asyncio.get_running_loop()
        for at_s in range(10, 90, 20):  # the connection is taken away now and then
            loop.call_later(at_s + line.source.uniform(0, 8), _cut, full, "the far end closed the connection")

    line.meanwhile = meanwhile
    return line


def other_master(seed: int) -> FaultyLine:
    line = FaultyLine(seed, True)

    def meanwhile() -> None:
        loop = asyncio.get_running_loop()

        def speak() -> None:
            body = bytes((40, 3, 0, line.source.randrange(100), 0, 2))
            answer = bytes((40, 3, 4)) + line.source.randbytes(4)
            for later_s, payload in ((0.005, body), (0.03, answer)):
                raw = payload + crc_bytes(payload)
                loop.call_later(later_s, line.channel._deliver, line.channel._generation, raw, loop.time() + later_s)
            loop.call_later(line.source.uniform(0.5, 2.0), speak)

        speak()

    line.meanwhile = meanwhile
    return line


def busy(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)
    code = line.source.choice((5, 6))
    line.line.fault = _refusing(line, code, lambda frame: line.source.random() < 0.4)
    return line


def too_fast(seed: int) -> FaultyLine:
    line = FaultyLine(seed, True)
    line.unit = 1
    each_device, *others = (
        line.line.line.devices
    )  # asked again after each failure: who never leaves a pause cannot know
    line.line.line = replace(line.line.line, devices=(replace(each_device, retries=1), *others))
    last = [0.0]
    needs_s = line.source.uniform(0.02, 0.03)

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        begun = at - len(frame.raw) * line.line._character_s
        pause_s, last[0] = begun - last[0], max(right[-1][0], at)
        if frame.unit_id == line.unit and pause_s < needs_s:
            last[0] = at
            return []
        return right

    line.line.fault = fault
    line.for_s = 500.0
    return line


def restarts(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)
    each_s, away_s = line.source.uniform(25, 45), line.source.uniform(4, 8)
    line.line.fault = lambda frame, at, right: (
        [] if frame.unit_id == line.unit and (at - 1000) % each_s > each_s - away_s else right
    )
    line.for_s = 400.0
    return line


def port_held(seed: int) -> FaultyLine:
    line = FaultyLine(seed, True)
    line.channel.why_unreachable = "port /dev/ttyUSB0 is held by another program"
    return line


def port_gone(seed: int) -> FaultyLine:
    line = FaultyLine(seed, True)

    def meanwhile() -> None:
        def gone() -> None:
            line.channel.break_off("there is no port /dev/ttyUSB0; is the adapter plugged in?")

        asyncio.get_running_loop().call_later(line.source.uniform(5, 40), gone)

    line.meanwhile = meanwhile
    return line


def grows_with_length(seed: int) -> FaultyLine:
    line = FaultyLine(seed, True)
    share = line.source.uniform(0.002, 0.004)

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        spoilt = []
        for end, raw in right:
            data = bytearray(raw)
            for place in range(len(data)):
                if line.source.random() < share:
                    data[place] ^= 1 << line.source.randrange(8)
            spoilt.append((end, bytes(data)))
        return spoilt

    line.line.fault = fault
    line.for_s = 180.0
    return line


def mixed_up(seed: int) -> FaultyLine:
    """Now and then the answer to the request before, under this one's transaction."""
    line = FaultyLine(seed, False)
    before: list[bytes] = []

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        (end, raw) = right[0]
        payload, pdu = bytes(raw), raw[7:]
        if before and line.source.random() < 0.15:
            payload = line.line._framing.encode(frame.unit_id, before[0], frame.transaction or 0)
        before[:] = [pdu]
        return [(end, payload)]

    line.line.fault = fault
    return line


def wrong_unit(seed: int) -> FaultyLine:
    line = FaultyLine(seed, seed % 2 == 0)

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        pdu = line.line.units.answer(frame.unit_id, frame.pdu)
        assert isinstance(pdu, bytes)
        return [(right[0][0], line.line._framing.encode(line.unit + 20, pdu, frame.transaction or 0))]

    line.line.fault = _begins_at(line, line.at(line.unit, fault))
    return line


FAULTY: dict[FindingKind, Callable[[int], FaultyLine]] = {
    FindingKind.SILENT_ONE: silent_one,
    FindingKind.SILENT_ALL: silent_all,
    FindingKind.NOT_LISTENING: not_listening,
    FindingKind.ANOTHER_RATE: another_rate,
    FindingKind.TWO_ALIKE: two_alike,
    FindingKind.ECHO: echo,
    FindingKind.TIMEOUT_SHORT: timeout_short,
    FindingKind.LIMIT: limit,
    FindingKind.END_OF_TABLE: end_of_table,
    FindingKind.GATEWAY_PATH: gateway_path,
    FindingKind.GATEWAY_TARGET: gateway_target,
    FindingKind.HANGS_UP: hangs_up,
    FindingKind.TAKES_FEW: takes_few,
    FindingKind.OTHER_MASTER: other_master,
    FindingKind.BUSY: busy,
    FindingKind.TOO_FAST: too_fast,
    FindingKind.RESTARTS: restarts,
    FindingKind.PORT_HELD: port_held,
    FindingKind.PORT_GONE: port_gone,
    FindingKind.GROWS_WITH_LENGTH: grows_with_length,
    FindingKind.MIXED_UP: mixed_up,
    FindingKind.WRONG_UNIT: wrong_unit,
}


def healthy(seed: int) -> FaultyLine:
    """Nothing is wrong; of every third an answer is lost or spoilt by chance now and then."""
    line = FaultyLine(seed, seed % 2 == 0)
    share = line.source.uniform(0.002, 0.015) if seed % 3 == 0 else 0.0

    def fault(frame: Frame, at: float, right: Pieces) -> Pieces:
        chance = line.source.random()
        if chance < share / 2:
            return []
        if chance < share:
            return (
                [(end, bytes((raw[0], *raw[1:-1], raw[-1] ^ 1))) for end, raw in right]
                if line.line._character_s
                else []
            )
        return right

    line.line.fault = fault
    return line
