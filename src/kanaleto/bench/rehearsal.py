"""A rehearsal: a timetable of faults with what the master is expected to do, judged by what it really did. What cannot
be judged is void, with its reason, and void is not passed."""

import asyncio
import math
import tomllib
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any, TypeGuard

from msgspec import Struct, field

from kanaleto.bench.bench import Bench
from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.faults import FaultWanted, wanted_fault
from kanaleto.bench.masters import span_written
from kanaleto.bench.statements import STEP_S
from kanaleto.files.texts import read_text
from kanaleto.files.toml_lines import KeyLines, loads_bounded
from kanaleto.site.filefaults import Fault, FaultyFile, suggestion
from kanaleto.site.model import Device, Line, Site
from kanaleto.values.types import Kind

_STEP_KEYS = ("at_s", "fault", "device", "line", "for_s", "expect")
_EXPECTS = {
    "pace": ("least",), "asked_again_within_s": (), "back_within_s": (), "point": ("is", "within_s"), "not_written": (),
    "writes_every_s": ("point",),
}  # fmt: skip
_MOST_S = 7 * 86_400.0  # what a rehearsal may last
_LEAST_BEFORE = 20  # requests before a fault, or its pace cannot be known


class Expectation(Struct, frozen=True):
    kind: str
    keys: tuple[tuple[str, Any], ...]

    def get(self, key: str, default: Any = None) -> Any:
        return dict(self.keys).get(key, default)

    def __str__(self) -> str:
        return " ".join([self.kind, *(f"{key}={value}" for key, value in self.keys if key != self.kind)])

    @property
    def words(self) -> str:
        """The same for people."""
        seconds = self.get("within_s", self.get(self.kind))
        match self.kind:
            case "pace":
                return f"others keep {self.get('least'):g} of their pace"
            case "asked_again_within_s":
                return f"asked again within {seconds:g} s"
            case "back_within_s":
                return f"answered again within {seconds:g} s"
            case "point":
                wanted = self.get("is")
                text = ", ".join(map(str, wanted)) if isinstance(wanted, tuple) else wanted
                return f"{self.get('point')} is {text} within {seconds:g} s"
            case "not_written":
                return f"{self.get('not_written')} is not written"
            case _:
                return f"{self.get('point')} is written every {self.get(self.kind):g} s"


class RehearsalStep(Struct, frozen=True):
    at_s: float
    fault: FaultWanted
    for_s: float | None
    expect: tuple[Expectation, ...]

    @property
    def waits_s(self) -> float:
        """How long behind its end something may still come that is expected."""
        return max(
            (
                float(one.get(one.kind) or 0.0) if one.kind == "back_within_s" else float(one.get("within_s") or 0.0)
                for one in self.expect
            ),
            default=0.0,
        )


class Rehearsal(Struct, frozen=True):
    name: str
    begin_within_s: float
    steps: tuple[RehearsalStep, ...]

    @property
    def lasts_s(self) -> float:
        ends = [step.at_s + (step.for_s or 0.0) for step in self.steps]
        return max(ends, default=0.0) + max([step.waits_s for step in self.steps] + [1.0])


class Verdict(Struct, frozen=True):
    """Of one expectation; `at_s` and `step` say of which."""

    at_s: float
    step: int
    expect: str
    outcome: str
    measured: float | None
    text: str


