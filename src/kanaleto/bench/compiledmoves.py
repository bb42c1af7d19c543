"""What moves the registers of simulated devices, compiled: all of it becomes a few functions over lists of numbers,
made once, that write the registers of each device themselves.

A step, in this order: what masters wrote stands since it came; waves, lists, clocks and counters at the new time; the
new states of what follows or walks, of quantities and machines, all from what stood at the end of the last step, put in
place together; formulas by need; noise, clamping, the registers.

In the functions `V` are numbers in full precision by slot, `O` what they were at the end of the last step, `F` what
they become, `W` decoded registers that masters write, `A` seconds since each device was asked, `K` who remembers
something, and a table's memory has a name of its own.

All devices of a movement share one lock: an answer waits for some hundred registers to be written at most.
"""

import ast
import math
import random
import struct
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from types import CodeType
from typing import Any

from msgspec import Struct

from kanaleto.bench.device import SimulatedDevice
from kanaleto.bench.packedwrites import as_float, guarded, literal, written
from kanaleto.bench.statements import (
    STEP_S,
    Placed,
    bits_in,
    number_of,
    of_state,
    of_time,
    row_at,
    state_number,
    ymdhms,
)
from kanaleto.site.expression import SCOPE, FormulaMemory, check_expression
from kanaleto.site.model import Machine, Move, Point, Quantity
from kanaleto.site.moving import BARE, Name, Names, formula_order, owned_bits

_CHUNK = 500  # registers that are written while a device's lock is held
_STATEMENTS = 400  # of one function
_ARGUMENTS = {"times": "t, dt", "states": "t, dt, F", "formulas": "t, dt"}
_BUILTINS: dict[str, object] = {
    "float": float, "ArithmeticError": ArithmeticError, "ValueError": ValueError, "PackError": struct.error,
    "sin": math.sin, "exp": math.exp, "floor": math.floor, "isfinite": math.isfinite, "whole": round,
}  # fmt: skip


_Code = tuple[int, str]
"""A slot, and the statement that moves it."""


class MovedSlot(Struct):
    """A slot: what is moved there, of which device."""

    device: SimulatedDevice
    name: str
    point: Point | None
    move: Move | None = None
    quantity: Quantity | None = None
    machine: Machine | None = None


