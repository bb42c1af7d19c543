"""`make soak`: the engine against simulated lines in memory with seeded faults, on a virtual clock.

A seed makes a line, its devices with their maps and periods, and faults: silence, delays round the timeout, late
answers, duplicates, answers of somebody else, bit errors, exceptions, merged frames, reboots, the cable out and in, a
device that babbles. Half of the networks are a gateway that works through what it is asked one after the other, waits
for units that are dead, and then says so (0A, 0B). Every register tells who holds it, or when it was read, so that a
sample can be checked against the moment it came from. Then the faults stop, and everything must come back within what
was promised. A failing seed prints the command that replays it.
"""

import argparse
import asyncio
import multiprocessing
import random
import sys
import time
from dataclasses import dataclass
from pathlib import Path

from kanaleto.board.board import Quality, Record
from kanaleto.events.clock import Clock
from kanaleto.events.log import EventKind
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.lines.exchange import QUARANTINE_S, Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.opening import framing_of
from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.planning.plan import Block
from kanaleto.polling.session import Session
from kanaleto.site.links.link import SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import Device, Line, Site
from kanaleto.wire.frames import Frame, Role
from kanaleto.wire.pdu import Read, ReadAnswer, Refused, Request, parse_request
from tests.virtual import run_virtual

Pieces = list[tuple[float, bytes]]


class Broken(AssertionError):
    """An invariant does not hold."""


@dataclass(slots=True)
class Ran:
    """What a seed came to."""

    exchanges: int
    hours: float


def _tag(unit_id: int, address: int) -> int:
    """What register `address` of a unit holds, unless it tells the time."""
    return (unit_id * 257 + address) & 0xFFFF


def _registers(unit_id: int, address: int, count: int, at: float) -> bytes:
    """Addresses divisible by 3 begin a time of two words in milliseconds; the third tells who it is."""
    milliseconds = int(at * 1000)
    words = []
    for place in range(address, address + count):
        words.append((milliseconds >> 16, milliseconds & 0xFFFF, _tag(unit_id, place))[place % 3] & 0xFFFF)
    return b"".join(word.to_bytes(2) for word in words)