def read_rehearsal(path: Path, site: Site) -> Rehearsal:
    """Raises FaultyFile with all that is wrong."""
    text = read_text(path)
    try:
        tree = loads_bounded(text)
    except (tomllib.TOMLDecodeError, ValueError, RecursionError) as error:
        raise FaultyFile([Fault(path, 1, f"is no TOML that can be read: {error}")]) from None
    keys, faults = KeyLines(text), list[Fault]()

    def tell(where: tuple[str | int, ...], message: str) -> None:
        faults.append(Fault(path, keys.line(where), message))

    for key in tree:
        if key not in ("name", "begin_within_s", "step"):
            tell((key,), f"{key!r} is not known{suggestion(key, ['name', 'begin_within_s', 'step'])}")
    name, within_s = tree.get("name"), tree.get("begin_within_s", 60)
    if not isinstance(name, str) or not name:
        tell((), "needs a name")
    if not _is_seconds(within_s) or not within_s:
        tell(("begin_within_s",), "begin_within_s is seconds")
        within_s = 60
    steps = tree.get("step")
    if not isinstance(steps, list) or not steps:
        tell((), "needs at least one [[step]]")
        steps = []
    found = [
        step for at, step_table in enumerate(steps) if (step := _step(("step", at), step_table, site, tell)) is not None
    ]
    if faults:
        raise FaultyFile(faults)
    return Rehearsal(str(name), float(within_s), tuple(found))


def _is_seconds(value: Any) -> TypeGuard[float]:
    return _is_number(value) and 0 <= value <= _MOST_S


def _is_number(value: Any) -> TypeGuard[float]:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


_Tell = Callable[[tuple[str | int, ...], str], None]


def _step(where: tuple[str | int, ...], table: Any, site: Site, tell: _Tell) -> RehearsalStep | None:
    if not isinstance(table, dict):
        tell(where, "is no table")
        return None
    for key in table:
        if key not in _STEP_KEYS:
            known = f"there are {', '.join(_STEP_KEYS)}"
            tell((*where, key), f"{key!r} is not known{suggestion(key, list(_STEP_KEYS))}; {known}")
    at_s, for_s, fault = table.get("at_s"), table.get("for_s"), table.get("fault")
    if not _is_seconds(at_s):
        tell((*where, "at_s"), f"needs at_s, seconds from the beginning, at most {_MOST_S:.0f}")
        return None
    if for_s is not None and (not _is_seconds(for_s) or not for_s):
        tell((*where, "for_s"), f"for_s is seconds, more than 0, at most {_MOST_S:.0f}")
        return None
    target = table.get("device") or table.get("line")
    names = [line.name for line in site.lines] + [device.name for _, device in site.devices()]
    if not isinstance(target, str) or target not in names:
        tell(where, f"{target!r} is no device and no line of this site{suggestion(str(target), names)}")
        return None
    if not isinstance(fault, dict) or len(fault) != 1:
        tell((*where, "fault"), "fault is one of the faults, as in fault = { silent = {} }")
        return None
    ((name, numbers),) = fault.items()
    try:
        wanted = wanted_fault(name, numbers if isinstance(numbers, dict) else {}, target)
    except ValueError as error:
        tell((*where, "fault"), str(error))
        return None
    expect = table.get("expect", [])
    if not isinstance(expect, list):
        tell((*where, "expect"), "expect is a list, as in expect = [{ back_within_s = 5 }]")
        return None
    found = [one for expected in expect if (one := _expectation((*where, "expect"), expected, site, tell))]
    return RehearsalStep(float(at_s), wanted, float(for_s) if for_s is not None else None, tuple(found))


def _expectation(where: tuple[str | int, ...], table: Any, site: Site, tell: _Tell) -> Expectation | None:
    kinds = [kind for kind in _EXPECTS if isinstance(table, dict) and kind in table]
    if "writes_every_s" in kinds:
        kinds = ["writes_every_s"]
    if len(kinds) != 1:
        tell(where, f"expects one of {', '.join(_EXPECTS)}")
        return None
    (kind,) = kinds
    for key in table:
        if key != kind and key not in _EXPECTS[kind]:
            tell(where, f"{kind} has no key {key!r}; it has {', '.join(_EXPECTS[kind]) or 'none'}")
            return None
    for key in _EXPECTS[kind]:
        if key not in table:
            tell(where, f"{kind} needs {key}")
            return None
    seconds = [key for key in (kind, "within_s") if key.endswith("_s") and key in table]
    for key in seconds:
        if not _is_seconds(table[key]):
            tell(where, f"{key} = {table[key]!r} is no time in seconds")
            return None
    if kind == "pace" and (table["pace"] != "others" or not _is_number(table["least"]) or table["least"] < 0):
        tell(where, 'pace is of "others", and least is a share, as in { pace = "others", least = 0.9 }')
        return None
    named = table.get("point") if kind in ("point", "writes_every_s") else table.get("not_written")
    if named is not None and point_of(site, str(named)) is None:
        tell(where, f"{named} is no point; write [Device/Point]")
        return None
    if kind == "point" and (why := _no_value(point_of(site, str(named)), table["is"])):
        tell(where, why)
        return None
    return Expectation(
        kind, tuple((key, tuple(value) if isinstance(value, list) else value) for key, value in table.items())
    )


