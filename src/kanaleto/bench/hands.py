"""What a person does to the registers of simulated devices while a master reads them: sets a value, moves it slowly,
freezes it, gives it back, takes the last of that back."""

import re
from collections.abc import Callable
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.bench.compiledmoves import Movement
from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.statements import STEP_S
from kanaleto.control.wanted import CannotWrite, wanted
from kanaleto.site.model import Access, Point, PointWriting
from kanaleto.wire.codes import Table

_MOST_UNDONE = 200
_SLOWLY = re.compile(r"(.*?)\s+in\s+([0-9]+(?:[.,][0-9]+)?)\s*(s|min)?")
_LONGEST_S = 86_400.0
_WRITTEN_AS = {Table.INPUT: Table.HOLDING, Table.DISCRETE: Table.COIL}


class _Slowly(Struct):
    """A value on its way: from where, to where, when it began (steps) and how many steps it takes."""

    first: float
    last: float
    began: int
    steps: int


class _Step(Struct):
    """What stood before something was done by hand, and whether it was held."""

    device: str
    point: str
    data: bytes
    was_held: bool


class Hands:
    """Of a bench. `movement` gives the one that runs now; for the thread that steps it."""

    def __init__(self, movement: Callable[[], Movement], device: Callable[[str], SimulatedDevice]) -> None:
        self._movement, self._device = movement, device
        self._done: list[_Step] = []
        self._slowly: dict[tuple[str, str], _Slowly] = {}

    @property
    def can_undo(self) -> str:
        """Whose last change can be taken back; nothing where there is none."""
        return f"{self._done[-1].device}/{self._done[-1].point}" if self._done else ""

    def put(self, device: str, name: str, text: str) -> str:
        """A value as it is typed; with `in 20 s` behind it, slowly. What was done, in words. Raises ValueError."""
        simulated, point = self._found(device, name)
        slowly = _SLOWLY.fullmatch(text.strip())
        within_s = 0.0
        if slowly is not None:
            text = slowly[1]
            within_s = float(slowly[2].replace(",", ".")) * (60 if slowly[3] == "min" else 1)
            if not 0 < within_s <= _LONGEST_S:
                raise ValueError(f"slowly is more than 0 s and at most {_LONGEST_S:.0f} s, not {slowly[2]}")
        try:
            made = wanted(as_written(point), text)
        except CannotWrite as error:
            raise ValueError(str(error)) from None
        if made.pulse_s:
            raise ValueError("a value stands until you change it: leave the seconds out, or write “in 5 s”")
        before = simulated.data_of(point)
        data = made.over(before)
        movement = self._movement()
        self._note(device, name, before)
        if within_s:
            first, last = _number(simulated.value(name)), _number(_decoded(point, data))
            if first is None or last is None:
                self._done.pop()
                raise ValueError(f"{name} is no number, and cannot move slowly")
            movement.hold(device, name)
            steps = max(round(within_s / STEP_S), 1)
            self._slowly[device, name] = _Slowly(first, last, movement.steps, steps)
            return f"{name} goes to {made.text} within {within_s:g} s"
        self._slowly.pop((device, name), None)
        movement.put(device, point, data)
        is_held = movement.hold(device, name)
        return f"{name} is {made.text}" + (", held by hand until you give it back" if is_held else "")

    def freeze(self, device: str, name: str) -> str:
        """It stands still as it is. Raises ValueError."""
        simulated, point = self._found(device, name)
        movement = self._movement()
        if not movement.is_moved(device, name):
            raise ValueError(f"nothing of ours moves {name}: it stands still until a master writes it")
        self._note(device, name, simulated.data_of(point))
        self._slowly.pop((device, name), None)
        movement.hold(device, name)
        return f"{name} stands still until you give it back"

    def give_back(self, device: str, name: str) -> str:
        """What moves it moves it again. Raises ValueError."""
        simulated, point = self._found(device, name)
        is_slow = self._slowly.pop((device, name), None) is not None
        self._note(device, name, simulated.data_of(point))
        if not self._movement().give_back(device, name) and not is_slow:
            self._done.pop()
            raise ValueError(f"{name} is not held by hand")
        if is_slow and not self._movement().is_moved(device, name):
            return f"{name} stands where it is"
        return f"{name} moves again as the site says"

    def undo(self) -> str:
        """The last that was done by hand is taken back. Raises ValueError."""
        while self._done:
            step = self._done.pop()
            try:
                simulated, point = self._found(step.device, step.point)
            except ValueError:  # the site was edited meanwhile
                continue
            if len(step.data) != len(simulated.data_of(point)):
                continue
            self._slowly.pop((step.device, step.point), None)
            movement = self._movement()
            movement.put(step.device, point, step.data)
            if step.was_held:
                movement.hold(step.device, step.point)
            else:
                movement.give_back(step.device, step.point)
            return f"{step.point} of {step.device} is as it was before"
        raise ValueError("nothing was changed by hand yet")

    def is_on_its_way(self, device: str, name: str) -> bool:
        return (device, name) in self._slowly

    def step(self) -> None:
        """What moves slowly is a tenth of a second further."""
        movement = self._movement()
        for key, slow in list(self._slowly.items()):
            try:
                simulated, point = self._found(*key)
            except ValueError:
                del self._slowly[key]
                continue
            share = min((movement.steps - slow.began) / slow.steps, 1.0)
            simulated.put(key[1], slow.first + (slow.last - slow.first) * share)
            movement.put(key[0], point, simulated.data_of(point))
            if share >= 1.0:
                del self._slowly[key]

    def _note(self, device: str, name: str, data: bytes) -> None:
        self._done.append(_Step(device, name, data, (device, name) in self._movement().held))
        del self._done[:-_MOST_UNDONE]

    def _found(self, device: str, name: str) -> tuple[SimulatedDevice, Point]:
        try:
            simulated = self._device(device)
            return simulated, simulated.points[name]
        except KeyError:
            raise ValueError(f"{device} has no point {name} any more") from None


def as_written(point: Point) -> Point:
    """A point as somebody sees it who may set all registers of a device."""
    table = _WRITTEN_AS.get(point.table, point.table)
    return replace(point, table=table, access=Access.BOTH, writing=PointWriting())


def _decoded(point: Point, data: bytes) -> Any:
    return data[0] if point.table.is_bits else point.codec.decode(data)


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, int | float) else None