class FarEnd:
    """The devices of the line, and what spoils their answers."""

    def __init__(self, seed: int, line: Line) -> None:
        self.random = random.Random(seed)
        self.line = line
        self.is_serial = isinstance(line.link, SerialLink)
        self.framing = framing_of(line.link)
        self.decoder = self.framing.decoder(Role.REQUESTS)
        settings = line.link.settings if isinstance(line.link, SerialLink) else None
        self.character_s = settings.character_s if settings else 0.0
        self.channel = MemoryChannel(self.answer, self.character_s, settings.gap_s if settings else 0.0)
        self.trouble = 0.0
        self.asked = 0
        self.is_gateway = not self.is_serial and self.random.random() < 0.5
        self.waits_s = self.random.uniform(0.3, 1.6) * line.devices[0].timeout_s  # for a unit that is dead
        self.free_at = 0.0
        self.down_until: dict[int, float] = {}
        self.babbles_until = 0.0

    def answer(self, data: bytes, at: float) -> Pieces:
        pieces: Pieces = []
        for event in self.decoder.feed(data):
            if isinstance(event, Frame):
                self.asked += 1
                pieces += self._answer(event, at)
        return pieces

    def _frame(self, frame: Frame, at: float, unit_id: int, request: Read) -> bytes:
        content = ReadAnswer(request.table, _registers(unit_id, request.address, request.count, at))
        return self.framing.encode(unit_id, content.encode(), frame.transaction or 0)

    def _answer(self, frame: Frame, at: float) -> Pieces:
        request = parse_request(frame.pdu)
        device = next((one for one in self.line.devices if one.unit_id == frame.unit_id), None)
        if not isinstance(request, Read) or device is None:
            raise Broken(f"asked {request} of unit {frame.unit_id}")
        source = self.random
        is_down = self.down_until.get(frame.unit_id, 0.0) > at
        thinks_s = source.uniform(0.0005, 0.02)
        if self.is_gateway:
            self.free_at = max(self.free_at, at) + (self.waits_s if is_down else thinks_s)
            thinks_s = self.free_at - at
        if is_down:
            refusal = Refused(request.function, source.choice((10, 11))).encode()
            raw = self.framing.encode(frame.unit_id, refusal, frame.transaction or 0)
            return [(self.free_at, raw)] if self.is_gateway else []
        raw = self._frame(frame, at + thinks_s, frame.unit_id, request)
        right: Pieces = [(at + thinks_s + len(raw) * self.character_s, raw)]
        if self.babbles_until > at:
            return [(at + source.random(), source.randbytes(source.randint(1, 40))) for _ in range(4)]
        return right if source.random() >= self.trouble else self._spoilt(frame, at, request, device, right)

    def _spoilt(self, frame: Frame, at: float, request: Read, device: Device, right: Pieces) -> Pieces:
        source = self.random
        when, raw = right[0]
        match source.randrange(11):
            case 0:
                return []
            case 1:  # round the timeout, but within what is promised
                late_s = source.uniform(0.7 * device.timeout_s, device.timeout_s + 0.9 * QUARANTINE_S - 0.02)
                raw = self._frame(frame, at + 0.01, frame.unit_id, request)
                return [(at + late_s, raw)]
            case 2:  # on a serial line one behind the other, elsewhere whenever
                return [
                    *right,
                    (when + (len(raw) * self.character_s if self.is_serial else source.uniform(0, 0.2)), raw),
                ]
            case 3:  # somebody else's answer first
                other = self._frame(frame, at, frame.unit_id % 200 + 1, request)
                return [
                    (at + 0.001 + len(other) * self.character_s, other),
                    (when + len(other) * self.character_s, raw),
                ]
            case 4 if self.is_serial:  # up to three bits, which the CRC always finds
                broken = bytearray(raw)
                for bit in source.sample(range(8 * len(raw)), source.randint(1, 3)):
                    broken[bit // 8] ^= 1 << bit % 8
                return [(when, bytes(broken))]
            case 5:
                refusal = Refused(request.function, source.choice((1, 4, 5, 6, 10, 11))).encode()
                return [(when, self.framing.encode(frame.unit_id, refusal, frame.transaction or 0))]
            case 6 if self.is_serial:  # noise and the answer in one piece
                return [(when, source.randbytes(source.randint(1, 3)) + raw)]
            case 7:
                self.down_until[frame.unit_id] = at + source.uniform(0.5, 90)
                return []
            case 8 if self.is_serial:
                self.babbles_until = at + source.uniform(0.1, 5)
                return []
            case 9:
                self.channel.break_off("the cable is out")
                asyncio.get_running_loop().call_later(source.uniform(0.1, 60), self._plug_in)
                return []
            case _:  # cut short
                return [(when, raw[: source.randint(1, len(raw) - 1)])] if self.is_serial else []

    def _plug_in(self) -> None:
        self.channel.why_unreachable = None

    def calm(self) -> None:
        """No more faults."""
        self.trouble, self.babbles_until, self.free_at = 0.0, 0.0, 0.0
        self.down_until.clear()
        self.channel.why_unreachable = None


class Checked(Session):
    """A session that checks what it is told."""

    def __init__(self, site: Site, far: FarEnd) -> None:
        self.far = far
        self.sent = 0
        self.last_done_s = 0.0
        self.window = (0.0, 0.0)
        exchanger = Exchanger(far.channel, far.framing)
        super().__init__(site, lambda line: exchanger, clock=Clock(None))

    def on_exchange(self, line: Line, device: Device | None, request: Request, outcome: Outcome, attempt: int) -> None:
        super().on_exchange(line, device, request, outcome, attempt)
        if outcome.kind is not OutcomeKind.UNREACHABLE:
            self.sent += 1
        if self.far.is_serial and outcome.asked_at < self.last_done_s - 1e-9:
            raise Broken(f"two requests in flight: one asked at {outcome.asked_at}, another done at {self.last_done_s}")
        self.last_done_s = outcome.done_at
        self.window = (outcome.asked_at, outcome.done_at)

    def on_record(self, block: Block, record: Record) -> None:
        low, high = (int(1000 * moment) for moment in self.window)
        for point, value in zip(block.points, record.values, strict=True):
            if point.address % 3 == 2:
                if value != _tag(block.device.unit_id, point.address):
                    raise Broken(f"{block.device.name} {point.name}: {value} is not its own value")
            elif not low - 1 <= int(value) <= high + 1:  # type: ignore[arg-type]
                raise Broken(f"{block.device.name} {point.name}: from {value} ms, asked {low}, done {high}")


def pace_of(seed: int) -> int:
    """Every other seed is a slow site: its periods, and how long it runs, are sixty times as long."""
    return 1 if seed % 2 else 60


def make_site(seed: int) -> Site:
    """A line with its devices, from a seed."""
    source = random.Random(seed * 7919)
    is_serial = source.random() < 0.75
    settings = SerialSettings(source.choice((4800, 9600, 19200, 115200)))
    link = SerialLink("/virtual", settings) if is_serial else TcpLink("192.0.2.1", 502)
    timeout_s = source.choice((0.2, 0.4, 1.0))
    devices = []
    for unit_id in source.sample(range(1, 248), source.randint(1, 6)):
        rows, address = [], 3 * source.randrange(10)
        for number in range(source.randint(1, 12)):
            period = pace_of(seed) * source.choice((0.1, 0.25, 0.5, 1, 1, 2, 5))
            rows.append(
                f"Time {number},holding,{address},uint32,{period}\nTag {number},holding,{address + 2},uint16,{period}"
            )
            address += 3 * source.choice((1, 1, 1, 2, 10))
        points, _ = read_map(Path("soak.csv"), "name,table,address,type,period_s\n" + "\n".join(rows), MapDefaults())
        devices.append(Device(f"Unit {unit_id}", unit_id, points, timeout_s, source.randint(0, 2)))
    return Site("Soak", (Line("Line", link, tuple(devices)),))


def soak(seed: int, span_s: float = 240.0) -> Ran:
    """One seed: a while with faults (`span_s`, or sixty times that on a slow site), then calm. Raises Broken."""
    return run_virtual(_soak(seed, span_s * pace_of(seed)))


async def _soak(seed: int, span_s: float) -> Ran:
    site = make_site(seed)
    far = FarEnd(seed, site.lines[0])
    session = Checked(site, far)
    loop = asyncio.get_running_loop()
    start_s = loop.time()
    task = asyncio.create_task(session.run())
    for trouble in (0.0, far.random.uniform(0.01, 0.1), far.random.uniform(0.2, 0.7)):
        far.trouble = trouble
        await _pass(task, span_s / 3)
    far.calm()
    await _pass(task, _promised_s(session, loop.time()))
    _check_recovered(session, loop.time())
    _check_books(session, far)
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    return Ran(session.count, (loop.time() - start_s) / 3600)


async def _pass(task: asyncio.Task[None], seconds: float) -> None:
    done, _ = await asyncio.wait([task], timeout=seconds)
    if done:
        task.result()
        raise Broken("polling ended by itself")


def _promised_s(session: Session, now_s: float) -> float:
    """How long recovery may take: connecting, noticing every silent device, and two cycles."""
    connect_s = 32.0
    notice_s = max((status.notice_within_s for line in session.status(now_s) for status in line.devices), default=0.0)
    load = max(session.plan.load(session.site.lines[0]), 1.0)
    longest_s = max((block.period_s for block in session.plan.blocks), default=0.0)
    return connect_s + notice_s + load * (2 * longest_s + 2) + 30.0


def _check_recovered(session: Session, now_s: float) -> None:
    for line in session.status(now_s):
        if line.why_unreachable:
            raise Broken(f"the line is still down: {line.why_unreachable}")
        if line.silent:
            raise Broken(f"still silent: {[status.device.name for status in line.silent]}")
    for place in session.plan.places:
        reading = session.board.reading(place, now_s)
        if reading.quality is not Quality.GOOD:
            raise Broken(f"{place.device.name} {place.point.name} is {reading.quality.value}: {reading.reason}")


def _check_books(session: Checked, far: FarEnd) -> None:
    """Requests and outcomes, events and states, bounds."""
    if not session.sent <= far.asked <= session.sent + _lost(session) + far.line.in_flight:
        raise Broken(f"{far.asked} requests arrived, {session.sent} had an outcome")
    counted = sum(state.counts.tally().exchanges for poller in session.pollers for state in poller.states.values())
    if counted != session.count:
        raise Broken(f"{counted} counted by device, {session.count} in all")
    if session.events.total <= session.events.ring.maxlen:  # type: ignore[operator]
        outages = (EventKind.DEVICE_LOST, EventKind.LINE_DOWN)
        for event in session.events.ring:
            if event.kind in outages and event.ended_wall_s is None:
                raise Broken(f"{event.device or event.line} is back, and its outage has no end: {event.text}")
            if (event.ended_wall_s or event.wall_s) < event.wall_s:
                raise Broken(f"{event.text} ended before it began")
    for poller in session.pollers:
        jobs = sum(len(state.jobs) for state in poller.states.values())
        if len(poller.schedule._heap) > 200 + 100 * jobs:
            raise Broken(f"{len(poller.schedule._heap)} entries wait for {jobs} jobs")


def _lost(session: Session) -> int:
    """Requests that were under way when the cable went out: they end as unreachable."""
    return sum(state.counts.tally().unreachable for poller in session.pollers for state in poller.states.values())


def _tried(seed: int) -> tuple[int, int, float, str]:
    try:
        ran = soak(seed)
    except Exception as error:
        return seed, 0, 0.0, f"{type(error).__name__}: {error}"
    return seed, ran.exchanges, ran.hours, ""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=1000)
    parser.add_argument("--seed", type=int, help="replay this one alone, with its traceback")
    args = parser.parse_args()
    if args.seed is not None:
        ran = soak(args.seed)
        print(f"seed {args.seed}: {ran.exchanges} exchanges in {ran.hours:.1f} simulated hours")
        return
    start, exchanges, hours, failed = time.perf_counter(), 0, 0.0, 0
    with multiprocessing.get_context("spawn").Pool() as pool:
        for seed, count, span, wrong in pool.imap_unordered(_tried, range(1, args.seeds + 1), chunksize=4):
            exchanges, hours = exchanges + count, hours + span
            if wrong:
                failed += 1
                print(f"fails: python -m tests.soak --seed {seed}    {wrong}", file=sys.stderr)
    took = time.perf_counter() - start
    print(f"{args.seeds} seeds, {exchanges} exchanges, {hours:.0f} simulated hours in {took:.0f} s, {failed} failed")
    sys.exit(1 if failed else 0)


if __name__ == "__main__":
    main()