def _no_value(found: "tuple[Line, Device, str] | None", wanted: Any) -> str:
    """Why a point can never be that, or nothing."""
    assert found is not None
    _, device, name = found
    point = next(point for point in device.points if point.name == name)
    texts = wanted if isinstance(wanted, list) else [wanted] if isinstance(wanted, str) else []
    labels = list(point.labels.values())
    if (texts and point.codec.type.kind is Kind.TEXT) or (not texts and _is_number(wanted)) or wanted == []:
        return ""
    for text in texts:
        if text not in labels:
            return f"{name} is never {text!r}{suggestion(str(text), labels)}; it has {', '.join(labels) or 'no states'}"
    return "" if texts else f"is = {wanted!r} is no number, no label and no list of labels"


def point_of(site: Site, text: str) -> tuple[Line, Device, str] | None:
    """What `[Device/Point]` means."""
    name = text.strip().removeprefix("[").removesuffix("]")
    for line, device in site.devices():
        for point in device.points:
            if f"{device.name}/{point.name}" == name:
                return line, device, point.name
    return None


class SeenDevice(Struct):
    """What was seen of one device: when it was asked and whether it was answered well, and when which points were
    written."""

    asked: list[tuple[float, bool]] = field(default_factory=list)
    written: list[tuple[float, str]] = field(default_factory=list)


