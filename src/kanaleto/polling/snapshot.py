"""What the screen reads: one frozen object, published by one assignment. What is drawn in one tick is drawn from one of
these, and a place is only looked up in the snapshot that it came from."""

from dataclasses import dataclass

from kanaleto.lines.outcome import OutcomeKind
from kanaleto.planning.plan import AnyPlace, Identity, Plan
from kanaleto.polling.board import Reading, Readings
from kanaleto.polling.health import Tally, WaterLevels, Worst
from kanaleto.site.model import Device, Line, Site


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceStatus:
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


@dataclass(frozen=True, slots=True, kw_only=True)
class LineStatus:
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

    @property
    def levels(self) -> tuple[tuple[float, Worst], ...]:
        return self.water.levels

    @property
    def silent(self) -> tuple[DeviceStatus, ...]:
        return tuple(status for status in self.devices if status.silent_s is not None)


@dataclass(frozen=True, slots=True, kw_only=True)
class Snapshot:
    """The site, its plan, what the board has, and how lines and devices do, all of loop time `now_s`. `version` counts
    plans: as long as it stays, every place does. `exchanges` counts what was asked since the start; `at_risk` are
    devices that do something of their own when nobody asks them for a while."""

    site: Site
    plan: Plan
    board: Readings
    lines: tuple[LineStatus, ...]
    version: int
    now_s: float
    is_held: bool = False
    exchanges: int = 0
    at_risk: tuple[Device, ...] = ()

    def reading(self, place: AnyPlace) -> Reading:
        """A point of this snapshot's plan as it stood then."""
        return self.board.reading(place, self.now_s)

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
