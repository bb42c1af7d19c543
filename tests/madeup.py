"""Made-up lines: devices whose registers, types, manners and habits are drawn by a seed, behind memory channels on a
virtual clock. What is there is known, so that whatever looks for it can be judged."""

import asyncio
import math
import random
from collections.abc import Callable
from dataclasses import dataclass, field

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memorychannel import MemoryChannel
from kanaleto.lines.opening import framing_of
from kanaleto.site.links.link import FramingKind, Link, Parity, SerialSettings
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind, ValueType
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame, Role
from tests.madevalues import MadePoint, range_of_points, starts_of

Pieces = list[tuple[float, bytes]]
READS = {1, 2, 3, 4, 0x11, 0x2B}


@dataclass
class Manners:
    """How a device answers: the most registers in a request and what a longer one brings, what a hole brings
    (an exception's code, 0 for silence, -1 for zeros), how long it thinks, tables that it has no function for."""

    most: int = 125
    too_long: int = 3
    hole: int = 2
    delay_s: float = 0.01
    no_function: frozenset[Table] = frozenset()
    walls: frozenset[int] = frozenset()  # no request may cross these addresses
    says_who: bool = False
    resets_at: tuple[Table, int] | None = None
    resets_above: int | None = None
    counts_at: tuple[int, int] | None = None  # holding registers that count, and are zero once they were read


