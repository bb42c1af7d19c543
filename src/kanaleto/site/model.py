"""A site and all in it, as values. Settings that reach downwards (line to device, device to point) are resolved
here."""

from bisect import bisect_left
from collections.abc import Iterable, Iterator
from enum import Enum
from functools import cached_property
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import force_setattr, replace

from kanaleto.site.bridges import Bridge, TlsServing
from kanaleto.site.counting import Counting, Numbering
from kanaleto.site.links.link import Link
from kanaleto.site.proving import PROVED_ONCE, Proving
from kanaleto.site.wiring import NO_WIRING, Wiring
from kanaleto.values.codec import Codec
from kanaleto.values.types import ByteOrder, Kind
from kanaleto.wire.codes import Table


class Spans:
    """Spans from a first address up to (not with) an end."""

    def __init__(self, spans: Iterable[tuple[int, int]]) -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        for start, end in sorted(spans):
            if self._ends and start <= self._ends[-1]:
                self._ends[-1] = max(self._ends[-1], end)
            else:
                self._starts.append(start)
                self._ends.append(end)

    def touch(self, start: int, end: int) -> bool:
        """Whether any address from `start` up to (not with) `end` is one of theirs."""
        at = bisect_left(self._starts, end) - 1  # the last that begins before the end
        return at >= 0 and self._ends[at] > start


DEMAND = -1.0  # a period that means: only when asked


class Access(Enum):
    READ = "r"
    WRITE = "w"
    BOTH = "rw"

    @property
    def is_read(self) -> bool:
        return self is not Access.WRITE

    @property
    def is_written(self) -> bool:
        return self is not Access.READ


class Writing(Enum):
    """How a site, a line, a device or a point may be written from the screen. The value is the word used in files."""

    UNLOCK = "unlock"  # once it is unlocked
    CONFIRM = "confirm"  # and each write asked
    NEVER = "never"


class PointRole(Enum):
    """What a point is for whoever works the device. The value is the word used in maps."""

    COMMAND = "command"
    STATUS = "status"
    SETPOINT = "setpoint"
    ACTUAL = "actual"


class PointWriting(Struct, frozen=True):
    """What a map says of writing a point: its role, the point that shows what this one does, how it may be written, and
    whether a write may be sent again where no answer came."""

    role: PointRole | None = None
    feedback: str = ""
    how: Writing = Writing.UNLOCK
    may_repeat: bool = False


PLAIN_WRITING = PointWriting()


class PortSetting(Enum):
    """What a register says of the device's own port. The value is the word used in maps."""

    UNIT_ID = "unit_id"
    BAUD = "baud"
    PARITY = "parity"
    STOP = "stop"


class Limits(Struct, frozen=True, kw_only=True):
    """Limits in engineering units; None where the map says nothing. A limit is passed once a value has been at it or
    beyond for `delay_s`, and no more once a value is back by more than `hysteresis`. `warn_on`, `alarm_on`: values of
    a state or a bit, or the numbers of bits of a word of bits."""

    range_low: float | None = None
    range_high: float | None = None
    warn_low: float | None = None
    warn_high: float | None = None
    alarm_low: float | None = None
    alarm_high: float | None = None
    hysteresis: float = 0.0
    delay_s: float = 0.0
    warn_on: tuple[int, ...] = ()
    alarm_on: tuple[int, ...] = ()

    @property
    def can_be_passed(self) -> bool:
        """Whether there is any."""
        numbers = (self.range_low, self.range_high, self.warn_low, self.warn_high, self.alarm_low, self.alarm_high)
        return any(number is not None for number in numbers) or bool(self.warn_on or self.alarm_on)


NO_LIMITS = Limits()
LIMITS = Limits.__struct_fields__[:6]
"""Names of the limits that are numbers, as maps and site files have them, by pairs."""
LIMIT_MANNERS = ("hysteresis", "delay_s")
LIMIT_STATES = ("warn_on", "alarm_on")


