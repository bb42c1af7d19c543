"""Routines of a site: `routines/*.toml` beside its file. Every fault is found before any is reported, each with file
and line."""

import re
import tomllib
from pathlib import Path
from typing import Any

from kanaleto.control.routine import (
    DEFAULT_WITHIN_S,
    LONGEST_S,
    OF_ROUTINE,
    Ramp,
    Routine,
    RoutineStep,
    StepKind,
    ValueSpec,
    is_variable,
    with_variables,
)
from kanaleto.control.wanted import CannotWrite, Wanted, is_word_of_bits, wanted, why_not_writable
from kanaleto.files.texts import read_text
from kanaleto.files.toml_lines import KeyLines, loads_bounded
from kanaleto.planning.plan import Identity
from kanaleto.site.expression import BadExpression, compile_expression, references
from kanaleto.site.filefaults import Fault, FaultyFile, suggestion
from kanaleto.site.model import KEEPING_EVENTS, Device, Point, Site
from kanaleto.site.proving import parse_tolerance

FOLDER = "routines"
MOST_FILES, MOST_STEPS = 500, 1000
_KEYS = ("name", "device", "on_failure", "upon", "at_most_every_s", "variables", "step", "note")
_OF_STEP: dict[StepKind, tuple[str, ...]] = {
    StepKind.WRITE: (),
    StepKind.WAIT: ("within_s",),
    StepKind.CHECK: ("within_s",),
    StepKind.HOLD: (),
    StepKind.ASK: (),
    StepKind.KEEP: ("every_s", "safe"),
    StepKind.RELEASE: (),
    StepKind.RAMP: ("while",),
    StepKind.PROVE: ("tolerance", "level"),
}


def routine_paths(site: Site) -> list[Path]:
    """The files of a site's routines."""
    if site.path is None:
        return []
    try:
        return sorted((site.path.parent / FOLDER).glob("*.toml"))[:MOST_FILES]
    except OSError:
        return []


def read_routines(site: Site) -> tuple[dict[str, Routine], list[Fault]]:
    """Those that are sound, by name, and every fault of the others."""
    found: dict[str, Routine] = {}
    faults: list[Fault] = []
    for path in routine_paths(site):
        try:
            text = read_text(path)
        except FaultyFile as error:
            faults += error.faults
            continue
        reader = _RoutineFileReader(path, site, text)
        routine = reader.read()
        if routine is not None and routine.name in found:
            reader.fault(("name",), f"a routine {routine.name!r} stands in {found[routine.name].path.name} already")
        elif routine is not None:
            found[routine.name] = routine
        faults += reader.faults
    faults += _failure_faults(found)
    wrong = {fault.file for fault in faults if not fault.is_warning}
    return {name: routine for name, routine in found.items() if routine.path not in wrong}, faults


def _failure_faults(routines: dict[str, Routine]) -> list[Fault]:
    """`on_failure` must name a routine, and go round in no circle."""
    faults: list[Fault] = []
    for routine in routines.values():
        if not routine.on_failure:
            continue
        if routine.on_failure not in routines:
            hint = suggestion(routine.on_failure, list(routines))
            faults.append(
                Fault(
                    routine.path,
                    _line_of(routine),
                    f"on_failure names {routine.on_failure!r}, which is no sound routine{hint}",
                )
            )
            continue
        way = [routine.name]
        while (following := routines[way[-1]].on_failure) in routines and following not in way:
            way.append(following)
        if following == routine.name:
            circle = " → ".join([*way, routine.name])
            faults.append(Fault(routine.path, _line_of(routine), f"on_failure goes round in a circle: {circle}"))
    return faults


def _line_of(routine: Routine) -> int:
    try:
        return KeyLines(read_text(routine.path)).line(("on_failure",))
    except FaultyFile:
        return 1


