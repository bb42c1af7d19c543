"""Bench: devices that stand in. At the left who and where; then each register of the device in view with what moves it
and who wrote it; below what masters ask, faults to switch on, and the rehearsal."""

from collections.abc import Iterator
from concurrent.futures import Future
from pathlib import Path

from textual import events
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.strip import Strip

from kanaleto.bench.faults import parse_keys
from kanaleto.bench.states import BenchState, LookState
from kanaleto.board.snapshot import Snapshot
from kanaleto.site.model import Device, Line, Point
from kanaleto.tui.bench_view.asks import Asks
from kanaleto.tui.bench_view.faults import FaultRows
from kanaleto.tui.bench_view.lines import BenchList, StandDevice, StandLine
from kanaleto.tui.bench_view.registers import RegisterRows
from kanaleto.tui.bench_view.rehearsal import RehearsalPane
from kanaleto.tui.bench_view.words import FAULTS, place_text
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.holder import expanded
from kanaleto.tui.shared.pane import Drawn, Panel, Row
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.words import age_text, wrapped

_WIDE, _NARROW, _HIGH, _LEAST_HIGH = 118, 96, 28, 20
_QUIET_S = 3.0
_STEPS = 100  # a nudge is this part of a range
_ABOUT = (
    "Bench is the far side of a line: Kanaleto answers as the devices of this site would, so that a controller's"
    " program can be tried before they are here. What moves their registers stands in the site file (moves, quantity,"
    " machine)."
)

ACTIONS = (
    Action(
        "B", "stand_in", "stand in",
        "stand in for the device, or for all of the line, on a free port of this machine beside polling; again: end it",
    ),
    Action("I", "instead", "instead of it", "lead the line to what stands in for it, nothing is saved; again: back"),
    Action("o", "place", "at a place", "stand in at a place of your own: another port; 0.0.0.0 for all interfaces"),
    Action("enter", "open", "set by hand", "set the register by hand, “40 in 20 s” slowly; switch the fault", "enter"),
    Action("left_square_bracket", "nudge(-1)", "less", "a step less or more, by hand", "[ ]", False),
    Action("right_square_bracket", "nudge(1)", "more", "a step less or more, by hand", "[ ]", False),
    Action("f", "freeze", "freeze", "let the register stand still, or give it back to what moves it"),
    Action("z", "undo_hand", "undo by hand", "take back what was done by hand last"),
    Action("y", "rehearse", "rehearse", "play a rehearsal and judge what the master does; again: end it"),
    Action("C", "clone", "clone", "copy the device, or all of the line, as it answers now: a site to be served"),
    Action("x", "export", "export", "export what masters asked and wrote, as CSV"),
)  # fmt: skip
MORE_KEYS = (("faults", (("enter", "switch the fault on or off"),)),)


class BenchHead(Drawn):
    DEFAULT_CSS = "BenchHead { height: 4; }"
    rows: tuple[Cells, ...] = ()

    def draw_line(self, y: int) -> Strip:
        width = self.size.width
        return self.rows[y].strip(width) if y < len(self.rows) else Cells(self.palette).strip(width)


class BenchFoot(Drawn):
    """The register that the cursor is on, by hand."""

    DEFAULT_CSS = "BenchFoot { height: 1; }"
    cells: Cells | None = None

    def draw_line(self, y: int) -> Strip:
        return (self.cells or Cells(self.palette)).strip(self.size.width)


class FaultHead(Panel):
    DEFAULT_CSS = "FaultHead { height: 3; }"
    target = ""

    def text_rows(self) -> list[Row]:
        return [[("FAULTS", "muted!"), (f" of {self.target}" if self.target else "", "muted")]]


