"""The pad of a device: its command words as switches beside its status words as lamps, set points beside what they do,
what is kept alive, routines, and the last writes."""

from collections.abc import Hashable, Sequence

from textual.app import ComposeResult

from kanaleto.board.board import Quality
from kanaleto.board.snapshot import Snapshot
from kanaleto.control.preview import spot_of
from kanaleto.control.routinerun import RunState, StepOutcome
from kanaleto.control.wanted import is_word_of_bits, why_not_writable
from kanaleto.planning.plan import Place
from kanaleto.site.model import PointRole
from kanaleto.tui.parts.below import Below, last_minute
from kanaleto.tui.parts.pad import KIND
from kanaleto.tui.parts.pad.kinds import AliveRow, Bit, Head, Note, PadPair, PadRow, PadWritten, RoutineRow, Setting
from kanaleto.tui.parts.pad.rows import draw_row
from kanaleto.tui.parts.part import Doors, Part
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.question import Choice, WriteQuestion
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import clock_text, wrapped

_MOST_WRITTEN = 12


class PadRows(Rows[PadRow]):
    """The cursor rests on what can be worked."""

    part: "PadPart"

    def may_rest(self, row: PadRow) -> bool:
        return isinstance(row, Setting | AliveRow | RoutineRow) or (isinstance(row, PadPair) and row.switch is not None)

    def identity(self, row: PadRow) -> Hashable:
        if isinstance(row, PadPair) and row.switch is not None:
            return ("bit", row.switch.place.identity, row.switch.number)
        if isinstance(row, Setting):
            return ("set", row.place.identity)
        if isinstance(row, AliveRow):
            return ("alive", row.state.number)
        return ("routine", row.routine.name) if isinstance(row, RoutineRow) else None

    def draw(self, row: PadRow, width: int, ground: str) -> Cells:
        return draw_row(row, width, Cells(self.palette, ground), self.snapshot)