class Point(Struct, frozen=True, gc=False):
    """One row of a map. `address` is the address on the wire; `period_s` is 0 for without a pause, DEMAND for only when
    asked."""

    name: str
    table: Table
    address: int
    codec: Codec
    period_s: float
    unit: str = ""
    decimals: int | None = None
    access: Access = Access.READ
    labels: dict[int, str] = field(default_factory=dict)
    limits: Limits = NO_LIMITS
    group: str = ""
    initial: float | str | None = None
    note: str = ""
    setting: PortSetting | None = None
    exponent: str = ""
    """The point of the same device whose value is the power of ten for this one."""
    deadband: float = 0.0
    """How much it must change to be recorded again, in engineering units; 0 records every change."""
    writing: PointWriting = PLAIN_WRITING
    sure: float | None = None
    """How sure it is that the words are read rightly, 0 to 1, where they were only drafted; None where somebody
    knows."""
    words: bytes | None = None
    """The registers (or one byte for a bit) with which a simulated device starts, instead of `initial`."""
    counts: str = ""
    """What of its line the device counts here: "errors", or nothing."""
    source: str = ""
    """Of a device that a bridge composes: Device/Point, or = and an expression, whose value stands here."""
    proving: Proving = PROVED_ONCE
    """What of it is to be proved before a job is done."""
    size: int = 0
    """Registers, or bits in a table of bits; reckoned."""
    end: int = 0
    """The address after its last; reckoned."""

    def __post_init__(self) -> None:
        size = 1 if self.table.is_bits else self.codec.registers
        force_setattr(self, "size", size)
        force_setattr(self, "end", self.address + size)

    @property
    def is_state(self) -> bool:
        """Whether its values are states or bits, which are no heights: one is not more than another."""
        codec = self.codec
        if codec.type.kind in (Kind.BOOL, Kind.BITS, Kind.HEX):
            return True
        return bool(self.labels) and not codec.type.is_float and codec.scale is None

    __hash__ = None  # type: ignore[assignment]


class DeviceLimits(Struct, frozen=True, kw_only=True, dict=True):
    """What one device bears: items a request, and what is never to be read (table, first, last address)."""

    max_registers: int = 125
    max_bits: int = 2000
    max_write_registers: int = 123
    max_write_bits: int = 1968
    max_gap: int = 0
    functions: tuple[int, ...] | None = None
    write_with: str = "auto"
    never_read: tuple[tuple[Table, int, int], ...] = ()

    def most_read(self, table: Table) -> int:
        return self.max_bits if table.is_bits else self.max_registers

    def forbids_reading(self, table: Table, first: int, last: int) -> bool:
        return bool(self.never_read) and self._never_read_of[table].touch(first, last + 1)

    @cached_property
    def _never_read_of(self) -> dict[Table, Spans]:
        return {table: Spans((low, high + 1) for of, low, high in self.never_read if of is table) for table in Table}


class Move(Struct, frozen=True):
    """What moves a point: its kind, its numbers by name in the order of the file, a text (formula, what is followed,
    the file of a list), the column of a list, what comes behind its end, when it moves at all, and its noise."""

    point: str
    kind: str
    numbers: tuple[tuple[str, float], ...] = ()
    text: str = ""
    column: str = ""
    then: str = "again"
    condition: str = ""
    noise: float = 0.0
    rows: tuple[tuple[float, float], ...] = ()
    """Of a list: when each begins to hold (seconds), and its value; the last may only say when the list ends."""

    def number(self, name: str, default: float = 0.0) -> float:
        return next((number for key, number in self.numbers if key == name), default)


class Quantity(Struct, frozen=True):
    """A hidden number in full precision, and what it is next."""

    name: str
    start: float
    next: str
    low: float | None = None
    high: float | None = None


class MachineState(Struct, frozen=True):
    """Bits that are on (by label or number), or a value (a label or a number); where it goes from there, in order."""

    name: str
    bits: tuple[str | int, ...] | None = None
    value: str | float | None = None
    to: tuple[tuple[str, str], ...] = ()
    after_s: float = 0.0


class Machine(Struct, frozen=True):
    """States that a word, or a register of states, goes through; it begins with the first."""

    point: str
    states: tuple[MachineState, ...]


class Behaviour(Struct, frozen=True):
    """How a simulated device answers. Seconds; None where nothing is said."""

    delay_s: tuple[float, float] = (0.0, 0.0)
    receive_bytes: int | None = None
    too_long: str = "exception"
    connections: int | None = None
    with_more: str = "refused"
    idle_s: float | None = None
    settings_after: str = "at once"
    errors_in: str = ""

    @property
    def answers_otherwise(self) -> bool:
        """Whether an answer is anything but what stands in the registers, at once."""
        return bool(
            self.delay_s != (0.0, 0.0)
            or self.receive_bytes is not None
            or self.too_long != "exception"
            or self.errors_in
        )


class Simulated(Struct, frozen=True):
    """What only matters when the device is simulated: what it answers for addresses that its map leaves out, its
    identification (object number, text), its server ID, files (number, first and last record), queues (address,
    words); whether it is strict about the pauses of RTU (serial line 1.02, 2.5.1)."""

    answers_gaps_with_zero: bool = False
    identity: tuple[tuple[int, str], ...] = ()
    server_id: str = ""
    files: tuple[tuple[int, int, int], ...] = ()
    fifos: tuple[tuple[int, tuple[int, ...]], ...] = ()
    is_strict: bool = False
    moves: tuple[Move, ...] = ()
    quantities: tuple[Quantity, ...] = ()
    machines: tuple[Machine, ...] = ()
    behaves: Behaviour = Behaviour()

    @property
    def moves_any(self) -> bool:
        return bool(self.moves or self.quantities or self.machines)


