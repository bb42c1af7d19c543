"""Made-up lines: devices whose registers, types, manners and habits are drawn by a seed, behind memory channels on a
virtual clock. What is there is known, so that whatever looks for it can be judged."""

import math
import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from kanaleto.lines.exchange import Exchanger
from kanaleto.lines.memory import MemoryChannel
from kanaleto.lines.opening import framing_of
from kanaleto.site.link import FramingKind, Link, Parity, SerialLink, SerialSettings, TcpLink
from kanaleto.survey.concluding import drafts_of
from kanaleto.survey.draft import DraftRow
from kanaleto.survey.everything import Everything
from kanaleto.values.codec import Codec
from kanaleto.values.types import Kind, Order, ValueType, parse_order, parse_type
from kanaleto.wire.codes import Table
from kanaleto.wire.frames import Frame, Role

Pieces = list[tuple[float, bytes]]
Mover = Callable[[float], float | str]
READS = {1, 2, 3, 4, 0x11, 0x2B}
_SHIPS = ("Alder", "Birch", "Cedar", "Drake", "Ember", "Fjord", "Grebe", "Heron")


@dataclass
class MadePoint:
    table: Table
    address: int
    codec: Codec
    mover: Mover

    @property
    def end(self) -> int:
        return self.address + (1 if self.table.is_bits else self.codec.registers)

    def data(self, at: float) -> bytes:
        value = self.mover(at)
        return self.codec.encode(value if isinstance(value, str) else self._fitted(value), is_exact=False)

    def _fitted(self, value: float) -> float:
        return value if self.codec.type.is_float else round(value)


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


