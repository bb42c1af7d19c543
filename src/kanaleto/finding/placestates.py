"""What surveys have found so far, frozen: made on the loop that they run on, for whoever looks from another thread."""

from collections.abc import Mapping

from msgspec import Struct, field
from msgspec.structs import replace

from kanaleto.probing.directory import Directory
from kanaleto.probing.draftmap import UnitDraft
from kanaleto.probing.hosts import HostFound, HostSurvey
from kanaleto.probing.listening import LineListener
from kanaleto.probing.networkadapters import Adapter
from kanaleto.probing.overhearing import Asked
from kanaleto.probing.own_settings import OwnSetting
from kanaleto.probing.portsettings import SettingsSurvey, Tried
from kanaleto.probing.question import Timing
from kanaleto.probing.registers import RegisterSurvey
from kanaleto.probing.rollcall import Called, RollCall
from kanaleto.probing.units import UnitSurvey
from kanaleto.probing.unitstates import UnitFound, UnitState
from kanaleto.site.links.link import Link
from kanaleto.unknown.everything import Everything, merged
from kanaleto.wire.codes import Table
from kanaleto.wire.pdu import Request

_MOST_HEARD = 200  # questions overheard that are shown


class SettingsState(Struct, frozen=True):
    """`tried` are copies; `trying` and `found` are among them, by number, -1 for none."""

    tried: tuple[Tried, ...]
    trying: int
    found: int
    asked: int
    left_s: float
    tells_parity: bool

    @property
    def found_title(self) -> str:
        return self.tried[self.found].title if self.found >= 0 else ""


class UnitsState(Struct, frozen=True):
    """`states` is indexed by unit ID. Times in seconds."""

    units: frozenset[int]
    count: int
    states: tuple[UnitState, ...]
    found: Mapping[int, UnitFound]
    asked: int
    asking: int
    left_s: float
    timeout_s: float
    longest_s: float
    again_left: int = 0  # that are asked once more
    waits_for: str = ""  # before there is a verdict


class TableState(Struct, frozen=True):
    """Of one table: how much of its likely places is behind the survey (0 to 1), and the runs (first and last address)
    that read."""

    table: Table
    first: int
    last: int
    share: float
    most: int
    is_over: bool
    items: int
    runs: tuple[tuple[int, int], ...]
    dangerous: tuple[tuple[int, int], ...]
    why_none: str
    walls: tuple[int, ...] = ()
    is_full_of_zeros: bool = False
    resets: tuple[tuple[int, int], ...] = ()  # that reading takes away


class RegistersState(Struct, frozen=True):
    tables: tuple[TableState, ...]
    share: float
    asked: int
    is_over: bool
    items: int
    fastest_s: float | None
    slowest_s: float | None
    functions: Mapping[int, bool]
    constant: Mapping[Table, frozenset[int]]
    is_silent_at_holes: bool = False


class AskedState(Struct, frozen=True):
    """One question that was overheard again and again."""

    unit_id: int
    request: Request
    answered: int
    refused: int
    period_s: float | None


class HeardUnit(Struct, frozen=True):
    """What was overheard of one unit, counted."""

    unit_id: int
    questions: int
    answers: int
    words: int


class HeardState(Struct, frozen=True):
    """`asked` are the first of them by unit and request."""

    link: Link
    is_settled: bool
    trying: str
    tried: int
    frames: int
    garbled_bytes: int
    asked: tuple[AskedState, ...]
    units: tuple[HeardUnit, ...]


class HostsState(Struct, frozen=True):
    hosts: int
    asked: int
    left_s: float
    found: tuple[HostFound, ...]
    adapters: tuple[Adapter, ...]


class EverythingState(Struct, frozen=True):
    """A search for all of a line: `stage` in words, seconds left, how much is behind it (0 to 1), and of each unit what
    is wrong with it, if something is."""

    stage: str
    is_over: bool
    left_s: float
    share: float
    asked: int
    units_asked: int
    items: int
    samples: Mapping[int, int]
    troubles: Mapping[int, str]
    says: Mapping[int, str]


class RollState(Struct, frozen=True):
    """Which units answer: `ages` says since how many seconds that is so, by unit ID, where it has changed."""

    called: tuple[Called, ...]
    ages: Mapping[int, float]
    latest: int
    rounds: int