class Device(Struct, frozen=True, dict=True):
    """A slave on a line, with the points of its map."""

    name: str
    unit_id: int
    points: tuple[Point, ...]
    timeout_s: float
    retries: int
    map_path: Path | None = None
    numbering: Counting = Numbering.PROTOCOL
    order: ByteOrder | None = None
    period_s: float = 1.0
    limits: DeviceLimits = DeviceLimits()
    watchdog_s: float | None = None
    is_enabled: bool = True
    enabled_by: str = ""
    pause_after_connect_s: float = 0.0
    pause_after_write_s: float = 0.0
    simulated: Simulated = Simulated()
    max_points: int | None = None
    writing: Writing = Writing.UNLOCK
    tag: str = ""
    """The point by which it is known again before it is written to."""
    note: str = ""

    @cached_property
    def bits_of(self) -> dict[tuple[Table, int], list[Point]]:
        """Points that are bits, or fields of bits, by the word that they share."""
        found: dict[tuple[Table, int], list[Point]] = {}
        for point in self.points:
            if point.codec.bits:
                found.setdefault((point.table, point.address), []).append(point)
        return found

    @cached_property
    def only_written(self) -> dict[Table, Spans]:
        """Addresses of points that are not read."""
        unread = [point for point in self.points if not point.access.is_read]
        return {table: Spans((point.address, point.end) for point in unread if point.table is table) for table in Table}


class Line(Struct, frozen=True):
    """One serial or TCP link and the devices on it. All times in seconds."""

    name: str
    link: Link
    devices: tuple[Device, ...]
    timeout_s: float = 1.0
    retries: int = 1
    gap_s: float = 0.0
    connect_timeout_s: float = 3.0
    reconnect_s: float | None = None
    in_flight: int = 1
    connects_per_request: bool = False
    tls_serving: TlsServing | None = None
    max_points: int | None = None
    writing: Writing = Writing.UNLOCK
    prefer_port: str = ""
    """The stable name of the adapter that its port should be."""
    origin: str = ""
    """Where its answers come from, by the word of `site.origin`, where the site says so."""
    led_from: Link | None = None
    """The link that the site names, while the line is led elsewhere."""
    wiring: Wiring = NO_WIRING

    @property
    def point_count(self) -> int:
        return sum(len(device.points) for device in self.devices)

    @property
    def first_pause_s(self) -> float:
        """Before it is connected again, the first time; the pause grows from then on."""
        return self.reconnect_s if self.reconnect_s is not None else 1.0


def shared_with(site: "Site", old: "Site") -> "Site":
    """The same site with the very lines and devices of `old` wherever they are equal."""
    old_devices = {device.name: device for _, device in old.devices()}
    old_lines = {line.name: line for line in old.lines}
    lines = []
    for line in site.lines:
        devices = tuple(kept if (kept := old_devices.get(new.name)) == new and kept else new for new in line.devices)
        shared = replace(line, devices=devices)
        old_line = old_lines.get(line.name)
        lines.append(old_line if old_line is not None and old_line == shared else shared)
    return replace(site, lines=tuple(lines))


class Derived(Struct, frozen=True):
    """A point computed from others: its formula names them as [Device/Point]."""

    name: str
    formula: str
    unit: str = ""
    decimals: int | None = None
    limits: Limits = NO_LIMITS
    note: str = ""


KEEPING_EVENTS = (
    "device lost", "line down", "device slow", "exception", "garbled", "unexpected", "unanswered", "late", "overrun",
    "watchdog", "gateway", "limit",
)  # fmt: skip
"""Words of the events upon which minutes may be laid aside."""


class Keeping(Struct, frozen=True):
    """What is kept of a site: events (by the words of their kinds) and conditions (formulas that become true) upon
    which the minutes round them are laid aside; how many days the record goes back, and how large it may grow."""

    lay_aside: tuple[str, ...] = ("device lost", "line down")
    days: int = 400
    most_mb: int = 2000

    @property
    def conditions(self) -> tuple[str, ...]:
        """Those that are formulas."""
        return tuple(text for text in self.lay_aside if text not in KEEPING_EVENTS)


class Site(Struct, frozen=True):
    name: str
    lines: tuple[Line, ...]
    path: Path | None = None
    derived: tuple[Derived, ...] = ()
    max_points: int | None = None
    keeping: Keeping = Keeping()
    writing: Writing = Writing.UNLOCK
    bench_seed: int = 0
    bridges: tuple[Bridge, ...] = ()
    composing: tuple[Derived, ...] = ()
    """The expressions of composed devices: derived points, for whoever runs the bridges."""

    def devices(self) -> Iterator[tuple[Line, Device]]:
        for line in self.lines:
            for device in line.devices:
                yield line, device

    @property
    def device_count(self) -> int:
        return sum(len(line.devices) for line in self.lines)

    @property
    def point_count(self) -> int:
        return sum(len(device.points) for _, device in self.devices())
