"""What a bench tells of itself, as values: they go as JSON from the process that stands in to whoever shows it. Times
are wall times in seconds, addresses those of the wire."""

from msgspec import Struct


class ServedLine(Struct, frozen=True):
    """A line at which devices stand in: where, and how many masters asked there lately."""

    name: str
    link: str
    devices: tuple[str, ...]
    masters: int = 0


class ServedDevice(Struct, frozen=True):
    """How a device that stands in is asked, and what it does wrong on purpose."""

    name: str
    line: str
    unit_id: int
    per_s: float
    times: int
    faults: tuple[str, ...] = ()
    is_silenced: bool = False
    """Whether somebody else answers under its unit ID."""


class FaultState(Struct, frozen=True):
    target: str
    name: str
    text: str
    since_s: float


class AskState(Struct, frozen=True):
    """A span that a master reads, of the device that is looked at."""

    master: str
    function: int
    address: int
    count: int
    times: int
    last_s: float
    period_s: float | None = None


class WrittenState(Struct, frozen=True):
    """The last write of a point, or what was refused: bits or words as they came, what stood there, and the code."""

    point: str
    at_s: float
    master: str
    address: int
    written: tuple[int, ...]
    old: tuple[int, ...] | None = None
    code: int | None = None


class MasterState(Struct, frozen=True):
    name: str
    line: str
    per_s: float
    times: int
    refused: int
    last_s: float
    code: int | None = None
    device: str = ""


class LookState(Struct, frozen=True):
    """One device in full: its tables (first address, digits of all that stands there), what is held by hand, what
    moves slowly, states by their names, what masters wrote, and what they ask."""

    device: str
    tables: dict[str, tuple[int, str]]
    held: tuple[str, ...] = ()
    slowly: tuple[str, ...] = ()
    states: dict[str, str] = {}
    written: tuple[WrittenState, ...] = ()
    asks: tuple[AskState, ...] = ()


class ExpectState(Struct, frozen=True):
    text: str
    outcome: str = ""
    """passed, failed or void; nothing while it cannot be known yet."""
    reason: str = ""


class StepState(Struct, frozen=True):
    at_s: float
    end_s: float
    fault: str
    target: str
    expects: tuple[ExpectState, ...] = ()


class RehearsalState(Struct, frozen=True):
    """A rehearsal that runs or is over; `waits_for` are devices that nobody has asked yet."""

    name: str
    now_s: float
    lasts_s: float
    steps: tuple[StepState, ...]
    waits_for: tuple[str, ...] = ()
    is_over: bool = False

    @property
    def counts(self) -> dict[str, int]:
        outcomes = [expect.outcome for step in self.steps for expect in step.expects]
        return {outcome: outcomes.count(outcome) for outcome in ("passed", "failed", "void")}


class BenchState(Struct, frozen=True):
    """All of it, a few times a second."""

    at_s: float
    seed: int = 0
    left_out_s: float = 0.0
    lines: tuple[ServedLine, ...] = ()
    devices: tuple[ServedDevice, ...] = ()
    masters: tuple[MasterState, ...] = ()
    faults: tuple[FaultState, ...] = ()
    look: LookState | None = None
    can_undo: str = ""
    rehearsal: RehearsalState | None = None

    def line(self, name: str) -> ServedLine | None:
        return next((line for line in self.lines if line.name == name), None)

    def device(self, name: str) -> ServedDevice | None:
        return next((device for device in self.devices if device.name == name), None)
