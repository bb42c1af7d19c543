"""What the screen reads: one frozen object, published by one assignment. What is drawn in one tick is drawn from one of
these, and a place is only looked up in the snapshot that it came from."""

from collections.abc import Hashable

from msgspec import Struct

from kanaleto.board.board import Reading, Readings, words_of
from kanaleto.board.crossing import Crossing
from kanaleto.board.health import Tally, WaterLevels, Worst
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.lines.portcounters import PortCounters
from kanaleto.planning.plan import AnyPlace, Identity, Place, Plan
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device, Line, Site


class DeviceStatus(Struct, frozen=True, kw_only=True):
    """A device at one moment. Ages in seconds; `silent_s` is None while it answers, `next_try_s` how long until it is
    asked again, `notice_within_s` the longest until its return is noticed."""

    device: Device
    tally: Tally
    silent_s: float | None
    next_try_s: float
    notice_within_s: float
    reason: str
    trouble: OutcomeKind | None
    has_answered: bool
    is_slow: bool
    points_off: int = 0
    points_refused: int = 0

    @property
    def is_off(self) -> bool:
        """Whether all of it is switched off, for now."""
        return bool(self.device.points) and self.points_off == len(self.device.points)

    def thinking_s(self, link: Link) -> float | None:
        """How long it takes to begin an answer, as measured; None before it has answered."""
        if self.tally.took is None or not self.tally.good:
            return None
        wire_s = link.cost().byte_s * self.tally.bytes_received / max(self.tally.exchanges, 1)
        return max(self.tally.took[1] - wire_s, 0.0)


class LineStatus(Struct, frozen=True, kw_only=True):
    """A line at one moment: its water (busy share and worst outcome a slice, oldest first), what it does now, its
    devices."""

    line: Line
    is_open: bool
    is_off: bool
    why_unreachable: str
    next_connect_s: float
    water: WaterLevels
    busy: float
    exchanges_per_s: float
    overruns: int
    late_answers: int
    has_found_echo: bool
    devices: tuple[DeviceStatus, ...]
    port: PortCounters | None = None  # what its port itself counted, where it does
    lent_to: str = ""  # what of ours has its port now, while it is off for that

    @property
    def levels(self) -> tuple[tuple[float, Worst], ...]:
        return self.water.levels

    @property
    def silent(self) -> tuple[DeviceStatus, ...]:
        return tuple(status for status in self.devices if status.silent_s is not None)


class Snapshot(Struct, frozen=True, kw_only=True):
    """The site, its plan, what the board has, and how lines and devices do, all of loop time `now_s`. `version` counts
    plans: as long as it stays, every place does. `exchanges` counts what was asked since the start; `at_risk` are
    devices that do something of their own when nobody asks them for a while; `past` is what is past a limit, `over`
    what was and nobody has seen."""

    site: Site
    plan: Plan
    board: Readings
    lines: tuple[LineStatus, ...]
    version: int
    now_s: float
    is_held: bool = False
    exchanges: int = 0
    at_risk: tuple[Device, ...] = ()
    past: tuple[Crossing, ...] = ()
    over: tuple[Crossing, ...] = ()

    def reading(self, place: AnyPlace) -> Reading:
        """A point of this snapshot's plan as it stood then."""
        return self.board.reading(place, self.now_s)

    def state_of(self, place: AnyPlace) -> Hashable:
        """All that a point's reading depends on, beside its age and the plan: where it is the same, so is the
        reading."""
        if not isinstance(place, Place) or place.block is None:
            reading = self.reading(place)
            return reading.quality, reading.reason, repr(reading.value)
        board, index = self.board, place.block.index
        record, trouble = board.records[index], board.troubles[index]
        return (
            words_of(record.data, place) if record is not None else None,
            (trouble.reason, trouble.is_refusal) if trouble is not None else None,
            board.exponent_of(place.device.name, place.point),
            self.is_late(place),
        )

    def is_late(self, place: Place) -> bool:
        """Whether what was read last of a point is too old by now."""
        record = self.board.records[place.block.index] if place.block is not None else None
        return record is not None and self.now_s - record.at_s > self.board.stale_after_s(place)

    def load_of(self, device_name: str) -> tuple[float, float, bool]:
        """The share of its line's time that a device's blocks take at their periods, the line time of asking each once,
        and whether its own answer time as measured is in that. Blocks without a pause and on demand do not count."""
        part, found = self.plan.part_of(device_name), self.status_of(device_name)
        if part is None or found is None:
            return 0.0, 0.0, False
        measured = found[1].thinking_s(part.line.link)
        more_s = measured - part.line.link.assumed_s if measured is not None else 0.0
        blocks = [block for block in part.blocks if block.period_s > 0]
        share = sum((block.cost_s + more_s) / block.period_s for block in blocks)
        return share, sum(block.cost_s + more_s for block in blocks), measured is not None

    def load(self, line: Line) -> float:
        """The share of a line's time that all its devices take; above 1 they cannot all be asked as often."""
        return sum(self.load_of(part.device.name)[0] for part in self.plan.parts if part.line.name == line.name)

    @property
    def off(self) -> str:
        """What is switched off for now, in a few words."""
        lines = sum(line.is_off and not line.lent_to for line in self.lines)
        devices = sum(status.is_off for line in self.lines if not line.is_off for status in line.devices)
        points = sum(status.points_off for line in self.lines for status in line.devices if not status.is_off)
        counts = ((lines, "line"), (devices, "device"), (points, "point"))
        parts = [f"{count} {word}{'s' if count != 1 else ''}" for count, word in counts if count]
        return f"{', '.join(parts)} off" if parts else ""

    def place_of(self, identity: Identity | None) -> AnyPlace | None:
        """Where a point stands; None where there is no such point any more."""
        return self.plan.place_of(identity) if identity is not None else None

    def status_of(self, device_name: str) -> tuple[LineStatus, DeviceStatus] | None:
        """How a device does, with its line."""
        for line in self.lines:
            for status in line.devices:
                if status.device.name == device_name:
                    return line, status
        return None