class Movement:
    """Of all devices of a bench. `step` is for one thread; a master's write may come on any. Where there is one
    `before`, this one takes its place once `take_over` is called, and writes nothing until then."""

    def __init__(
        self, devices: Sequence[SimulatedDevice], lines: Sequence[object], seed: int = 0,
        before: "Movement | None" = None,
    ) -> None:  # fmt: skip
        self.seed = seed
        self.steps = 0
        self.clamped: dict[Name, int] = {}
        self.wrong: dict[Name, str] = {}
        self.held_s = 0.0  # the longest that the lock was held in the last step
        self._devices = {simulated.device.name: simulated for simulated in devices}
        self._names = Names(lines)  # type: ignore[arg-type]
        self._began_s: float = before._began_s if before is not None else time.time()
        self._memory: FormulaMemory = before._memory if before is not None else FormulaMemory()
        self.lock: threading.RLock = before.lock if before is not None else threading.RLock()
        self._before = before
        for simulated in devices:
            simulated.lock = self.lock
        self._fresh: dict[int, float] = {}
        self._frozen: set[int] = set()
        self._held: set[int] = set()  # what nothing moves until it is given back
        self.slots: list[MovedSlot] = []
        self._slot_of: dict[Name, int] = {}
        self._make_slots()
        count = len(self.slots)
        self.values = [0.0] * count
        self._old = self.values
        self._counted = [0] * count  # steps in which a counter counted, and how often it has
        self._states = [0] * count
        self._in_state = [0] * count  # steps
        self.asked_s = [0.0] * len(devices)
        self._requests = [simulated.requests for simulated in devices]
        self._device_slot = {simulated.device.name: at for at, simulated in enumerate(devices)}
        self._reads: dict[Name, int] = {}  # registers that masters write, as expressions name them
        self._readers: list[tuple[SimulatedDevice, str]] = []
        self.read: list[float] = []
        self._owners: list[tuple[str, str, str]] = []
        self._randoms: list[random.Random] = [
            random.Random(f"{seed}/{one.device.device.name}/{one.name}") for one in self.slots
        ]
        self._functions = self._compiled()
        if before is None:
            self._begin()
            self._hear_writes()

    def _hear_writes(self) -> None:
        moved = {one.device.device.name for one in self.slots}
        for name, simulated in self._devices.items():
            simulated.on_write = self._on_write if self._machine_slots or name in moved else None

    # Slots

    def _make_slots(self) -> None:
        for simulated in self._devices.values():
            settings, points = simulated.device.simulated, simulated.points
            for move in settings.moves:
                self._add(MovedSlot(simulated, move.point, points[move.point], move=move))
            for quantity in settings.quantities:
                self._add(MovedSlot(simulated, quantity.name, None, quantity=quantity))
            for machine in settings.machines:
                self._add(MovedSlot(simulated, machine.point, points[machine.point], machine=machine))

    def _add(self, moved: MovedSlot) -> None:
        self._slot_of[moved.device.device.name, moved.name] = len(self.slots)
        self.slots.append(moved)

    def _begin(self) -> None:
        """What stands before the first step."""
        for at, moved in enumerate(self.slots):
            self._begin_slot(at, moved)
        self._refresh_read()
        for function in self._functions["times"]:
            function(0.0, 0.0)
        self._run_formulas(0.0, 0.0)
        self._write()

    def take_over(self) -> None:
        """An edit while it runs: quantities, states and values that still exist go on as they stand, and so does what
        is held. What is new begins."""
        before, self._before = self._before, None
        assert before is not None
        self.steps = before.steps
        for name, slot in self._device_slot.items():
            old_slot = before._device_slot.get(name)
            self.asked_s[slot] = before.asked_s[old_slot] if old_slot is not None else 0.0
        held: set[int] = set()
        for at, moved in enumerate(self.slots):
            old_slot = before._slot_of.get((moved.device.device.name, moved.name))
            if old_slot is None:
                self._begin_slot(at, moved)
                continue
            if old_slot in before._held:
                held.add(at)
            if old_slot in before._fresh:
                self._fresh[at] = before._fresh[old_slot]
            old = before.slots[old_slot]
            if moved.machine is not None and old.machine is not None:
                name = old.machine.states[before._states[old_slot]].name
                state = next((n for n, one in enumerate(moved.machine.states) if one.name == name), 0)
                self._put_state(at, moved, state)
                self._in_state[at] = before._in_state[old_slot]
            elif moved.machine is None and old.machine is None:
                self.values[at], self._counted[at] = before.values[old_slot], before._counted[old_slot]
            else:
                self._begin_slot(at, moved)
            self._randoms[at] = before._randoms[old_slot]
        self._remake(held)
        self._refresh_read()
        self._write()
        self._hear_writes()

    def _begin_slot(self, at: int, moved: MovedSlot) -> None:
        if moved.quantity is not None:
            self.values[at] = moved.quantity.start
        elif moved.machine is not None:
            self._put_state(at, moved, 0)
        elif moved.point is not None:
            self.values[at] = number_of(moved.device.value(moved.name))

    def begin_again(self, device: str) -> None:
        """What moves on a device stands as at the beginning."""
        for at in self._by_device.get(device, ()):
            self._counted[at] = 0
            self._begin_slot(at, self.slots[at])

    def freeze(self, names: set[tuple[str, str]]) -> None:
        """Registers of these stand still from now on: of points, or (with no name) of all of a device."""
        before, self._frozen = self._frozen, {
            at for at, one in enumerate(self.slots)
            if one.point is not None and names & {(one.device.device.name, one.name), (one.device.device.name, "")}
        }  # fmt: skip
        self._make_writers()
        for at in before - self._frozen:  # a machine writes where it changes only
            if self.slots[at].machine is not None:
                self._put_state(at, self.slots[at], self._states[at])

    def jump(self, device: str, point: str, by: float) -> None:
        """A value is that much further, for good."""
        at = self._slot_of.get((device, point))
        if at is not None and self.slots[at].machine is None:
            self._fresh[at] = self.values[at] + by
            return
        simulated = self._devices[device]
        simulated.put(point, number_of(simulated.value(point)) + by)

    # By hand

    def put(self, device: str, point: Point, data: bytes) -> None:
        """Registers as they are to stand: what moves there goes on from them, where it is not held."""
        simulated = self._devices[device]
        with self.lock:
            simulated.put_data(point, data)
            at = self._slot_of.get((device, point.name))
            machine = self.slots[at].machine if at is not None else None
            if at is not None and machine is None:
                self.values[at] = number_of(simulated.value(point.name))
            elif at is not None and machine is not None:
                self._take_state(at, machine, point, int.from_bytes(data))
            self._on_write(simulated, point.table, point.address, point.size)

    def _take_state(self, at: int, machine: Machine, point: Point, word: int) -> None:
        """The state that its register says, where it says one."""
        mask = sum(1 << bit for bit in owned_bits(machine, point))
        value = number_of(self.slots[at].device.value(point.name))
        for number, state in enumerate(machine.states):
            is_it = (
                word & mask == bits_in(point, state) if state.bits is not None else value == state_number(point, state)
            )
            if is_it:
                self._put_state(at, self.slots[at], number)
                return

    def hold(self, device: str, name: str) -> bool:
        """Nothing moves it from now on; whether anything did."""
        at = self._slot_of.get((device, name))
        if at is not None and at not in self._held:
            self._remake(self._held | {at})
        return at is not None

    def give_back(self, device: str, name: str) -> bool:
        """What moves it goes on from where it stands; whether it was held."""
        at = self._slot_of.get((device, name))
        if at is None or at not in self._held:
            return False
        self._remake(self._held - {at})
        return True

    def is_moved(self, device: str, name: str) -> bool:
        """Whether anything of ours moves it, held or not."""
        return (device, name) in self._slot_of

    @property
    def held(self) -> list[Name]:
        return [(self.slots[at].device.device.name, self.slots[at].name) for at in sorted(self._held)]

    def state_of(self, device: str, name: str) -> str:
        """The state of a machine by its name; nothing where it is none."""
        at = self._slot_of.get((device, name))
        machine = self.slots[at].machine if at is not None else None
        return machine.states[self._states[at]].name if machine is not None and at is not None else ""

    def _remake(self, held: set[int]) -> None:
        """Only what these slots are in is made again."""
        changed, self._held = self._held ^ held, held
        if not changed:
            return
        for kind, pieces in self._code.items():
            for number, piece in enumerate(pieces):
                if any(at in changed for at, _ in piece):
                    self._functions[kind][number] = self._made(piece, kind)
        self._make_writers()

    # What is kept

    def state(self, device: str) -> dict[str, object]:
        """What moves on a device as it stands, by name: numbers, states by their names, how often was counted, what is
        held."""
        slots = [(at, self.slots[at]) for at in self._by_device.get(device, ())]
        return {
            "values": {one.name: self.values[at] for at, one in slots if one.machine is None},
            "states": {one.name: self.state_of(device, one.name) for _, one in slots if one.machine is not None},
            "counted": {one.name: self._counted[at] for at, one in slots if self._counted[at]},
            "held": [one.name for at, one in slots if at in self._held],
        }

    def recall(self, device: str, state: Mapping[str, Any]) -> None:
        """As it stood once, of what there is now."""
        held = set(self._held)
        for at in self._by_device.get(device, ()):
            one = self.slots[at]
            value = state.get("values", {}).get(one.name)
            if one.machine is not None:
                names = [state.name for state in one.machine.states]
                name = state.get("states", {}).get(one.name)
                if name in names:
                    self._put_state(at, one, names.index(name))
            elif isinstance(value, int | float) and math.isfinite(value):
                self.values[at] = float(value)
                self._counted[at] = int(state.get("counted", {}).get(one.name, 0))
            if one.name in state.get("held", ()):
                held.add(at)
        self._remake(held)

    # A step

    @property
    def now_s(self) -> float:
        return self.steps * STEP_S

    def step(self) -> None:
        """A tenth of a second of bench time."""
        self.steps += 1
        now_s, dt = self.steps * STEP_S, STEP_S
        self._memory.now_s = now_s
        for at, simulated in enumerate(self._devices.values()):
            requests = simulated.requests
            is_asked = requests != self._requests[at] or not requests  # nobody has asked yet: it does not count
            self.asked_s[at] = 0.0 if is_asked else self.asked_s[at] + dt
            self._requests[at] = requests
        self._take_written()
        for at in self._word_slots:
            moved = self.slots[at]
            if moved.point is not None:
                self.values[at] = float(moved.device.word_of(moved.point))
        self._old = self.values[:]
        self._refresh_read()
        for function in self._functions["times"]:
            function(now_s, dt)
        fresh = self.values[:]
        for function in self._functions["states"]:
            function(now_s, dt, fresh)
        with self.lock:
            targets = self._next_states(now_s, dt, self._old)
            for at in self._machine_slots:  # a master's write may have moved them meanwhile
                fresh[at] = self.values[at]
            self.values[:] = fresh
            for at, state in targets:
                self._put_state(at, self.slots[at], state)
            for at in self._machine_slots:
                self._in_state[at] += 1
        self._run_formulas(now_s, dt)
        self._write()

    def _take_written(self) -> None:
        with self.lock:
            fresh, self._fresh = self._fresh, {}
            for at, value in fresh.items():
                self.values[at] = value

    def _refresh_read(self) -> None:
        for at, (simulated, name) in enumerate(self._readers):
            self.read[at] = number_of(simulated.value(name))

    def _run_formulas(self, now_s: float, dt: float) -> None:
        for function in self._functions["formulas"]:
            function(now_s, dt)

    def _write(self) -> None:
        self.held_s = 0.0
        for function in self._writers:
            with self.lock:
                began_s = time.perf_counter()
                self._take_written()  # what a master has written since this step began is not written over
                function()
                self.held_s = max(self.held_s, time.perf_counter() - began_s)

    # Machines

    def _next_states(self, now_s: float, dt: float, standing: list[float]) -> list[tuple[int, int]]:
        """Slots of machines that go to another state, one transition each; `standing` is what they look at."""
        found = []
        for at in self._machine_slots:
            machine = self.slots[at].machine
            assert machine is not None
            if at in self._held:
                continue
            state = machine.states[self._states[at]]
            if state.after_s and self._in_state[at] * STEP_S < state.after_s - 1e-9:
                continue
            for target, condition in self._transitions[at][self._states[at]]:
                try:
                    is_so = condition(now_s, dt, standing)
                except (ArithmeticError, ValueError) as error:
                    self._tell_wrong(at, error)
                    continue
                if is_so:
                    found.append((at, target))
                    break
        return found

    def _put_state(self, at: int, moved: MovedSlot, state: int) -> None:
        if state != self._states[at]:
            self._in_state[at] = 0
        self._states[at] = state
        machine, point = moved.machine, moved.point
        assert machine is not None and point is not None
        new_state = machine.states[state]
        if at in self._frozen:  # it goes on, and its register does not show it
            self.values[at] = state_number(point, new_state) if new_state.bits is None else self.values[at]
            return
        with self.lock:
            if new_state.bits is None:
                number = state_number(point, new_state)
                self.values[at] = number
                moved.device.put(point.name, number)
                return
            word = moved.device.word_of(point)
            mask = sum(1 << bit for bit in owned_bits(machine, point))
            bits = bits_in(point, new_state)
            moved.device.put_word(point, word & ~mask | bits)
            self.values[at] = float(word & ~mask | bits)

    def _on_write(self, simulated: SimulatedDevice, table: object, first: int, count: int) -> None:
        """A master wrote: what moves goes on from there, and machines look at once."""
        last = first + count - 1
        for at in self._by_device.get(simulated.device.name, ()):
            point = self.slots[at].point
            if point is None or self.slots[at].machine is not None:
                continue
            if point.table is table and point.address <= last and first < point.end:
                self._fresh[at] = number_of(simulated.value(point.name))
        with self.lock:
            self._refresh_read()
            for at, state in self._next_states(self.now_s, 0.0, self.values[:]):
                self._put_state(at, self.slots[at], state)

    def _tell_wrong(self, at: int, error: Exception) -> None:
        moved = self.slots[at]
        self.wrong[moved.device.device.name, moved.name] = str(error) or type(error).__name__

    # Compiling

    def _compiled(self) -> dict[str, list[Callable[..., None]]]:
        self._machine_slots = [at for at, one in enumerate(self.slots) if one.machine is not None]
        self._word_slots = [
            at for at in self._machine_slots
            if (owner := self.slots[at].machine) is not None and all(state.bits is not None for state in owner.states)
        ]  # fmt: skip
        self._by_device: dict[str, list[int]] = {}
        for at, one in enumerate(self.slots):
            self._by_device.setdefault(one.device.device.name, []).append(at)
        times, states, formulas = list[_Code](), list[_Code](), list[_Code]()
        for at, one in enumerate(self.slots):
            if one.quantity is not None:
                states.append((at, self._of_quantity(at, one, one.quantity)))
            elif one.move is not None and one.move.kind in ("follow", "walk"):
                target = self._text(at, f"[{one.move.text}]", "O") if one.move.kind == "follow" else ""
                states.append((at, self._guarded(at, one.move, of_state(at, one.move, target), "O")))
            elif one.move is not None and one.move.kind != "formula":
                times.append((at, self._guarded(at, one.move, of_time(at, one.point, one.move), "O")))
        for device, move in formula_order([one.device for one in self._devices.values()], self._names):
            at = self._slot_of[device.name, move.point]
            text = self._text(at, move.text, "V")
            formulas.append((at, self._guarded(at, move, [f"V[{at}] = float({text})"], "V")))
        self._transitions: dict[int, list[list[tuple[int, Callable[..., object]]]]] = {
            at: self._of_machine(at) for at in self._machine_slots
        }
        self._make_writers()
        self._code = {
            kind: [code[first : first + _STATEMENTS] for first in range(0, len(code), _STATEMENTS)]
            for kind, code in (("times", times), ("states", states), ("formulas", formulas))
        }
        return {kind: [self._made(piece, kind) for piece in pieces] for kind, pieces in self._code.items()}

    def _make_writers(self) -> None:
        self._writers = [function for simulated in self._devices.values() for function in self._writers_of(simulated)]

    def _scope(self) -> dict[str, object]:
        return {
            **SCOPE, **_BUILTINS, "V": self.values, "W": self.read, "A": self.asked_s, "C": self._counted,
            "R": self._randoms, "K": self._owners, "m": self._memory, "began": self._began_s,
            "wrong": self._tell_wrong, "rows": [one.move.rows if one.move is not None else () for one in self.slots],
            "row_at": row_at, "ymdhms": ymdhms, "old": self._old_values,
        }  # fmt: skip

    def _old_values(self) -> list[float]:
        return self._old

    def _made(self, code: Sequence[_Code], kind: str) -> Callable[..., None]:
        """A function of some hundred statements: it is compiled in time that grows with it. What is held has none."""
        text = f"def run({_ARGUMENTS[kind]}):\n O = old()\n"
        text += "".join(f" {line}\n" for at, line in code if at not in self._held)
        return self._evaluated(text, "run")

    def _evaluated(self, text: str, name: str, more: Mapping[str, object] | None = None) -> Callable[..., None]:
        scope = {**self._scope(), **(more or {})}
        code: CodeType = compile(text, "<bench>", "exec")
        exec(code, scope)  # of trees that were checked, and of numbers of ours
        made = scope[name]
        assert callable(made)
        return made

    def _guarded(self, at: int, move: Move, body: list[str], now: str) -> str:
        """With its condition; what cannot be reckoned stays as it stands, and is reported."""
        text = "; ".join(body)
        if move.condition:
            condition = self._text(at, move.condition, now)
            return guarded(f"if {condition}: {text}", at)
        return guarded(text, at)

    def _text(self, at: int, text: str, now: str) -> str:
        """An expression as code; `now` is the list in which moved points stand as it is to see them."""
        moved = self.slots[at]
        device = moved.device.device.name
        tree, names = check_expression(text, lambda name: self._names.labels_of(device, name), BARE)
        places = []
        for name in names:
            found = self._names.find(device, name)
            assert found is not None
            slot = self._slot_of.get(found[0])
            places.append(f"{now}[{slot}]" if slot is not None else f"W[{self._reading(found[0])}]")
        bare = {"before": f"O[{at}]", "asked_s": f"A[{self._device_slot[device]}]"}
        return ast.unparse(Placed(places, bare, self._owner((device, moved.name, text))).visit(tree))

    def _owner(self, key: tuple[str, str, str]) -> str:
        """Whose memory it is what `rises` and its like remember."""
        self._owners.append(key)
        return f"K[{len(self._owners) - 1}]"

    def _reading(self, name: Name) -> int:
        """Where the decoded register of a point stands that nothing of ours moves."""
        if name not in self._reads:
            self._reads[name] = len(self._readers)
            self._readers.append((self._devices[name[0]], name[1]))
            self.read.append(0.0)
        return self._reads[name]

    def _of_quantity(self, at: int, one: MovedSlot, quantity: Quantity) -> str:
        text = self._text(at, quantity.next, "O")
        low = quantity.low if quantity.low is not None else -math.inf
        high = quantity.high if quantity.high is not None else math.inf
        ends = f"min(max(x, {literal(low)}), {literal(high)})"
        return guarded(f"x = float({text}); F[{at}] = {ends} if isfinite(x) else O[{at}]", at)

    def _of_machine(self, at: int) -> list[list[tuple[int, Callable[..., object]]]]:
        machine = self.slots[at].machine
        assert machine is not None
        names = [state.name for state in machine.states]
        found: list[list[tuple[int, Callable[..., object]]]] = []
        for state in machine.states:
            functions: list[tuple[int, Callable[..., object]]] = []
            for target, text in state.to:
                code = self._text(at, text, "O")
                function = self._evaluated(f"def run(t, dt, O):\n return {code}\n", "run")
                functions.append((names.index(target), function))
            found.append(functions)
        return found

    # Registers

    def _writers_of(self, simulated: SimulatedDevice) -> list[Callable[[], None]]:
        """Functions that write the registers of a device, each of some hundred of them."""
        lines: list[str] = []
        memory: dict[str, object] = {}
        for at in self._by_device.get(simulated.device.name, ()):
            one = self.slots[at]
            if one.point is None or one.machine is not None or at in self._frozen or at in self._held:
                continue
            name = f"B{one.point.table.value}"
            bank = simulated.bank_of(one.point.table)
            memory[name] = bank.memory
            noise = one.move.noise if one.move is not None else 0.0
            value = f"V[{at}] + R[{at}].gauss(0.0, {noise!r})" if noise else f"V[{at}]"
            lines.append(written(at, one.point, name, bank.offset_of(one.point.address), value))
        made = []
        for first in range(0, len(lines), _CHUNK):
            text = "def run():\n" + "".join(f" {line}\n" for line in lines[first : first + _CHUNK])
            more = {
                **memory,
                "pack": struct.pack_into,
                "as_float": as_float,
                "put": self._put_slowly,
                "clamp": self._note_clamped,
            }
            made.append(self._evaluated(text, "run", more))
        return made

    def _put_slowly(self, at: int, value: float) -> None:
        one = self.slots[at]
        assert one.point is not None
        try:
            one.device.put(one.point.name, value)
        except ValueError as error:
            self._tell_wrong(at, error)

    def _note_clamped(self, at: int, low: float, high: float, value: float) -> float:
        one = self.slots[at]
        key = (one.device.device.name, one.name)
        self.clamped[key] = self.clamped.get(key, 0) + 1
        return low if value < low or value != value else high