class BenchView(View, Horizontal):
    digit, title, about = "5", "Bench", "go to the devices that stand in: by hand, faults, rehearsals"
    actions = ACTIONS
    more_keys = MORE_KEYS
    BINDINGS = [
        Binding("tab,right,l", "panel(1)", show=False),
        Binding("shift+tab,left,h", "panel(-1)", show=False),
    ]
    _device_name = ""
    _line_name = ""

    def compose(self) -> ComposeResult:
        with Vertical(id="bench-left"):
            yield BenchList()
        with Vertical(id="bench-middle"):
            yield BenchHead()
            yield RegisterRows()
            yield BenchFoot()
            with Horizontal(id="bench-below"):
                yield Asks()
                with Vertical(id="bench-faults"):
                    yield FaultHead()
                    yield FaultRows()
            yield RehearsalPane()

    def on_mount(self) -> None:
        one = self.query_one
        self._list, self._registers, self._faults = one(BenchList), one(RegisterRows), one(FaultRows)
        self._head, self._foot, self._asks = one(BenchHead), one(BenchFoot), one(Asks)
        self._fault_head, self._rehearsal = one(FaultHead), one(RehearsalPane)
        self._list.empty_text = "no devices yet: 1 finds them"
        self._registers.empty_text = "no points yet: 2 has its map"
        self._list.when_moved = self._moved
        self._version = -1

    # What is shown

    @property
    def line(self) -> Line | None:
        return next((line for line in self.snapshot.site.lines if line.name == self._line_name), None)

    @property
    def device(self) -> Device | None:
        line = self.line
        devices = line.devices if line is not None else ()
        return next((device for device in devices if device.name == self._device_name), None)

    @property
    def look(self) -> LookState | None:
        state = self.context.bench.state
        return state.look if state is not None and self._stands_in else None

    @property
    def _stands_in(self) -> bool:
        return self.context.bench.is_served(self._line_name, self._device_name)

    @property
    def target(self) -> str:
        """Of whom the faults are: of the line where the cursor is on one, else of the device."""
        return self._line_name if isinstance(self._list.current, StandLine) else self._device_name

    def about_here(self) -> Iterator[tuple[str, str]]:
        point = self._registers.current
        if self._device_name:
            yield self._device_name, point.name if point is not None and self._registers.has_keys else ""

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        if self._version != snapshot.version:
            self._version = snapshot.version
            self._follow()
        bench, state = self.context.bench, self.context.bench.state
        width, height = self.size.width, self.size.height
        self.set_class(width < _NARROW, "-narrow")
        self.set_class(self._list.has_keys, "-devices")
        self.set_class(width < _WIDE, "-one")
        self.set_class(self._faults.has_keys, "-faults")
        self.set_class(height < _HIGH, "-low")
        self.set_class(height < _LEAST_HIGH, "-tiny")
        self._head.styles.height = 2 if height < _LEAST_HIGH else 4
        device, look = self.device, self.look
        bench.look(self._device_name)
        self._head.rows = tuple(self._head_rows(device, state))
        self._registers.take(device, look, self._stands_in, state.at_s if state is not None else 0.0)
        self._foot.cells = self._foot_cells()
        self._asks.device, self._asks.look, self._asks.state = device, look, state
        self._asks.line = self._line_name
        self._fault_head.target = self.target
        self._faults.take(self.line, self.target, state.faults if state is not None else ())
        self._rehearsal.state = state.rehearsal if state is not None else None
        self.set_class(self._rehearsal.state is not None, "-rehearsing")
        wanted = min(self._rehearsal.wanted_height, max(height // 3, 4))
        if self._rehearsal.styles.height is None or self._rehearsal.styles.height.value != wanted:
            self._rehearsal.styles.height = wanted
        for widget in (self._list, self._head, self._foot, self._asks, self._fault_head, self._rehearsal):
            widget.redraw()

    def _follow(self) -> None:
        """The site was edited, or another is open."""
        self._list.fill(self.snapshot.site.lines)
        if self.device is None:
            self._list.place_cursor(1)
            self._moved()

    def _moved(self) -> None:
        row = self._list.current
        if isinstance(row, StandDevice):
            self._line_name, self._device_name = row.line.name, row.device.name
        elif isinstance(row, StandLine):
            self._line_name = row.line.name
            names = [device.name for device in row.line.devices]
            if self._device_name not in names:
                self._device_name = names[0] if names else ""
        self.context.redraw()

    def _head_rows(self, device: Device | None, state: BenchState | None) -> list[Cells]:
        bench = self.context.bench
        width = max(self.size.width - 40, 30)
        cells = Cells(self.palette).put(" ").put(device.name if device is not None else "no device", bold=True)
        if device is not None:
            cells.put(f"  unit {device.unit_id}", "muted")
        if device is None or not bench.served:
            about = [Cells(self.palette).put(" ").put(text, "muted") for text in wrapped(_ABOUT, width)[:2]]
            if device is not None:
                cells.put("  ·  nobody stands in: B begins", "muted")
            return [cells, *about, *([self._columns()] if len(about) < 2 else [])]
        if not self._stands_in:
            return [cells.put("  ·  it does not stand in: B begins, beside polling", "muted"), *self._head_below()]
        served = state.device(device.name) if state is not None else None
        if served is not None and served.is_silenced:
            cells.put("  ·  another answers under its unit ID: it says nothing", "terracotta")
        elif served is not None and served.times:
            cells.put(f"  ·  asked {served.per_s:.1f} times a second", "muted")
        elif served is not None:
            cells.put("  ·  never asked yet", "ochre")
        room = max(self._registers.size.width - cells.width - 19, 8)
        cells.put(f"  ·  stands in at {place_text(bench.served[self._line_name].link, room)}", "muted")
        return [cells, *self._head_below()]

    def _head_below(self) -> list[Cells]:
        bench = self.context.bench
        cells = Cells(self.palette).put(" ")
        if bench.silent_s > _QUIET_S:
            cells.put(f"its process has said nothing for {age_text(bench.silent_s)}", "terracotta")
        elif self._line_name in bench.leads:
            real = bench.leads[self._line_name].real
            cells.put(
                f"{self._line_name} is led here instead of {real.place}: I leads it back, nothing is saved", "ochre"
            )
        state = bench.state
        if state is not None and state.left_out_s:
            cells.put(f"  this machine is too slow: {state.left_out_s:.1f} s were left out", "ochre")
        is_low = self.size.height < _LEAST_HIGH
        return [self._columns()] if is_low else [cells, Cells(self.palette), self._columns()]

    def _columns(self) -> Cells:
        return self._registers.head(max(self._registers.size.width, 40))

    def _foot_cells(self) -> Cells:
        cells, point = Cells(self.palette).put(" "), self._registers.current
        if point is None or not self._stands_in or self._registers.data_of(point) is None:
            return cells
        cells.put("◆ ", "ochre").put(self._registers.value_text(point), bold=True)
        limits = point.limits
        if limits.range_low is not None and limits.range_high is not None:
            value = self._number(point)
            low, high = limits.range_low, limits.range_high
            share = (value - low) / (high - low) if value is not None and high > low else 0.0
            full = round(min(max(share, 0.0), 1.0) * 24)
            cells.put(f"   {low:g} ", "muted").put("━" * full, "ochre").put("─" * (24 - full), "rules")
            cells.put(f" {high:g}", "muted")
        can_undo = self.context.bench.state.can_undo if self.context.bench.state is not None else ""
        hints = "   [ ] move it   enter types a value" + (
            f"   z undoes {can_undo.partition('/')[2]}" if can_undo else ""
        )
        return cells.put(hints, "muted")

    def _number(self, point: Point) -> float | None:
        data = self._registers.data_of(point)
        if data is None:
            return None
        value = data[0] if point.table.is_bits else point.codec.decode(data)
        return float(value) if isinstance(value, int | float) else None

    # Keys

    def focus_rows(self) -> None:
        self.screen.set_focus(self._registers if self._stands_in and self._registers.rows else self._list)

    def keys_here(self) -> list[Key]:
        bench = self.context.bench
        is_led = self._line_name in bench.leads
        verbs = {
            "stand_in": "end standing in" if self._stands_in else "stand in",
            "instead": "lead it back" if is_led else "instead of it",
            "open": "its registers",
        }
        turns = ("instead",) if is_led else ("stand_in", "instead", "place")
        if self._list.has_keys:
            return self.keys_of(*turns, "open", "rehearse", "clone", **verbs)
        if self._faults.has_keys:
            verbs["open"] = "switch it"
            return [*self.keys_of("open", turns[0], **verbs), ("tab", "devices")]
        point, look = self._registers.current, self.look
        is_held = point is not None and look is not None and point.name in (*look.held, *look.slowly)
        verbs["open"], verbs["freeze"] = "set by hand", "give back" if is_held else "freeze"
        return [
            *self.keys_of("open", "freeze", "undo_hand", turns[0], "rehearse", **verbs),
            ("tab", "faults"),
            *self.keys_of("export"),
        ]

    def action_panel(self, step: int) -> None:
        panels: list[BenchList | RegisterRows | FaultRows] = [self._list, self._registers, self._faults]
        at = next((number for number, panel in enumerate(panels) if panel.has_keys), 0)
        self.screen.set_focus(panels[(at + step) % len(panels)])
        self.context.redraw()

    def back(self) -> None:
        self.screen.set_focus(self._list)
        self.context.redraw()

    def on_click(self, event: events.Click) -> None:
        self.context.redraw()

    # Standing in

    def action_stand_in(self) -> None:
        line = self.line
        if line is None or not line.devices:
            self.context.tell("there is no device here that could stand in: 1 finds devices")
            return
        is_line = isinstance(self._list.current, StandLine) and self._list.has_keys
        names = [device.name for device in line.devices] if is_line else [self._device_name]
        self.context.bench.turn(line, names)

    def action_place(self) -> None:
        line, bench = self.line, self.context.bench
        if line is None or not line.devices:
            self.context.tell("there is no device here that could stand in: 1 finds devices")
            return
        is_line = isinstance(self._list.current, StandLine) and self._list.has_keys
        names = [device.name for device in line.devices] if is_line else [self._device_name]
        served = bench.served.get(line.name)
        now = str(served.link if served is not None else line.link)
        who = line.name if is_line else self._device_name
        question = f"{who} stands in at (a link; 0.0.0.0 lets every machine ask that reaches this one)"
        self.context.ask(question, now, lambda text: bench.turn_at(line, names, text))

    def action_instead(self) -> None:
        line = self.line
        if line is None or not line.devices:
            self.context.tell("there is no line here that could be led elsewhere")
            return
        self.context.bench.turn_instead(line)

    # By hand

    def action_open(self) -> None:
        if self._list.has_keys:
            self.screen.set_focus(self._registers)
            self.context.redraw()
        elif self._faults.has_keys:
            self._switch_fault()
        else:
            self._set_by_hand()

    def _point(self) -> Point | None:
        """The register that the cursor is on, where something can be done by hand."""
        point = self._registers.current
        if point is None:
            self.context.tell("put the cursor on a register first")
        elif not self._stands_in:
            self.context.tell(f"{self._device_name} does not stand in: B begins")
            return None
        return point

    def _set_by_hand(self) -> None:
        point, device = self._point(), self._device_name
        if point is None:
            return
        data = self._registers.data_of(point)
        now = self._registers.value_text(point).removesuffix(f" {point.unit}" if point.unit else "")

        def take(text: str) -> "Future[str] | None":
            return self._asked("put", device=device, point=point.name, text=text)

        question = f"{point.name} by hand{f', in {point.unit}' if point.unit else ''} (“in 20 s” behind it: slowly)"
        self.context.ask(question, now if data is not None else "", take)

    def _asked(self, do: str, **keys: str) -> "Future[str]":
        """What was typed stays there where it is refused."""
        done, context = self.context.bench.ask(do, **keys), self.context

        def came(done: "Future[str]") -> None:
            error = done.exception()
            text = str(error) if error is not None else done.result()
            context.later(lambda: context.trouble("answer", text) if error is not None else context.tell(text))

        done.add_done_callback(came)
        return done

    def action_nudge(self, step: int) -> None:
        point = self._point()
        number = self._number(point) if point is not None else None
        if point is None:
            return
        if number is None or point.table.is_bits or point.is_state:
            self.context.tell(f"{point.name} has no steps: enter types a value")
            return
        limits = point.limits
        low, high = limits.range_low, limits.range_high
        by = (high - low) / _STEPS if low is not None and high is not None and high > low else 1.0
        wanted = number + step * by
        wanted = min(max(wanted, low), high) if low is not None and high is not None else wanted
        self.context.bench.do("put", device=self._device_name, point=point.name, text=f"{wanted:.10g}")

    def action_freeze(self) -> None:
        point, look = self._point(), self.look
        if point is not None and look is not None:
            is_held = point.name in (*look.held, *look.slowly)
            self.context.bench.do("give_back" if is_held else "freeze", device=self._device_name, point=point.name)

    def action_undo_hand(self) -> None:
        if not self.context.bench.served:
            self.context.tell("nobody stands in, and nothing was done by hand")
            return
        self.context.bench.do("undo")

    # Faults

    def _switch_fault(self) -> None:
        name, target, bench = self._faults.current, self.target, self.context.bench
        if name is None or not target:
            return
        if not bench.served:
            bench.tell_nobody(self._line_name)
            return
        standing = self._faults.fault(name)
        if standing is not None:
            bench.mend(target, name)
            return
        message, keys = FAULTS[name]
        if not keys:
            bench.fault(target, name, {})
            return
        if name == "jump":
            point = self._registers.current
            keys = f"point='{point.name}' by=1" if point is not None else keys

        def take(text: str) -> str | None:
            try:
                found = parse_keys(text)
            except ValueError as error:
                return str(error)
            bench.fault(target, name, found)
            return None

        self.context.ask(f"{target}: {message}", keys, take, is_added_to=True)

    # Rehearsals

    def action_rehearse(self) -> None:
        bench, state = self.context.bench, self.context.bench.state
        if not bench.served:
            bench.tell_nobody(self._line_name)
            return
        running = state.rehearsal if state is not None else None
        if running is not None and not running.is_over:
            bench.do("stop_rehearsal")
            return
        folder = self.context.door.opened.path.parent
        files = sorted(folder.glob("rehearsals/*.toml"))
        listed = [(str(path.relative_to(folder)), "") for path in files[:50]]
        first = listed[0][0] if listed else "rehearsals/"

        def take(text: str) -> "Future[str] | str | None":
            try:
                path = folder / expanded(text)
            except ValueError as error:
                return str(error)
            if not path.is_file():
                return f"{path} is no file"
            return self._asked("rehearse", file=str(path))

        self.context.ask("play a rehearsal (a TOML file)", first, take, listed=listed)

    # Clones and tables

    def action_clone(self) -> None:
        line, device = self.line, self.device
        if line is None or device is None:
            self.context.tell("there is no device here that could be cloned")
            return
        is_line = isinstance(self._list.current, StandLine) and self._list.has_keys
        devices = [one for one in line.devices if one.points] if is_line else [device]
        title = line.name if is_line else device.name

        def take(text: str) -> str | None:
            from kanaleto.bench.clonefile import why_not_written

            try:
                path = expanded(text)
            except ValueError as error:
                return str(error)
            why = why_not_written(path)
            if why:
                return why
            self.context.bench.clone(line, devices, path)
            return None

        name = "".join(letter if letter.isalnum() else "-" for letter in title.lower())
        folder = self.context.door.opened.path.parent
        question = f"clone {title} by reading alone, to (some devices clear counters when read)"
        self.context.ask(question, str(folder / f"{name}-clone.toml"), take)

    def action_export(self) -> None:
        device, look, state = self.device, self.look, self.context.bench.state
        if device is None or look is None or state is None:
            self.context.tell("nobody stands in here: there is nothing to export")
            return

        def take(text: str) -> "Future[str] | str":
            try:
                path = expanded(text)
            except ValueError as error:
                return str(error)
            if path.suffix != ".csv":
                return f"a table of masters ends in .csv, not in {path.suffix or 'nothing'}"
            if path.exists():
                return f"{path} is there already: name another file"
            if not path.parent.is_dir():
                return f"there is no folder {path.parent}"
            return self._asked("export", file=str(path))

        name = self.snapshot.site.name.replace("/", "-").replace(" ", "-").lower() or "bench"
        self.context.ask("export what masters asked and wrote, as", str(Path("~") / f"{name}-masters.csv"), take)

    def close(self) -> None:
        return