class PlaceState(Struct, frozen=True):
    """A port, a host or a range of hosts. `link` has the best settings known; None for a range. `doing` is what is
    under way, `note` how the last of it ended, `shown` what was begun last: settings, units, registers, listening or
    hosts; `unit_id` whose registers."""

    title: str
    link: Link | None
    knows_settings: bool = True
    range: str = ""
    doing: str = ""
    note: str = ""
    shown: str = ""
    unit_id: int = 0
    timing: Timing = field(default_factory=Timing)
    settings: SettingsState | None = None
    units: UnitsState | None = None
    heard: HeardState | None = None
    hosts: HostsState | None = None
    registers: Mapping[int, RegistersState] = field(default_factory=dict)
    directories: Mapping[int, Directory | None] = field(default_factory=dict)
    settings_by_unit: Mapping[int, tuple[OwnSetting, ...]] = field(default_factory=dict)
    everything: EverythingState | None = None
    drafts: tuple[UnitDraft, ...] = ()
    roll: RollState | None = None

    @property
    def found_units(self) -> set[int]:
        """Units that answer soundly, or of which something is known."""
        found = self.units.found.values() if self.units is not None else ()
        sound = {one.unit_id for one in found if one.state in (UnitState.GOOD, UnitState.EXCEPTION)}
        return sound | {unit for unit, survey in self.registers.items() if survey.fastest_s is not None}

    @property
    def is_serial(self) -> bool:
        return self.link is not None and self.link.is_serial


def state_of_everything(search: Everything, now_s: float) -> EverythingState:
    turns = search.turns.units if search.turns is not None else {}
    return EverythingState(
        search.stage.value,
        search.is_over,
        search.left_s(now_s),
        search.share(now_s),
        search.asked,
        len(search.asked_units),
        search.items,
        {unit: len(turn.samples.rounds) for unit, turn in turns.items()},
        {unit: turn.trouble for unit, turn in turns.items() if turn.trouble},
        {unit: says for unit, says in search.says.items() if says},
    )


def state_of_roll(roll: RollCall, now_s: float) -> RollState:
    ages = {one.unit_id: now_s - one.since_s for one in roll.called if one.since_s}
    return RollState(roll.called, ages, roll.latest, roll.rounds)


def state_of_settings(survey: SettingsSurvey) -> SettingsState:
    def number(one: Tried | None) -> int:
        return next((at for at, tried in enumerate(survey.tried) if tried is one), -1)

    return SettingsState(
        tuple(replace(tried) for tried in survey.tried),
        number(survey.trying),
        number(survey.found),
        survey.asked,
        survey.left_s,
        survey.tells_parity,
    )


def state_of_units(survey: UnitSurvey) -> UnitsState:
    return UnitsState(
        frozenset(survey.units),
        len(survey.units),
        tuple(survey.states),
        dict(survey.found),
        survey.asked,
        survey.asking,
        survey.left_s,
        survey.pace.timeout_s,
        survey.pace.longest_s,
        survey.again_left,
        survey.waits_for,
    )


def state_of_searched(search: Everything) -> UnitsState | None:
    """The units of a search for everything, each as it answered best of the times that it was asked."""
    if search.units is None:
        return None
    now = state_of_units(search.units)
    return replace(
        now,
        units=now.units | search.asked_units,
        states=tuple(merged(search.states, search.units.states)),
        found={**search.found, **search.units.found},
    )


def state_of_registers(survey: RegisterSurvey) -> RegistersState:
    tables = tuple(
        TableState(
            t.table, t.first, t.last, t.share, t.most, t.is_over, t.items, tuple(t.runs), tuple(t.restarting),
            t.why_none, tuple(t.walls), bool(t.is_full_of_zeros), tuple(t.resets),
        )
        for t in survey.tables
    )  # fmt: skip
    fastest, slowest = (min(survey.took_s), max(survey.took_s)) if survey.took_s else (None, None)
    constant = dict(survey.constant)
    return RegistersState(
        tables, survey.share, survey.asked, survey.is_over, survey.items, fastest, slowest, dict(survey.functions),
        constant, survey.is_silent_at_holes,
    )  # fmt: skip


def state_of_listener(listener: LineListener) -> HeardState:
    heard = listener.heard
    by_unit: dict[int, list[Asked]] = {unit: [] for unit in heard.units}
    for one in heard.asked.values():
        by_unit[one.unit_id].append(one)
    words = heard.words_by_unit
    units = tuple(
        HeardUnit(unit, len(askeds), sum(one.answered for one in askeds), words.get(unit, 0))
        for unit, askeds in by_unit.items()
    )
    first = sorted(heard.asked.values(), key=lambda one: (one.unit_id, one.request.encode()))[:_MOST_HEARD]
    asked = tuple(AskedState(one.unit_id, one.request, one.answered, one.refused, one.period_s) for one in first)
    trying = str(listener.trying) if listener.trying is not None else ""
    return HeardState(
        listener.link, listener.is_settled, trying, listener.tried, heard.frames, heard.garbled_bytes, asked, units
    )  # fmt: skip


def state_of_hosts(survey: HostSurvey) -> HostsState:
    return HostsState(
        len(survey.hosts), survey.asked, survey.left_s, tuple(survey.found.values()), tuple(survey.adapters)
    )
