"""What moves the registers of simulated devices, as the site file says it: moves, hidden quantities, machines; and what
is wrong with them. No clock and no registers here.

A name in brackets is a point or a quantity of the device at hand, or of another as [Device/Name]. Where such text is
evaluated there are four bare names: `t`, `dt`, `before`, `asked_s`.
"""

from collections.abc import Iterator, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter

from msgspec import Struct

from kanaleto.site.expression import BadExpression, check_expression, references
from kanaleto.site.model import Device, Line, Machine, Move, Point

BARE = ("t", "dt", "before", "asked_s")
OVERWRITTEN = ("wave", "formula", "list", "clock", "follow")
"""What a master writes there is overwritten at the next step."""

Name = tuple[str, str]
"""Device, and point or quantity."""


class Thing(Struct, frozen=True):
    """What a name in brackets stands for: a point or a quantity of a device."""

    device: Device
    point: Point | None

    @property
    def labels(self) -> Mapping[int, str]:
        return self.point.labels if self.point is not None else {}


class Names:
    """Points and quantities of all devices of a site."""

    def __init__(self, lines: Sequence[Line]) -> None:
        self._things: dict[Name, Thing] = {}
        self._devices = {device.name: device for line in lines for device in line.devices}
        for device in self._devices.values():
            for quantity in device.simulated.quantities:
                self._things[device.name, quantity.name] = Thing(device, None)
            for point in device.points:
                self._things[device.name, point.name] = Thing(device, point)

    def find(self, device: str, text: str) -> tuple[Name, Thing] | None:
        """What `text` in brackets means for a device: its own first."""
        thing = self._things.get((device, text))
        if thing is not None:
            return (device, text), thing
        for at in (at for at, letter in enumerate(text) if letter == "/"):
            name = (text[:at].strip(), text[at + 1 :].strip())
            if name in self._things:
                return name, self._things[name]
        return None

    def labels_of(self, device: str, text: str) -> Mapping[int, str]:
        found = self.find(device, text)
        return found[1].labels if found is not None else {}


Fault = tuple[tuple[str, ...], str, bool]
"""The keys below the device, what is wrong there, and whether it is only a warning."""


def moving_faults(lines: Sequence[Line]) -> Iterator[tuple[Device, Fault]]:
    """Everything that is wrong with what moves, by device."""
    devices = [device for line in lines for device in line.devices]
    if not any(device.simulated.moves_any for device in devices):
        return
    names = Names(lines)
    for device in devices:
        for fault in _faults_of(device, names):
            yield device, fault
    yield from _circles(devices, names)


def _faults_of(device: Device, names: Names) -> Iterator[Fault]:
    points = {point.name: point for point in device.points}
    simulated = device.simulated
    for move in simulated.moves:
        where = ("moves", move.point)
        if move.point not in points:
            yield where, f"moves {move.point!r}, which is no point of this device", False
            continue
        yield from _of_move(device, points[move.point], move, names)
    for quantity in simulated.quantities:
        if quantity.name in points:
            yield ("quantity", quantity.name), f"{quantity.name!r} is a point of this device already", False
        yield from _of_text(device, ("quantity", quantity.name), quantity.next, names)
    for machine in simulated.machines:
        yield from _of_machine(device, machine, points, names)
    yield from _two_owners(device, points)


def _two_owners(device: Device, points: Mapping[str, Point]) -> Iterator[Fault]:
    """Two that move the same bit, or the same word."""
    owners: dict[tuple[str, int, int], str] = {}
    moved = [(("moves", move.point), points.get(move.point), None) for move in device.simulated.moves]
    machines = [
        (("machine", machine.point), points.get(machine.point), owned_bits(machine, points.get(machine.point)))
        for machine in device.simulated.machines
    ]
    for where, point, bits in (*moved, *machines):
        if point is None:
            continue
        has_said = False
        for at in range(point.address, point.end):
            for bit in bits if bits is not None else _bits_of(point):
                before = owners.setdefault((point.table.value, at, bit), f"{where[0]} of {where[1]}")
                if before != f"{where[0]} of {where[1]}" and not has_said:
                    has_said = True
                    yield where, f"{before} moves a bit of the same register already", False