@dataclass
class MadeDevice:
    unit_id: int
    points: list[MadePoint]
    manners: Manners
    kind: int
    dead_until: float = -1.0
    _by_table: dict[Table, dict[int, MadePoint]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for table in Table:
            own = [point for point in self.points if point.table is table]
            self._by_table[table] = {at: point for point in own for at in range(point.address, point.end)}

    def addresses(self, table: Table) -> set[int]:
        return set(self._by_table[table])

    def requests_for_all(self) -> int:
        """As few as read all that it holds, where that is known."""
        count = 0
        for table, own in self._by_table.items():
            most = 16 * self.manners.most if table.is_bits else self.manners.most
            reached = -1
            for address in sorted(own):
                if address > reached:
                    end = address
                    while end + 1 in own and end + 1 - address < most and end + 1 not in self.manners.walls:
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
        if count > (16 * manners.most if table.is_bits else manners.most):
            return bytes((function | 0x80, manners.too_long)) if manners.too_long else None
        there = self._by_table[table]
        span = range(first, first + count)
        if manners.hole != -1 and any(address not in there for address in span):
            return bytes((function | 0x80, manners.hole)) if manners.hole else None
        if span[-1] > 0xFFFF or any(wall in span[1:] for wall in manners.walls):
            return bytes((function | 0x80, 2)) if manners.hole else None
        data = self._bits(there, span, at) if table.is_bits else self._words(there, span, at)
        return bytes((function, len(data))) + data

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
        self.unplugged: Callable[[int, float], bool] = lambda unit, at: False
        self.noise: Callable[[float], bool] = lambda at: False
        self.channels: list[MemoryChannel] = []
        self._busy_until = 0.0

    def opener(self, link: Link) -> Exchanger:
        framing = framing_of(link)
        decoder = framing.decoder(Role.REQUESTS)
        settings = link.settings if isinstance(link, SerialLink) else None
        character_s = settings.character_s if settings is not None else 0.0

        def far_end(data: bytes, at: float) -> Pieces:
            if isinstance(link, SerialLink) and not self._is_understood(link):
                return []
            pieces: Pieces = []
            for event in decoder.feed(data):
                if isinstance(event, Frame):
                    pieces += self._answer(event, at, framing.encode, character_s)
            return pieces

        gap_s = settings.gap_s if settings is not None else 0.0
        channel = MemoryChannel(far_end, character_s, gap_s)
        self.channels.append(channel)
        return Exchanger(channel, framing, quarantine_s=0.0)

    def _is_understood(self, link: SerialLink) -> bool:
        own = self.link
        if isinstance(own, SerialLink) and not self.tells_parity:
            return (link.settings.baud, link.framing) == (own.settings.baud, own.framing)
        return isinstance(own, SerialLink) and (link.settings, link.framing) == (own.settings, own.framing)

    def _answer(self, frame: Frame, at: float, encode: Callable[..., bytes], character_s: float) -> Pieces:
        self.requests.append((at, frame.unit_id, frame.pdu))
        if frame.pdu[0] not in READS or (frame.unit_id == 0 and self.is_serial):
            self.outside.append(frame.pdu)
        device = self.devices.get(frame.unit_id)
        behind_s = 0.0
        if not self.is_serial:  # a gateway: its own serial line behind it, one request at a time
            behind_s = (len(frame.pdu) + 3) * 11 / 19200 + 0.004
            at = max(at, self._busy_until) if self.at_once == 1 else at
        pdu = device.answer(frame.pdu, at) if device is not None and not self.unplugged(frame.unit_id, at) else None
        if pdu is None and not self.is_serial:
            pdu = bytes((frame.pdu[0] | 0x80, 0x0B))
            done = at + behind_s + 0.15
        elif pdu is None:
            return []
        else:
            done = at + behind_s + (device.manners.delay_s if device is not None else 0.0)
            done += (len(pdu) + 3) * 11 / 19200 if not self.is_serial else 0.0
        self._busy_until = done
        raw = encode(frame.unit_id, pdu, frame.transaction or 0)
        if self.noise(at):
            raw = raw[:-1] + bytes((raw[-1] ^ 0x55,))
        return [(done + len(raw) * character_s, raw)]


def moving(chance: random.Random, kind: str) -> tuple[Kind, Mover]:
    """A kind of value and how it moves."""
    phase, period = chance.uniform(0, 6.28), chance.uniform(15, 200)
    noise_seed = chance.random()

    def wave(base: float, swing: float, noise: float) -> Mover:
        def at(now: float) -> float:
            jitter = random.Random(f"{noise_seed}{now:.3f}").gauss(0, 1)
            return base + swing * math.sin(6.2832 * now / period + phase) + noise * jitter

        return at

    if kind == "float":
        base = 10 ** chance.uniform(-0.5, 3.5) * chance.choice((1, 1, 1, 1, -1))
        move = wave(base, abs(base) * chance.uniform(0.005, 0.3), abs(base) * chance.uniform(0.0005, 0.01))
        if chance.random() < 0.2:
            return Kind.FLOAT32, lambda now: round(float(move(now)), 1)
        return Kind.FLOAT32, move
    if kind == "double":
        base = 10 ** chance.uniform(0, 4)
        return Kind.FLOAT64, wave(base, base * chance.uniform(0.01, 0.2), base * 0.002)
    if kind == "measured":
        base = chance.choice((chance.uniform(50, 900), chance.uniform(900, 6000), chance.uniform(-300, 300)))
        return (Kind.INT16 if base < 400 and chance.random() < 0.7 else Kind.UINT16), wave(
            abs(base) + 40 if base >= 0 else base, abs(base) * 0.1 if base >= 0 else 5, 2.0
        )
    if kind == "mains":
        return chance.choice(
            ((Kind.UINT16, wave(5000, 3, 1.5)), (Kind.FLOAT32, wave(50, 0.03, 0.01)), (Kind.UINT16, wave(2310, 20, 4)),
             (Kind.FLOAT32, wave(231, 1.5, 0.4)))
        )  # fmt: skip
    if kind == "power":
        base = chance.uniform(2000, 300000) * chance.choice((1, 1, -1))
        return Kind.INT32, wave(base, abs(base) * 0.15, abs(base) * 0.004)
    if kind in ("counter", "long"):
        start = chance.uniform(1e3, 5e7) if kind == "counter" else chance.uniform(1e6, 1e13)
        rate = 10 ** chance.uniform(-0.7, 1.7)
        return (Kind.UINT32 if kind == "counter" else Kind.UINT64), lambda now: math.floor(start + rate * now)
    if kind == "hours":
        start = chance.randint(3, 30000)
        return Kind.UINT16, lambda now: start + math.floor(now / 90)
    if kind == "set":
        number = chance.choice((5, 10, 15, 20, 25, 50, 80, 100, 150, 250, 400, 500, 1000, 1200, 3000))
        return Kind.UINT16, lambda now: number
    if kind == "fset":
        amount = chance.choice((0.5, 1.5, 2.5, 3.7, 10.0, 12.5, 20.0, 37.5, 45.0, 55.0, 80.0, 100.0, 650.0))
        return Kind.FLOAT32, lambda now: amount
    if kind == "status":
        first, second = chance.sample(range(16), 2)
        still = sum(1 << bit for bit in chance.sample(range(16), 2))
        return Kind.UINT16, lambda now: (
            still ^ (1 << first if math.sin(now / period * 6.28 + phase) > 0.3 else 0) ^ (
                1 << second if math.sin(now / 37 + phase) > 0.8 else 0)
        )  # fmt: skip
    if kind == "zero":
        return Kind.UINT16, lambda now: 0
    if kind == "time":
        begun = datetime(2026, 11, 3, 4, tzinfo=UTC)
        return Kind.UNIX32, lambda now: (begun + timedelta(seconds=int(now))).strftime("%Y-%m-%d %H:%M:%S")
    if kind == "clock":
        begin = datetime(2026, 11, chance.randint(1, 28), 8, tzinfo=UTC)
        return Kind.CLOCK3, lambda now: (begin + timedelta(seconds=int(now))).strftime("%Y-%m-%d %H:%M:%S")
    if kind == "id":
        number = chance.randint(1_000_000, 90_000_000)
        return Kind.UINT32, lambda now: number
    raise ValueError(kind)


_MIX = (
    ("measured", 5), ("float", 5), ("mains", 2), ("power", 1.5), ("counter", 2), ("long", 0.7), ("hours", 1),
    ("set", 3), ("fset", 1.5), ("status", 2), ("zero", 1.5), ("time", 0.2), ("clock", 0.15), ("id", 0.4),
    ("double", 0.4), ("text", 0.5),
)  # fmt: skip


def _range_of_points(
    chance: random.Random, table: Table, start: int, style: tuple[Order, float], favourite: str
) -> list[MadePoint]:
    order, floats = style
    points, at = [], start
    names = [name for name, _ in _MIX]
    weights = [weight * (4 if name == favourite else 1) for name, weight in _MIX]
    for _ in range(chance.randint(4, 22)):
        name = chance.choices(names, weights)[0]
        if name in ("measured", "power") and chance.random() < floats:
            name = "float"
        if name == "text":
            text = f"{chance.choice(_SHIPS)} {chance.randint(1, 900)}-{chance.choice('ABX')}"
            codec = Codec(ValueType(Kind.TEXT, chance.choice((16, 20))), Order.AB)
            mover: Mover = lambda now, text=text: text  # type: ignore[misc] # noqa: E731
        else:
            kind, mover = moving(chance, name)
            value_type = ValueType(kind)
            codec = Codec(value_type, order if value_type.is_wide else Order.AB)
        points.append(MadePoint(table, at, codec, mover))
        at = points[-1].end
        if chance.random() < 0.04:
            at += chance.choice((1, 1, 2, 3, 6))
    return points


def _starts(chance: random.Random) -> Iterator[int]:
    """Where a maker begins ranges."""
    plus = chance.choice((0, 0, 1))
    if chance.random() < 0.6:
        choices = [
            0,
            100,
            200,
            300,
            400,
            500,
            1000,
            1100,
            2000,
            3000,
            4000,
            5000,
            6000,
            8000,
            10000,
            20000,
            30000,
            40000,
        ]
        choices += [50, 150, 250, 600, 1500, 2500]
    else:
        choices = [0, 0x10, 0x20, 0x40, 0x80, 0x100, 0x200, 0x300, 0x400, 0x800, 0x1000, 0x1100, 0x2000, 0x3000, 0x5000]
        choices += [0x8000, 0xF000]
    weights = [1 / (1 + 0.35 * number) for number in range(len(choices))]
    while True:
        start = chance.choices(choices, weights)[0] + plus
        yield start + (chance.randint(1, 90) if chance.random() < 0.04 else 0)


def made_kind(chance: random.Random) -> tuple[list[tuple[Table, int, str]], tuple[Order, float], Manners]:
    """A type of device: where its ranges begin and what they mostly hold, its order, its manners."""
    order = chance.choice((Order.ABCD, Order.ABCD, Order.CDAB, Order.CDAB, Order.BADC, Order.DCBA))
    tables = chance.choice(
        ((Table.HOLDING,), (Table.HOLDING, Table.INPUT), (Table.INPUT, Table.HOLDING), (Table.INPUT,))
    )
    starts = _starts(chance)
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


def made_device(unit_id: int, number: int, made: tuple[list[tuple[Table, int, str]], tuple[Order, float], Manners],
                layout: int, own: int) -> MadeDevice:  # fmt: skip
    """One device of a kind: of one kind all have the same registers, and their own values."""
    ranges, style, manners = made
    points: list[MadePoint] = []
    taken: set[tuple[Table, int]] = set()
    for at, (table, start, favourite) in enumerate(ranges):
        chance = random.Random(f"{layout} {at}")
        if table.is_bits:
            codec = Codec(ValueType(Kind.BOOL), Order.AB)
            new = [
                MadePoint(table, start + bit, codec, lambda now, bit=bit: int(math.sin(now / 20 + bit) > 0.4))  # type: ignore[misc]
                for bit in range(chance.randint(4, 40))
            ]
        else:
            new = _range_of_points(chance, table, start, style, favourite)
        if taken.isdisjoint((table, address) for point in new for address in range(point.address - 1, point.end + 1)):
            points += new
            taken |= {(table, address) for point in new for address in range(point.address, point.end)}
    shifted = own * 7.3
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


@dataclass
class Judged:
    """What a search has found of a made-up line, beside what is there; `right` of `points` are cut, ordered and read as
    they are in every sample, those that were zero throughout are counted apart."""

    has_settings: bool
    missing_units: list[int]
    invented_units: list[int]
    addresses: int
    found: int
    points: int
    right: int
    zeros: int


def judged(line: MadeLine, search: Everything) -> Judged:
    link, own = search.link, line.link
    has_settings = link == own
    if isinstance(link, SerialLink) and isinstance(own, SerialLink) and not line.tells_parity:
        has_settings = (link.settings.baud, link.framing) == (own.settings.baud, own.framing)
    units, found_units = set(line.devices), set(search.found)
    turns = search.turns.units if search.turns is not None else {}
    drafts = {draft.unit_id: draft for draft in drafts_of(search)}
    result = Judged(has_settings, sorted(units - found_units), sorted(found_units - units), 0, 0, 0, 0, 0)
    for unit, device in line.devices.items():
        result.addresses += sum(len(device.addresses(table)) for table in Table)
        for table in turns[unit].survey.tables if unit in turns else ():
            reads = {at for first, last in table.runs for at in range(first, last + 1)}
            result.found += len(reads & device.addresses(table.table))
        rows = {(row.table, row.address): row for row in drafts[unit].rows} if unit in drafts else {}
        for point in device.points:
            if point.table.is_bits:
                continue
            samples = [point.data(3000 + 7.3 * number) for number in range(20)]
            if not any(any(sample) for sample in samples):
                result.zeros += 1
                continue
            result.points += 1
            row = rows.get((point.table, point.address))
            result.right += row is not None and _reads_alike(row, point, samples)
    return result


def _reads_alike(row: DraftRow, point: MadePoint, samples: list[bytes]) -> bool:
    value_type = parse_type(row.type)
    told = dict(row.cells).get("order")
    order = parse_order(told) if told else Order.ABCD if value_type.is_wide else Order.AB
    codec = Codec(value_type, order)
    if codec.registers != point.codec.registers:
        return False
    return all(codec.decode(sample) == point.codec.decode(sample) for sample in samples)