class _RoutineFileReader:
    def __init__(self, path: Path, site: Site, text: str) -> None:
        self.path, self.faults = path, list[Fault]()
        self._site, self._text = site, text
        self._keys = KeyLines("")
        self._device: Device | None = None
        self._variables: dict[str, float] = {}

    def fault(self, where: tuple[str | int, ...], text: str) -> None:
        self.faults.append(Fault(self.path, self._keys.line(where), text))

    def read(self) -> Routine | None:
        try:
            tree = loads_bounded(self._text)
        except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
            place = re.search(r"at line (\d+)", str(error))
            reason = re.sub(r"\s*\(at .*\)$", "", str(error))
            self.faults.append(Fault(self.path, int(place[1]) if place else 1, f"is not TOML here: {reason}"))
            return None
        self._keys = KeyLines(self._text)
        for key in tree:
            if key not in _KEYS:
                self.fault((key,), f"key {key!r} is not known{suggestion(key, list(_KEYS))}")
        name = self._words(tree, "name", is_needed=True)
        device = self._words(tree, "device", is_needed=True)
        self._device = next(
            (each_device for _, each_device in self._site.devices() if each_device.name == device), None
        )
        if device and self._device is None:
            hint = suggestion(device, [device.name for _, device in self._site.devices()])
            self.fault(("device",), f"device {device!r} is not in the site{hint}")
        self._read_variables(tree.get("variables", {}))
        upon = self._words(tree, "upon")
        if upon and upon not in KEEPING_EVENTS:
            self._check_condition(("upon",), upon)
        steps = self._steps(tree.get("step", []))
        every_s = self._seconds(("at_most_every_s",), tree.get("at_most_every_s", 60.0), 1.0)
        if self.faults:
            return None
        return Routine(
            name=name, path=self.path, device=device, steps=steps, variables=tuple(self._variables.items()),
            on_failure=self._words(tree, "on_failure"), upon=upon, at_most_every_s=every_s,
            note=self._words(tree, "note"),
        )  # fmt: skip

    def _words(self, tree: dict[str, Any], key: str, is_needed: bool = False) -> str:
        value = tree.get(key, "")
        if not isinstance(value, str) or (is_needed and not value.strip()) or len(value) > 4000:
            self.fault((key,), f"{key} must be a text" if value != "" else f"has no {key}")
            return ""
        return value.strip()

    def _read_variables(self, table: Any) -> None:
        if not isinstance(table, dict):
            self.fault(("variables",), "[variables] must be a table of numbers")
            return
        for name, value in table.items():
            if not is_variable(name):
                self.fault(("variables", name), f"a variable cannot be called {name!r}")
            elif isinstance(value, bool) or not isinstance(value, int | float) or value != value:
                self.fault(("variables", name), f"variable {name!r} must be a number")
            else:
                self._variables[name] = float(value)

    def _seconds(self, where: tuple[str | int, ...], value: Any, least: float = 0.0) -> float:
        is_number = isinstance(value, int | float) and not isinstance(value, bool)
        if not is_number or not least <= value <= LONGEST_S:
            self.fault(where, f"{where[-1]} must be seconds, {least:g} to {LONGEST_S:g}")
            return max(least, 1.0)
        return float(value)

    # Steps

    def _steps(self, tables: Any) -> tuple[RoutineStep, ...]:
        if not isinstance(tables, list) or not all(isinstance(table, dict) for table in tables):
            self.fault(("step",), "steps are written as [[step]]")
            return ()
        if not tables:
            self.fault((), "has no [[step]]")
        if len(tables) > MOST_STEPS:
            self.fault(("step",), f"has {len(tables)} steps; at most {MOST_STEPS} are taken")
            return ()
        steps = [self._step(at, table) for at, table in enumerate(tables)]
        return tuple(step for step in steps if step is not None)

    def _step(self, at: int, table: dict[str, Any]) -> RoutineStep | None:
        where: tuple[str | int, ...] = ("step", at)
        kinds = [kind for kind in StepKind if kind.value in table]
        if len(kinds) != 1:
            known = ", ".join(kind.value for kind in StepKind)
            self.fault(where, f"step {at + 1} must do one thing: {known}")
            return None
        kind = kinds[0]
        for key in table:
            if key not in (kind.value, "note", *_OF_STEP[kind]):
                self.fault((*where, key), f"step {at + 1}: {key!r} does not belong to {kind.value}")
        line, value = self._keys.line((*where, kind.value)), table[kind.value]
        base = {"number": at + 1, "line": line, "kind": kind}
        here = (*where, kind.value)
        match kind:
            case StepKind.WAIT | StepKind.CHECK:
                condition = self._condition(here, value)
                within_s = self._seconds((*where, "within_s"), table.get("within_s", DEFAULT_WITHIN_S))
                until = f"wait until {condition}" if kind is StepKind.WAIT else f"check that {condition}"
                return RoutineStep(**base, text=until, condition=condition, within_s=within_s)  # type: ignore[arg-type]
            case StepKind.HOLD:
                hold_s = self._seconds(here, value)
                return RoutineStep(**base, text=f"hold for {hold_s:g} s", within_s=hold_s)  # type: ignore[arg-type]
            case StepKind.ASK:
                if not isinstance(value, str) or not value.strip():
                    self.fault(here, f"step {at + 1}: ask needs a question")
                return RoutineStep(**base, text=str(value))  # type: ignore[arg-type]
            case StepKind.RELEASE:
                names = value if isinstance(value, list) else [value]
                targets = tuple((self._point(here, name)[0], ValueSpec()) for name in names)
                return RoutineStep(**base, text=f"release {', '.join(map(str, names))}", targets=targets)  # type: ignore[arg-type]
            case StepKind.RAMP:
                return self._ramp(where, value, table, base)
            case StepKind.PROVE:
                return self._prove(here, value, table, base)
        targets = self._targets(here, value)
        message = ", ".join(f"{identity[1]} = {spec}" for identity, spec in targets)
        if kind is StepKind.WRITE:
            return RoutineStep(**base, text=f"write {message}", targets=targets)  # type: ignore[arg-type]
        every_s = self._seconds((*where, "every_s"), table.get("every_s", 0.5), 0.02)
        safe = None
        if "safe" in table and targets:
            safe = self._spec((*where, "safe"), self._point(here, targets[0][0][1], targets[0][0][0])[1], table["safe"])
        if len(targets) > 1:
            self.fault(here, f"step {at + 1}: keep keeps one point alive; write a step for each")
        text = f"keep {message} alive every {every_s:g} s"
        return RoutineStep(**base, text=text, targets=targets, every_s=every_s, safe=safe)  # type: ignore[arg-type]

    def _prove(
        self, where: tuple[str | int, ...], value: Any, table: dict[str, Any], base: dict[str, Any]
    ) -> RoutineStep | None:
        if not isinstance(value, dict) or not value:
            self.fault(where, 'prove reads like { "Point" = 80 } or { "Point" = "a variable" }')
            return None
        found = []
        for name, expected in value.items():
            identity, point = self._point(where, name)
            spec = self._spec(where, None, expected) if not isinstance(expected, str) else self._expected(expected)
            if point is not None and not point.access.is_read:
                self.fault(where, f"{name} is only written: nothing can be read of it")
            if spec is not None:
                found.append((identity, spec))
        tolerance, level = str(table.get("tolerance", "")), str(table.get("level", ""))
        if tolerance:
            try:
                parse_tolerance(tolerance)
            except ValueError as error:
                self.fault((*where[:-1], "tolerance"), str(error))
        message = ", ".join(f"{identity[1]} = {spec}" for identity, spec in found)
        text = f"prove that {message}" + (f" at {level}" if level else "") + (f" ± {tolerance}" if tolerance else "")
        return RoutineStep(**base, text=text, targets=tuple(found), tolerance=tolerance, level=level)

    def _expected(self, text: str) -> ValueSpec:
        """A variable, or an expression of them; else a state's text."""
        return ValueSpec(expression=text) if text in self._variables else ValueSpec(text=text)

    def _ramp(
        self, where: tuple[str | int, ...], value: Any, table: dict[str, Any], base: dict[str, Any]
    ) -> RoutineStep | None:
        here = (*where, "ramp")
        if not isinstance(value, dict) or len(value) != 1 or not all(isinstance(one, dict) for one in value.values()):
            self.fault(here, 'ramp reads like { "Point" = { from = 0, to = 80, by = 10, every_s = 2 } }')
            return None
        ((name, settings),) = value.items()
        identity, point = self._point(here, name)
        for key in settings:
            if key not in ("from", "to", "by", "every_s"):
                self.fault(here, f"ramp: {key!r} is not known; there are from, to, by, every_s")
        if "to" not in settings:
            self.fault(here, "ramp needs to, the value at its end")
        specs = [
            self._spec(here, None, settings.get(key, default))
            for key, default in (("from", 0.0), ("to", 0.0), ("by", 1.0))
        ]
        every_s = self._seconds((*here, "every_s"), settings.get("every_s", 1.0), 0.02)
        condition = self._condition((*where, "while"), table["while"]) if "while" in table else ""
        start, to, by = (spec or ValueSpec(text="0") for spec in specs)
        text = f"ramp {name} from {start} to {to} by {by} every {every_s:g} s"
        text += f" while {condition}" if condition else ""
        if point is not None and (why := why_not_writable(point)):
            self.fault(here, why)
        return RoutineStep(
            **base,
            text=text,
            targets=((identity, ValueSpec()),),
            condition=condition,
            ramp=Ramp(start, to, by, every_s),
        )

    def _targets(self, where: tuple[str | int, ...], value: Any) -> tuple[tuple[Identity, ValueSpec], ...]:
        if not isinstance(value, dict) or not value:
            self.fault(where, f'{where[-1]} reads like {{ "Point" = value }}')
            return ()
        found = []
        for name, wanted_value in value.items():
            identity, point = self._point(where, name)
            spec = self._spec(where, point, wanted_value)
            if point is not None and (why := why_not_writable(point)):
                self.fault(where, why)
            elif spec is not None:
                found.append((identity, spec))
        return tuple(found)

    def _point(self, where: tuple[str | int, ...], name: Any, device_name: str = "") -> tuple[Identity, Point | None]:
        """A point of the routine's device, or `Device/Point`."""
        if not isinstance(name, str):
            self.fault(where, f"{name!r} is no name of a point")
            return ("", ""), None
        devices: dict[str, Device] = {device.name: device for _, device in self._site.devices()}
        named = devices.get(device_name) if device_name else self._device
        tries = [(named, name)] if named is not None else []
        cuts = [at for at, character in enumerate(name) if character == "/"]
        tries += [(devices[name[:at]], name[at + 1 :]) for at in cuts if name[:at] in devices]
        for device, wanted_name in tries:
            for point in device.points:
                if point.name == wanted_name:
                    return (device.name, point.name), point
        known = [point.name for point in named.points] if named is not None else []
        if named is not None or cuts:
            self.fault(
                where,
                f"{name!r} is no point of {named.name if named is not None else 'the site'}{suggestion(name, known)}",
            )
        return ("", name), None

    def _spec(self, where: tuple[str | int, ...], point: Point | None, value: Any) -> ValueSpec | None:
        spec: ValueSpec | None = None
        if isinstance(value, list) and all(isinstance(one, str) for one in value):
            spec = ValueSpec(labels=tuple(value))
            if point is not None and not is_word_of_bits(point):
                self.fault(where, f"{point.name} is no word of bits (type bits): labels in [ ] do not fit it")
                return None
        elif isinstance(value, dict) and list(value) == ["raw"] and isinstance(value["raw"], int):
            spec = ValueSpec(raw=value["raw"])
        elif isinstance(value, bool):
            spec = ValueSpec(text="on" if value else "off")
        elif isinstance(value, int | float):
            spec = ValueSpec(text=repr(value))
        elif isinstance(value, str):
            spec = self._text_spec(where, point, value)
        if spec is None:
            self.fault(
                where, f"{value!r} is no value: a number, a state's text, [labels of bits] or {{ raw = 0x0007 }}"
            )
            return None
        if point is not None and not spec.expression and not why_not_writable(point):
            try:
                wanted_of(point, spec)
            except CannotWrite as error:
                self.fault(where, str(error))
        return spec

    def _text_spec(self, where: tuple[str | int, ...], point: Point | None, value: str) -> ValueSpec | None:
        """A state's text, or an expression of variables."""
        names = references(with_variables(value, self._variables))
        is_state = point is not None and value.casefold() in {label.casefold() for label in point.labels.values()}
        if names and not is_state:
            self._check_condition(where, value)
            return ValueSpec(expression=value)
        return ValueSpec(text=value) if point is not None or value.strip() else None

    def _condition(self, where: tuple[str | int, ...], value: Any) -> str:
        if not isinstance(value, str) or not value.strip():
            self.fault(where, f'{where[-1]} needs a condition, as "[Run state] == 0"')
            return ""
        self._check_condition(where, value)
        return value.strip()

    def _check_condition(self, where: tuple[str | int, ...], text: str) -> None:
        points: dict[str, Point | None] = {}
        plain = with_variables(text, self._variables)
        for name in references(plain):
            if name.startswith(OF_ROUTINE) and name[1:] in self._variables:
                continue
            before = len(self.faults)
            points[name] = self._point(where, name)[1]
            if points[name] is None and len(self.faults) == before and self._device is not None:
                self.fault(where, f"[{name}] is no point")
        if any(point is None for point in points.values()):
            return
        try:
            compile_expression(
                plain, lambda name: found_point.labels if (found_point := points.get(name)) is not None else {}
            )
        except BadExpression as error:
            self.fault(where, str(error))


def wanted_of(point: Point, spec: ValueSpec, power: int = 0) -> Wanted:
    """What a point is to hold by it, where it needs no variable. Raises CannotWrite."""
    if spec.labels is not None:
        return wanted(point, ", ".join(spec.labels) or "0", power)
    return wanted(point, f"0x{spec.raw:X}" if spec.raw is not None else spec.text, power)