class RehearsalRun:
    """Plays a rehearsal on a bench that runs. Times are bench seconds since it began."""

    def __init__(self, rehearsal: Rehearsal, bench: Bench) -> None:
        self.rehearsal, self.bench = rehearsal, bench
        self.seen: dict[str, SeenDevice] = {one.device.name: SeenDevice() for one in bench.devices}
        self._began = 0
        self._left_out = 0
        self._values: dict[tuple[int, int], float | None] = {}  # by step and expectation: when a point was as expected
        self._judged_by_now: dict[int, list[Verdict]] = {}
        self._stands: list[FaultWanted] = []  # faults of it that stand now
        self.has_begun = False
        self.waits_for: list[str] = []
        """Devices that nobody has asked yet; it begins when all are asked."""

    @property
    def now_s(self) -> float:
        return (self.bench.movement.steps - self._began) * STEP_S

    def observe(self, simulated: SimulatedDevice, pdu: bytes, is_good: bool) -> None:
        """A request, on whatever thread it is answered."""
        seen, now = self.seen.setdefault(simulated.device.name, SeenDevice()), self.now_s
        seen.asked.append((now, is_good))
        span = span_written(pdu)
        if span is None:
            return
        table, first, count = span
        for point in simulated.device.points:
            if point.table is table and point.address < first + count and first < point.end:
                seen.written.append((now, point.name))

    async def run(self) -> list[Verdict]:
        """Judged step by step, in the order of the file."""
        for units in self.bench.units:
            units.observer = self.observe
        try:
            void = await self._begin()
            if void:
                return [
                    Verdict(step.at_s, at, str(one), "void", None, void)
                    for at, step in enumerate(self.rehearsal.steps, 1) for one in step.expect
                ]  # fmt: skip
            return await self._play()
        finally:
            for units in self.bench.units:
                units.observer = None

    def _named(self) -> list[str]:
        names: dict[str, None] = {}
        for step in self.rehearsal.steps:
            for simulated in self.bench.targets(step.fault.target):
                names[simulated.device.name] = None
        return list(names)

    async def _begin(self) -> str:
        """Wait until each device that a step names was asked; why all is void, or nothing."""
        self._began = self.bench.movement.steps
        while missing := [name for name in self._named() if not self.seen[name].asked]:
            self.waits_for = missing
            if self.now_s > self.rehearsal.begin_within_s:
                return f"{', '.join(missing[:4])} was never asked within {self.rehearsal.begin_within_s:g} s"
            await asyncio.sleep(STEP_S)
        for seen in self.seen.values():
            seen.asked.clear()
            seen.written.clear()
        self._began, self._left_out = self.bench.movement.steps, self.bench.left_out
        self.has_begun, self.waits_for = True, []
        return ""

    async def _play(self) -> list[Verdict]:
        rehearsal, bench = self.rehearsal, self.bench
        ends = [self.end_of(step) for step in rehearsal.steps]
        begun: set[int] = set()
        ended: set[int] = set()
        while self.now_s < rehearsal.lasts_s:
            for at, step in enumerate(rehearsal.steps):
                if at not in begun and self.now_s >= step.at_s:
                    begun.add(at)
                    self._stands.append(step.fault)
                    bench.begin_fault(step.fault)
                if at in begun and at not in ended and self.now_s >= ends[at]:
                    ended.add(at)
                    self._stands.remove(step.fault)
                    await bench.end_fault(step.fault)
                if at in begun:
                    self._look_at_points(at, step)
            await asyncio.sleep(STEP_S / 2)
        await self.mend()
        return [verdict for at, step in enumerate(rehearsal.steps) for verdict in self._judged(at, step, ends[at])]

    async def mend(self) -> None:
        """What it has broken is well again. Raises CannotServe."""
        stands, self._stands = self._stands, []
        for wanted in stands:
            await self.bench.end_fault(wanted)

    def end_of(self, step: RehearsalStep) -> float:
        return step.at_s + step.for_s if step.for_s is not None else self.rehearsal.lasts_s

    def verdicts_now(self) -> list[Verdict]:
        """Of the steps for which all is over by now."""
        if not self.has_begun:
            return []
        now_s = self.now_s
        for at, step in enumerate(self.rehearsal.steps):
            if at not in self._judged_by_now and now_s >= self.end_of(step) + step.waits_s:
                self._judged_by_now[at] = list(self._judged(at, step, self.end_of(step)))
        return [verdict for at in sorted(self._judged_by_now) for verdict in self._judged_by_now[at]]

    def _look_at_points(self, at: int, step: RehearsalStep) -> None:
        for number, expected in enumerate(step.expect):
            if (
                expected.kind == "point"
                and self._values.get((at, number)) is None
                and self._first_bad(step) is not None
            ):
                found = point_of(self.bench.site, str(expected.get("point")))
                assert found is not None
                _, device, name = found
                if self._is_as(device, name, expected.get("is")):
                    self._values[at, number] = self.now_s

    def _is_as(self, device: Device, name: str, wanted: Any) -> bool:
        simulated = next(one for one in self.bench.devices if one.device.name == device.name)
        value, point = simulated.value(name), simulated.points[name]
        if not isinstance(value, int | float):
            return bool(value == wanted)
        if isinstance(wanted, tuple):
            numbers = {text: bit for bit, text in point.labels.items()}
            return int(value) == sum(1 << numbers[text] for text in wanted if text in numbers)
        if isinstance(wanted, str):
            return point.labels.get(int(value)) == wanted
        return bool(abs(value - wanted) <= 1e-9)

    def _first_bad(self, step: RehearsalStep) -> float | None:
        """When the first answer of its device or line was missing or damaged."""
        times = [
            when for simulated in self.bench.targets(step.fault.target)
            for when, is_good in self.seen[simulated.device.name].asked if not is_good and when >= step.at_s - 1e-9
        ]  # fmt: skip
        return min(times, default=None)

    # Judging

    def _judged(self, at: int, step: RehearsalStep, end_s: float) -> Iterator[Verdict]:
        targets = [simulated.device.name for simulated in self.bench.targets(step.fault.target)]
        asked = [when for name in targets for when, _ in self.seen[name].asked if step.at_s <= when < end_s]
        left_out = (self.bench.left_out - self._left_out) * STEP_S
        for number, expected in enumerate(step.expect):
            outcome: tuple[str, float | None, str]
            if left_out > 0:
                outcome = "void", None, f"{left_out:.1f} s of bench time were left out: this machine is too slow"
            elif not asked:
                outcome = "void", None, f"{', '.join(targets[:3])} was not asked during the fault"
            else:
                outcome = self._of(expected, step, targets, end_s, self._values.get((at, number)))
            yield Verdict(step.at_s, at + 1, str(expected), *outcome)

    def _of(
        self, expected: Expectation, step: RehearsalStep, targets: Sequence[str], end_s: float, was_s: float | None
    ) -> tuple[str, float | None, str]:
        bad_s = self._first_bad(step)
        match expected.kind:
            case "pace":
                return self._pace(expected, step, targets, end_s)
            case "asked_again_within_s":
                if bad_s is None:
                    return "void", None, "no answer was missing or damaged"
                again = [when for name in targets for when, _ in self.seen[name].asked if when > bad_s + 1e-9]
                return _within(min(again, default=None), bad_s, float(expected.get(expected.kind)), "asked again")
            case "back_within_s":
                good = [
                    when for name in targets for when, is_good in self.seen[name].asked if is_good and when >= end_s
                ]
                return _within(min(good, default=None), end_s, float(expected.get(expected.kind)), "answered again")
            case "point":
                if bad_s is None:
                    return "void", None, "no answer was missing or damaged"
                return _within(
                    was_s, bad_s, float(expected.get("within_s")), f"{expected.get('point')} was as expected"
                )
            case "not_written":
                times = self._writes(expected.get("not_written"), bad_s if bad_s is not None else step.at_s, end_s)
                if times:
                    return "failed", times[0], f"{expected.get('not_written')} was written {len(times)} times"
                return "passed", None, f"{expected.get('not_written')} was not written"
            case _:
                return self._goes_on(expected, step, end_s)

    def _pace(
        self, expected: Expectation, step: RehearsalStep, targets: Sequence[str], end_s: float
    ) -> tuple[str, float | None, str]:
        others = [when for name, seen in self.seen.items() if name not in targets for when, _ in seen.asked]
        before = sum(when < step.at_s for when in others)
        if before < _LEAST_BEFORE or step.at_s <= 0:
            return "void", None, f"{before} requests of others stand before it; {_LEAST_BEFORE} are needed"
        during = sum(step.at_s <= when < end_s for when in others) / max(end_s - step.at_s, STEP_S)
        share = during / (before / step.at_s)
        text = f"others were asked {share:.2f} times as often as before"
        return ("passed" if share >= float(expected.get("least")) else "failed"), share, text

    def _writes(self, text: Any, first_s: float, last_s: float) -> list[float]:
        found = point_of(self.bench.site, str(text))
        assert found is not None
        _, device, name = found
        return [when for when, point in self.seen[device.name].written if point == name and first_s <= when < last_s]

    def _goes_on(self, expected: Expectation, step: RehearsalStep, end_s: float) -> tuple[str, float | None, str]:
        every = float(expected.get("writes_every_s"))
        times = [step.at_s, *self._writes(expected.get("point"), step.at_s, end_s), end_s]
        if len(times) == 2:
            return "failed", None, f"{expected.get('point')} was not written"
        longest = max(later - earlier for earlier, later in pairwise(times))
        text = f"{expected.get('point')} was written at least every {longest:.1f} s"
        return ("passed" if longest <= 2 * every + STEP_S else "failed"), longest, text


def _within(came_s: float | None, since_s: float, most_s: float, what: str) -> tuple[str, float | None, str]:
    if came_s is None:
        return "failed", None, f"it was never {what}" if not what.startswith("[") else f"{what}: never"
    took = came_s - since_s
    return ("passed" if took <= most_s + STEP_S else "failed"), took, f"{what} after {took:.1f} s"