@dataclass
class MadeDevice:
    unit_id: int
    points: list[MadePoint]
    manners: Manners
    kind: int
    dead_until: float = -1.0
    readings: dict[int, int] = field(default_factory=dict)
    """Of what counts and is zero once it was read: how often each was."""
    _by_table: dict[Table, dict[int, MadePoint]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for table in Table:
            made_points = [point for point in self.points if point.table is table]
            self._by_table[table] = {at: point for point in made_points for at in range(point.address, point.end)}

    def addresses(self, table: Table) -> set[int]:
        return set(self._by_table[table])

    def point_at(self, table: Table, address: int) -> MadePoint | None:
        return self._by_table[table].get(address)

    def undisturbed(self, pdu: bytes) -> bytes | None:
        """What it would say without its manners of failing."""
        manners, self.manners = self.manners, Manners()
        try:
            return self.answer(pdu, 3000.0)
        finally:
            self.manners = manners

    def requests_for_all(self) -> int:
        """As few as read all that it holds, where that is known."""
        count = 0
        for table, of_table in self._by_table.items():
            most = 16 * self.manners.most if table.is_bits else self.manners.most
            reached = -1
            for address in sorted(of_table):
                if address > reached:
                    end = address
                    while end + 1 in of_table and end + 1 - address < most and end + 1 not in self.manners.walls:
                        end += 1
                    count, reached = count + 1, end
        return count

    def answer(self, pdu: bytes, at: float) -> bytes | None:
        """What it says, or None for silence."""
        if at < self.dead_until:
            return None
        function = pdu[0]
        if function == 0x11 and self.manners.says_who:
            return bytes((0x11, 8)) + b"Alder 7" + b"\xff"
        if function not in (1, 2, 3, 4):
            return bytes((function | 0x80, 1))
        table = {1: Table.COIL, 2: Table.DISCRETE, 3: Table.HOLDING, 4: Table.INPUT}[function]
        first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
        manners = self.manners
        if table in manners.no_function:
            return bytes((function | 0x80, 1))
        if manners.resets_at and manners.resets_at[0] is table and first <= manners.resets_at[1] < first + count:
            self.dead_until = at + 20.0
            return None
        if manners.resets_above is not None and first + count - 1 > manners.resets_above:
            self.dead_until = at + 20.0
            return None
        if count > (16 * manners.most if table.is_bits else manners.most):
            return bytes((function | 0x80, manners.too_long)) if manners.too_long else None
        there = self._by_table[table]
        span = range(first, first + count)
        if manners.hole != -1 and any(address not in there for address in span):
            return bytes((function | 0x80, manners.hole)) if manners.hole else None
        if span[-1] > 0xFFFF or any(wall in span[1:] for wall in manners.walls):
            return bytes((function | 0x80, 2)) if manners.hole else None
        data = self._bits(there, span, at) if table.is_bits else self._words(there, span, at)
        if manners.counts_at is not None and table is Table.HOLDING:
            data = self._counted(first, data)
        return bytes((function, len(data))) + data

    def _counted(self, first: int, data: bytes) -> bytes:
        assert self.manners.counts_at is not None
        words = [int.from_bytes(data[at : at + 2]) for at in range(0, len(data), 2)]
        low, high = self.manners.counts_at
        for number, address in enumerate(range(first, first + len(words))):
            if low <= address <= high:
                words[number] = 0 if self.readings.get(address) else 300 + address
                self.readings[address] = self.readings.get(address, 0) + 1
        return b"".join(word.to_bytes(2) for word in words)

    @staticmethod
    def _bits(there: dict[int, MadePoint], span: range, at: float) -> bytes:
        packed = bytearray((len(span) + 7) // 8)
        for number, address in enumerate(span):
            if address in there and there[address].mover(at):
                packed[number // 8] |= 1 << number % 8
        return bytes(packed)

    @staticmethod
    def _words(there: dict[int, MadePoint], span: range, at: float) -> bytes:
        made: dict[int, bytes] = {}
        words = b""
        for address in span:
            point = there.get(address)
            if point is None:
                words += b"\0\0"
                continue
            data = made.setdefault(point.address, point.data(at))
            offset = 2 * (address - point.address)
            words += data[offset : offset + 2]
        return words


class MadeLine:
    """A line of such devices: `requests` are all that came, with their times; `outside` those that were no reads."""

    def __init__(self, link: Link, devices: list[MadeDevice], seed: int, tells_parity: bool = True) -> None:
        self.link = link
        self.tells_parity = tells_parity
        self.devices = {device.unit_id: device for device in devices}
        self.seed = seed
        self.requests: list[tuple[float, int, bytes]] = []
        self.outside: list[bytes] = []
        self.is_serial = isinstance(link, SerialLink)
        self.at_once = 1
        self.absent_s = 0.15  # how long a gateway waits for one that is not there
        self.unplugged: Callable[[int, float], bool] = lambda unit, at: False
        self.noise: Callable[[float], bool] = lambda at: False
        self.channels: list[MemoryChannel] = []
        self.rest_s = 0.0  # of silence that every device here wants before a question
        self.loses: Callable[[int, bytes, float], bool] = lambda unit, pdu, at: False
        self.is_silent_gateway = False  # of one that says nothing for units that are not there
        self.jitter_s = (0.0, 0.0)  # that an answer comes later
        self.slower: Callable[[int, float], float] = lambda unit, at: 0.0
        """By how much an answer of that unit comes later, while others are answered."""
        self.closes_each = 0  # questions after which a gateway closes the connection
        self.garbage_share = 0.0
        """How often something answers garbage at wrong rates."""
        self._chance = random.Random(f"garbage {seed}")
        self._on_opening: dict[int, tuple[int, int]] = {}
        """Of a channel: its opening, and how many requests came on that."""
        self.is_begun_again = False
        self._busy_until = 0.0
        self._quiet_at = -1.0

    def begin_again(self) -> None:
        """The clock begins again: nobody is busy, and nobody is restarting any more."""
        self._busy_until, self._quiet_at, self.is_begun_again = 0.0, -1.0, True
        for device in self.devices.values():
            device.dead_until = -1.0

    def opener(self, link: Link) -> Exchanger:
        framing = framing_of(link)
        decoder = framing.decoder(Role.REQUESTS)
        settings = link.settings if isinstance(link, SerialLink) else None
        character_s = settings.character_s if settings is not None else 0.0

        def far_end(data: bytes, at: float) -> Pieces:
            if isinstance(link, SerialLink) and not self._is_understood(link):
                return self._garbage(at, character_s)
            pieces: Pieces = []
            for event in decoder.feed(data):
                if isinstance(event, Frame):
                    pieces += self._answer(event, at, framing.encode, character_s)
            if self.closes_each:
                self._count(channel, len(pieces) or 1)
            return pieces

        gap_s = settings.gap_s if settings is not None else 0.0
        channel = MemoryChannel(far_end, character_s, gap_s)
        self.channels.append(channel)
        return Exchanger(channel, framing, quarantine_s=0.0)

    def _count(self, channel: MemoryChannel, requests: int) -> None:
        """So many more came on this connection; it is closed after so many."""
        opening, count = self._on_opening.get(id(channel), (0, 0))
        count = requests + (count if opening == channel._generation else 0)
        self._on_opening[id(channel)] = (channel._generation, count)
        if count >= self.closes_each:
            asyncio.get_running_loop().call_later(0.3, self._hang_up, channel, channel._generation)

    @staticmethod
    def _hang_up(channel: MemoryChannel, opening: int) -> None:
        if channel._generation == opening and channel.is_open:
            channel.break_off("closed by the far end")
            channel.why_unreachable = None

    def _garbage(self, at: float, character_s: float) -> Pieces:
        """What somebody makes of a question at a wrong rate, and says back."""
        if self._chance.random() >= self.garbage_share:
            return []
        raw = self._chance.randbytes(self._chance.randint(1, 12))
        return [(at + 0.01 + len(raw) * character_s, raw)]

    def _is_understood(self, link: SerialLink) -> bool:
        of_line = self.link
        if isinstance(of_line, SerialLink) and not self.tells_parity:
            return (link.settings.baud, link.framing) == (of_line.settings.baud, of_line.framing)
        return isinstance(of_line, SerialLink) and (link.settings, link.framing) == (
            of_line.settings,
            of_line.framing,
        )

    def _answer(self, frame: Frame, at: float, encode: Callable[..., bytes], character_s: float) -> Pieces:
        self.requests.append((at, frame.unit_id, frame.pdu))
        if frame.pdu[0] not in READS or (frame.unit_id == 0 and self.is_serial):
            self.outside.append(frame.pdu)
        device = self.devices.get(frame.unit_id)
        behind_s = 0.0
        if not self.is_serial:  # a gateway: its own serial line behind it, one request at a time
            behind_s = (len(frame.pdu) + 3) * 11 / 19200 + 0.004
            at = max(at, self._busy_until) if self.at_once == 1 else at
        is_there = device is not None and not self.unplugged(frame.unit_id, at)
        began = at - (len(frame.raw) * character_s)
        if (self.rest_s and began < self._quiet_at + self.rest_s - 1e-6) or self.loses(frame.unit_id, frame.pdu, at):
            is_there = False
        self._quiet_at = at
        pdu = device.answer(frame.pdu, at) if device is not None and is_there else None
        if pdu is None and not self.is_serial:
            pdu = bytes((frame.pdu[0] | 0x80, 0x0B))
            done = at + behind_s + self.absent_s
            if self.is_silent_gateway:
                self._busy_until = done
                return []
        elif pdu is None:
            return []
        else:
            done = at + behind_s + (device.manners.delay_s if device is not None else 0.0)
            done += (len(pdu) + 3) * 11 / 19200 if not self.is_serial else 0.0
        done += self._chance.uniform(*self.jitter_s)
        self._busy_until = done
        raw = encode(frame.unit_id, pdu, frame.transaction or 0)
        if self.noise(at):
            raw = raw[:-1] + bytes((raw[-1] ^ 0x55,))
        self._quiet_at = done + len(raw) * character_s
        return [(self._quiet_at + self.slower(frame.unit_id, at), raw)]


def made_kind(chance: random.Random) -> tuple[list[tuple[Table, int, str]], tuple[ByteOrder, float], Manners]:
    """A type of device: where its ranges begin and what they mostly hold, its order, its manners."""
    order = chance.choice(
        (ByteOrder.ABCD, ByteOrder.ABCD, ByteOrder.CDAB, ByteOrder.CDAB, ByteOrder.BADC, ByteOrder.DCBA)
    )
    tables = chance.choice(
        ((Table.HOLDING,), (Table.HOLDING, Table.INPUT), (Table.INPUT, Table.HOLDING), (Table.INPUT,))
    )
    starts = starts_of(chance)
    ranges = []
    for _ in range(chance.randint(1, 5)):
        favourite = chance.choice(("measured", "float", "counter", "set", "status"))
        ranges.append((chance.choice(tables), next(starts), favourite))
    none = {table for table in (Table.HOLDING, Table.INPUT) if table not in tables}
    bits = chance.random() < 0.3
    if bits:
        ranges.append((chance.choice((Table.COIL, Table.DISCRETE)), chance.choice((0, 0, 1, 16, 100, 1000)), ""))
    else:
        none |= {Table.COIL, Table.DISCRETE}
    manners = Manners(
        chance.choice((125, 125, 125, 100, 64, 32, 16, 10)), chance.choice((3, 3, 2, 0)), chance.choice((2, 2, 2, 2, 0,
        -1)), chance.choice((0.004, 0.01, 0.02, 0.04, 0.08)), frozenset(none if chance.random() < 0.8 else ()),
        says_who=chance.random() < 0.3,
    )  # fmt: skip
    return ranges, (order, chance.choice((0.0, 0.0, 0.7, 1.0))), manners


def made_device(unit_id: int, number: int, made: tuple[list[tuple[Table, int, str]], tuple[ByteOrder, float], Manners],
                layout: int, values: int) -> MadeDevice:  # fmt: skip
    """One device of a kind: of one kind all have the same registers, and their own values."""
    ranges, style, manners = made
    points: list[MadePoint] = []
    taken: set[tuple[Table, int]] = set()
    for at, (table, start, favourite) in enumerate(ranges):
        chance = random.Random(f"{layout} {at}")
        if table.is_bits:
            codec = Codec(ValueType(Kind.BOOL), ByteOrder.AB)
            new = [
                MadePoint(table, start + bit, codec, lambda now, bit=bit: int(math.sin(now / 20 + bit) > 0.4))  # type: ignore[misc]
                for bit in range(chance.randint(4, 40))
            ]
        else:
            new = range_of_points(chance, table, start, style, favourite)
        if taken.isdisjoint((table, address) for point in new for address in range(point.address - 1, point.end + 1)):
            points += new
            taken |= {(table, address) for point in new for address in range(point.address, point.end)}
    shifted = values * 7.3
    for point in points:
        mover = point.mover
        point.mover = lambda now, mover=mover: mover(now + shifted)  # type: ignore[misc]
    return MadeDevice(unit_id, points, manners, number)


def made_line(seed: int, is_serial: bool | None = None, tells_parity: bool = True) -> MadeLine:
    """A serial line or a gateway with some devices of a few kinds."""
    chance = random.Random(f"line {seed}")
    is_serial = chance.random() < 0.5 if is_serial is None else is_serial
    link: Link = TcpLink("192.0.2.1", 502)
    if is_serial:
        baud = chance.choice((2400, 4800, 9600, 9600, 19200, 19200, 38400, 57600, 115200))
        parity, stop = chance.choice(((Parity.EVEN, 1), (Parity.NONE, 1), (Parity.NONE, 2), (Parity.ODD, 1)))
        framing = FramingKind.RTU if chance.random() < 0.92 else FramingKind.ASCII
        if framing is FramingKind.ASCII:
            link = SerialLink("/virtual", SerialSettings(min(baud, 38400), Parity.EVEN, 1, 7), framing)
        else:
            link = SerialLink("/virtual", SerialSettings(baud, parity, stop), framing)
    high = chance.random() < 0.15
    units = chance.sample(range(150, 247) if high else range(1, 60) if chance.random() < 0.7 else range(1, 247), 6)
    kinds = [made_kind(chance) for _ in range(3)]
    slow = chance.random() < 0.15
    devices = []
    for number, unit in enumerate(units[: chance.randint(2, 6)]):
        which = chance.randrange(3)
        made = kinds[which]
        if slow:
            made = (made[0], made[1], Manners(**{**made[2].__dict__, "delay_s": 0.25}))
        devices.append(made_device(unit, which, made, seed * 10 + which, number))
    return MadeLine(link, devices, seed, tells_parity)