class PadPart(Part):
    kind = KIND
    actions = KIND.actions

    def __init__(self, doors: Doors) -> None:
        super().__init__(doors)
        self.device = ""
        self._list, self._below = PadRows(), Below()
        self._list.empty_text = "this device is no more"

    def compose(self) -> ComposeResult:
        yield self._list
        yield self._below

    @property
    def device_here(self) -> str:
        return self.device

    def begin(self, device: str, marked: Sequence[object]) -> None:
        """The device that the cursor was on."""
        if device != self.device:
            self.device = device
            self._list.set_rows([])
            self._list.cursor = 0

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        self._list.set_rows(self.rows(snapshot))
        row = self._list.current
        place = row.place if isinstance(row, Setting) else None
        rows = last_minute(snapshot, [place], self.size.width, place.point.name.upper()) if place is not None else []
        self._below.take(rows, self._list, self._below.room(self._list) if rows else 0)

    # What there is

    def rows(self, snapshot: Snapshot) -> list[PadRow]:
        part = snapshot.plan.part_of(self.device)
        if part is None:
            return []
        control = self.context.control
        places = list(part.places)
        commands = [place for place in places if self._is_command(place)]
        lamps = [place for place in places if self._is_status(place)]
        settings = [
            place for place in places
            if not why_not_writable(place.point) and place not in commands and place.point.setting is None
        ]  # fmt: skip
        settings.sort(key=lambda place: place.point.writing.role is not PointRole.SETPOINT)
        found = snapshot.status_of(self.device)
        locked = self.context.control.lock.why_not(self.device)
        line = f"{part.line.name} · unit {part.device.unit_id}"
        state = "" if found is None or found[1].silent_s is None else f" · silent for {found[1].silent_s:.1f} s"
        rows: list[PadRow] = [
            Head(self.device, "", f"{line}{state}"),
            Note(locked or "writing is unlocked", "muted" if locked else "terracotta"), Note(""),
        ]  # fmt: skip
        rows += self._words(snapshot, commands, lamps)
        by_name = part.by_name
        for place in settings:
            rows.append(Setting(place, by_name.get(place.point.writing.feedback)))
        if not commands and not settings:
            rows.append(Note("nothing of this device can be written: its map says access rw or w where something can"))
        alive = [state for state in control.alive if state.wish.order.device == self.device]
        if alive:
            rows += [Note(""), Head("KEPT ALIVE"), *(AliveRow(state) for state in alive)]
        rows += self._routines()
        faults = [fault for fault in control.faults if not fault.is_warning]
        if faults:
            rows += [
                Note(
                    f"{faults[0]}" + (f", and {len(faults) - 1} more (kanaleto check)" if len(faults) > 1 else ""),
                    "ochre",
                )
            ]
        written = tuple(control.orders.last)  # which the engine adds to
        results = [result for result in reversed(written) if result.order.device == self.device]
        if results:
            rows += [Note(""), Head("WRITTEN"), *(PadWritten(result) for result in results[:_MOST_WRITTEN])]
        return rows

    @staticmethod
    def _is_command(place: Place) -> bool:
        point = place.point
        is_word = is_word_of_bits(point) and bool(point.labels)
        return is_word and not why_not_writable(point) and point.writing.role in (None, PointRole.COMMAND)

    @staticmethod
    def _is_status(place: Place) -> bool:
        point = place.point
        return is_word_of_bits(point) and bool(point.labels) and bool(why_not_writable(point))

    def _words(self, snapshot: Snapshot, commands: list[Place], lamps: list[Place]) -> list[PadRow]:
        rows: list[PadRow] = []
        for at in range(max(len(commands), len(lamps))):
            left = commands[at] if at < len(commands) else None
            right = lamps[at] if at < len(lamps) else None
            rows.append(Head(*self._head(snapshot, left, right)))
            switches = self._bits(snapshot, left, True) if left is not None else []
            shown = self._bits(snapshot, right, False) if right is not None else []
            for number in range(max(len(switches), len(shown))):
                switch = switches[number] if number < len(switches) else None
                lamp = shown[number] if number < len(shown) else None
                rows.append(PadPair(switch, lamp, self._sent(switch) if switch is not None else ""))
            rows.append(Note(""))
        return rows

    def _sent(self, bit: Bit) -> str:
        """When this bit was written last, as far as is remembered."""
        mask = 1 << bit.number
        for result in reversed(tuple(self.context.control.orders.last)):
            order = result.order
            is_same = (order.device, order.points) == (bit.place.device.name, (bit.place.point.name,))
            bits = order.mask if order.is_masked else int.from_bytes(order.data)
            if is_same and result.is_well and bits & mask:
                return f"sent {clock_text(result.wall_s)[:8]}"
        return ""

    def _head(self, snapshot: Snapshot, left: Place | None, right: Place | None) -> tuple[str, str, str, str]:
        names, words = ["", ""], ["", ""]
        for at, place in enumerate((left, right)):
            if place is not None:
                reading = snapshot.reading(place)
                names[at] = place.point.name.upper()
                bits = f"{int.from_bytes(reading.data):016b}"
                parts = range(0, 16, 4 if self.size.width >= 110 else 8)
                groups = " ".join(bits[cut : cut + parts.step] for cut in parts)
                words[at] = f"{reading.data.hex().upper()}  {groups}" if reading.data else reading.reason
        return names[0], names[1], words[0], words[1]

    @staticmethod
    def _bits(snapshot: Snapshot, place: Place, is_switch: bool) -> list[Bit]:
        reading = snapshot.reading(place)
        value = reading.value if reading.quality is Quality.GOOD and isinstance(reading.value, int) else None
        return [
            Bit(place, bit, None if value is None else bool(value >> bit & 1), is_switch)
            for bit in sorted(place.point.labels)
        ]

    def _routines(self) -> list[PadRow]:
        control = self.context.control
        routines = [routine for routine in control.routines.values() if routine.device == self.device]
        if not routines:
            return []
        runs = {run.name: run for run in (*control.runs, *control.running)}
        rows: list[PadRow] = [Note(""), Head("ROUTINES")]
        wall_s = self.context.engine.session.clock.at(self.snapshot.now_s)
        for routine in routines:
            run = runs.get(routine.name)
            now = run.steps[min(run.at, len(run.steps) - 1)] if run is not None and run.steps else None
            is_begun = now is not None and now.outcome is StepOutcome.RUNNING
            rows.append(
                RoutineRow(routine, run, max(wall_s - now.wall_s, 0.0) if now is not None and is_begun else None)
            )
            rows += self._dry_rows(run) if run is not None else []
        return rows

    def _dry_rows(self, run: RunState) -> list[PadRow]:
        """All that a dry run would do, step by step."""
        if not any(step.outcome is StepOutcome.WOULD for step in run.steps):
            return []
        rows: list[PadRow] = []
        for step in run.steps:
            text = f"{step.step.number:3}  {step.step.text}" + (f": {step.said}" if step.said else "")
            if step.outcome is StepOutcome.FAILED:
                text += " — this fails"
            parts = wrapped(text, max(self.size.width - 12, 30))
            rows += [Note(f"      {'' if not at else '     '}{part}", "sky") for at, part in enumerate(parts)]
        return rows

    # What can be done

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        row = self._list.current
        if isinstance(row, RoutineRow):
            is_on = row.run is not None and not row.run.outcome
            return [
                *self.keys_of("act", act="stop or answer" if is_on else "run"),
                *self.keys_of("dry"),
                ("escape", "back"),
            ]
        if isinstance(row, AliveRow):
            return [*self.keys_of("keep", keep="stop it"), ("escape", "back")]
        return [*self.keys_of("write", "keep"), ("u", "unlock or lock"), ("S", "snapshots"), ("escape", "back")]

    def action_section(self, step: int) -> None:
        """The first row of the next part of the pad that can be worked."""
        rows, at = self._list.rows, self._list.cursor
        starts = [
            number
            for number, row in enumerate(rows)
            if self._list.may_rest(row) and (not number or not self._list.may_rest(rows[number - 1]))
        ]
        if starts:
            after = [start for start in starts if start > at] if step > 0 else [s for s in reversed(starts) if s < at]
            self._list.place_cursor(after[0] if after else starts[0 if step > 0 else -1])

    def action_write(self) -> object:
        self.action_act()
        return None

    def action_act(self) -> None:
        row = self._list.current
        if isinstance(row, PadPair) and row.switch is not None:
            self.context.write([spot_of(row.switch.place)], row.switch.number)
        elif isinstance(row, Setting):
            self.context.write([spot_of(row.place)])
        elif isinstance(row, RoutineRow):
            self._ask_run(row)
        elif isinstance(row, AliveRow):
            self.action_keep()

    def action_keep(self) -> None:
        row = self._list.current
        if isinstance(row, AliveRow):
            number, name = row.state.number, row.state.wish.order.name
            safe = row.state.wish.safe
            end = f"{safe.hex(' ', 2).upper()} is sent first" if safe is not None else "the last value stays"
            stop = Choice("y", "stop it", lambda: self._stop_alive(number), ends=True)
            self.context.ask_to_write(
                WriteQuestion(f"{self.device}: {name}", f"Stop keeping it alive? At the end {end}.", (stop,))
            )
        elif isinstance(row, PadPair) and row.switch is not None:
            place = row.switch.place
            now = self.snapshot.reading(place)
            word = f"0x{now.data.hex().upper()}" if now.data else "0"
            self.context.write([spot_of(place)], None, f"{word} every 0.5 s then 0")
        elif isinstance(row, Setting):
            self.context.write([spot_of(row.place)], None, " every 0.5 s then 0")

    def _stop_alive(self, number: int) -> None:
        control, later, tell = self.context.control, self.context.later, self.context.tell
        done = self.context.engine.run(control.stop_alive(number, "as was asked"))
        done.add_done_callback(lambda came: later(lambda: tell(came.result()) if not came.exception() else None))

    def action_dry(self) -> None:
        row = self._list.current
        if isinstance(row, RoutineRow):
            self._run(row.routine.name, is_dry=True)

    def _ask_run(self, row: RoutineRow) -> None:
        routine, run = row.routine, row.run
        title = f"“{routine.name}” on {self.device}"
        if run is not None and not run.outcome:
            number = run.number
            do, control = self.context.do, self.context.control
            choices = [Choice("x", "stop it", lambda: do(lambda session: control.stop_run(number)), ends=True)]
            if run.question:
                choices = [
                    Choice("y", "yes", lambda: do(lambda session: control.answer(number, True))),
                    Choice("n", "no", lambda: do(lambda session: control.answer(number, False)), ends=True), *choices,
                ]  # fmt: skip
            if run.waits_to_go:  # asked at the foot of every view as well
                choices = [
                    Choice("y", "next step", lambda: do(lambda session: control.go(number))),
                    Choice("z", "to the end", lambda: do(lambda session: control.go(number, True))), *choices,
                ]  # fmt: skip
            self.context.ask_to_write(WriteQuestion(title, run.question or "It runs.", tuple(choices)))
            return
        locked = self.context.control.lock.why_not(self.device)
        if locked:
            self.context.tell(locked)
            return
        steps = "\n".join(f"{step.number}  {step.text}" for step in routine.steps[:4])
        more = f"\n… and {len(routine.steps) - 4} more" if len(routine.steps) > 4 else ""
        choices = [
            Choice("y", "run it", lambda: self._run(routine.name)),
            Choice("s", "step by step", lambda: self._run(routine.name, by_steps=True)),
        ]
        self.context.ask_to_write(WriteQuestion(f"Run {title}? It writes.", steps + more, tuple(choices)))

    def _run(self, name: str, is_dry: bool = False, by_steps: bool = False) -> None:
        control, later, tell = self.context.control, self.context.later, self.context.tell
        done = self.context.engine.do(lambda session: control.run(name, is_dry=is_dry, by_steps=by_steps))

        def say() -> None:
            error = done.exception()
            if error is not None:
                tell(f"not run: {error}")
            elif is_dry:
                tell(f"“{name}” dry: nothing is sent; what it would send stands beside its name")

        done.add_done_callback(lambda came: later(say))