def _bits_of(point: Point) -> Sequence[int]:
    if point.codec.bits is not None:
        low, high = point.codec.bits
        return range(low, high + 1)
    return range(1 if point.table.is_bits else 16)


def owned_bits(machine: Machine, point: Point | None) -> list[int]:
    """The bits of its word that any of its states names; all of them where states are values."""
    if any(state.bits is None for state in machine.states):
        return list(range(16))
    labels = {text: bit for bit, text in point.labels.items()} if point is not None else {}
    named = {bit for state in machine.states for bit in state.bits or ()}
    found = {bit if isinstance(bit, int) else labels.get(bit, -1) for bit in named}
    return sorted(bit for bit in found if 0 <= bit < 16)


def _of_move(device: Device, point: Point, move: Move, names: Names) -> Iterator[Fault]:
    where = ("moves", move.point)
    if move.condition:
        yield from _of_text(device, where, move.condition, names)
    if move.kind == "formula":
        yield from _of_text(device, where, move.text, names)
    if move.kind == "follow" and names.find(device.name, move.text) is None:
        yield where, f"follows [{move.text}], which is no point and no quantity", False
    if point.access.is_written and move.kind in OVERWRITTEN and not move.condition:
        yield where, f"{move.point!r} may be written, and {move.kind} overwrites that at the next step", True


def _of_machine(device: Device, machine: Machine, points: Mapping[str, Point], names: Names) -> Iterator[Fault]:
    where = ("machine", machine.point)
    point = points.get(machine.point)
    if point is None:
        yield where, f"is of {machine.point!r}, which is no point of this device", False
        return
    states = {state.name for state in machine.states}
    labels = set(point.labels.values())
    for state in machine.states:
        at = (*where, state.name)
        if (state.bits is None) == (state.value is None):
            yield at, f"state {state.name!r} needs either bits or a value", False
        for bit in state.bits or ():
            if isinstance(bit, str) and bit not in labels:
                known = ", ".join(point.labels.values()) or "none"
                yield at, f"{machine.point} has no bit {bit!r}; it has {known}", False
            elif isinstance(bit, int) and not 0 <= bit < 16:
                yield at, f"bit {bit} is not in 0…15", False
        if isinstance(state.value, str) and state.value not in labels:
            known = ", ".join(point.labels.values()) or "none"
            yield at, f"{machine.point} has no state {state.value!r}; it has {known}", False
        for target, text in state.to:
            if target not in states:
                yield at, f"leads to {target!r}, which is no state here; there are {', '.join(states)}", False
            yield from _of_text(device, at, text, names)


def _of_text(device: Device, where: tuple[str, ...], text: str, names: Names) -> Iterator[Fault]:
    unknown = [name for name in references(text) if names.find(device.name, name) is None]
    for name in unknown:
        yield where, f"[{name}] is no point and no quantity; write [Name] or [Device/Name]", False
    if unknown:
        return
    try:
        check_expression(text, lambda name: names.labels_of(device.name, name), BARE)
    except BadExpression as error:
        yield where, str(error), False


def formula_order(devices: Sequence[Device], names: Names) -> list[tuple[Device, Move]]:
    """Formulas, those first that others need. Raises CycleError, with the names of a circle."""
    formulas = {
        (device.name, move.point): (device, move)
        for device in devices for move in device.simulated.moves if move.kind == "formula"
    }  # fmt: skip
    needs: dict[Name, list[Name]] = {}
    for key, (device, move) in formulas.items():
        found = [names.find(device.name, text) for text in references(f"{move.text} + {move.condition or '0'}")]
        needs[key] = [name for one in found if one is not None and (name := one[0]) in formulas]
    return [formulas[key] for key in TopologicalSorter(needs).static_order()]


def _circles(devices: Sequence[Device], names: Names) -> Iterator[tuple[Device, Fault]]:
    try:
        formula_order(devices, names)
    except CycleError as error:
        circle: list[Name] = list(reversed(error.args[1]))
        text = " → ".join(f"[{device}/{point}]" for device, point in circle)
        first = next(device for device in devices if device.name == circle[0][0])
        yield first, (("moves", circle[0][1]), f"these formulas need each other: {text}", False)
