"""What moved: from a key press on, points ranked by how much they changed against their own noise before; and registers
that no point names yet."""

from collections.abc import Hashable
from threading import Thread

from msgspec import Struct
from textual.app import ComposeResult
from textual.strip import Strip

from kanaleto.analysis.barewords import read_along
from kanaleto.analysis.movement import NOTICED, Moved, MovedWord, WhatMoved, ranked_words
from kanaleto.board.snapshot import Snapshot
from kanaleto.editing.pointedit import add_points
from kanaleto.planning.plan import Identity
from kanaleto.polling.bare import MOST_WORDS, Bare
from kanaleto.site.counting import from_wire, to_wire
from kanaleto.site.model import Device, Point
from kanaleto.tui.parts.moved import KIND
from kanaleto.tui.parts.part import Doors, Part
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.figures import text_of
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import clock_text
from kanaleto.wire.codes import Table

_RANK_EVERY_S = 0.9
_MOST_ROWS = 60


class PointMoved(Struct, frozen=True):
    moved: Moved


class WordMoved(Struct, frozen=True):
    device: str
    table: Table
    moved: MovedWord
    point: str


MovedRow = PointMoved | WordMoved


class MovedHead(Drawn):
    DEFAULT_CSS = "MovedHead { height: 3; }"
    texts: tuple[str, str] = ("", "")

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        if y == 0:
            cells.put(" WHAT MOVED ", "muted", bold=True).put(self.texts[0], "ink")
        elif y == 1:
            cells.put(f" {self.texts[1]}", "muted")
        return self.strip_of(y, cells, self.size.width)


class MovedRows(Rows[MovedRow]):
    def identity(self, row: MovedRow) -> Hashable:
        return row.moved.identity if isinstance(row, PointMoved) else (row.device, row.table, row.moved.address)

    def draw(self, row: MovedRow, width: int, ground: str) -> Cells:
        score = row.moved.score
        tone = "verdigris" if score >= NOTICED else "muted"
        cells = Cells(self.palette, ground).put(" ")
        wide = width >= 110
        name, whose, change = self._texts_of(row)
        cells.put(name, "ink" if score >= NOTICED else "muted", 25 if wide else 19, bold=score >= NOTICED)
        cells.put(" ").put(whose, "muted", 24 if wide else 16).put(" ")
        cells.put(f"× {_times(score)}", tone, 8, right=True).put("  ")
        room = 24 if wide else 0
        length = min(room, round(room * min(score / 30, 1.0))) if score >= 1 else 0
        cells.put("━" * length, tone).put("─" * (room - length), "rules" if ground != "rules" else "dim")
        cells.put("  " if wide else "")
        return cells.put(change, "ink" if score >= NOTICED else "muted")

    def _texts_of(self, row: MovedRow) -> tuple[str, str, str]:
        if isinstance(row, WordMoved):
            site = self.snapshot.site
            device = next((device for _, device in site.devices() if device.name == row.device), None)
            count = from_wire(row.moved.address, row.table, device.numbering) if device is not None else ""
            name = f"{row.table.value} {count}  0x{row.moved.address:04X}"
            named = f"{row.device} · {row.point}" if row.point else row.device
            before, after = round(row.moved.before), round(row.moved.after)
            return name, named, f"{before} → {after}  0x{after & 0xFFFF:04X}"
        place = self.snapshot.place_of(row.moved.identity)
        device_name, name = row.moved.identity
        if place is None:
            return name, device_name, "is no more"
        values = (row.moved.before, row.moved.after)
        then, now = (value if isinstance(value, str) else text_of(place, value) for value in values)
        noise = "  (had been still)" if row.moved.was_still else ""
        if not row.moved.was_still and not place.point.is_state:
            noise = f"  (noise {row.moved.noise:.2g})"
        return name, device_name or "derived", f"{then} → {now} {place.point.unit}{noise}"


class MovedPart(Part):
    kind = KIND
    actions = KIND.actions

    def __init__(self, doors: Doors) -> None:
        super().__init__(doors)
        self._moved: WhatMoved | None = None
        self._bare: Bare | None = None
        self._since_s = self._ranked_s = 0.0
        self._begun = 0
        self._is_at_top = True
        self._head, self._list = MovedHead(), MovedRows()
        self._list.empty_text = "looking at what was before …"
        self._list.when_moved = self._moved_cursor

    def _moved_cursor(self) -> None:
        self._is_at_top = self._list.cursor == 0

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list

    def begin(self, device: str, marked: list[Identity]) -> None:
        """From now on."""
        snapshot = self.context.snapshot
        self._moved, self._since_s, self._ranked_s = None, snapshot.now_s, 0.0
        self._begun += 1
        self._list.empty_text = "looking at what was before …"
        self._list.set_rows(())
        self._is_at_top = True
        number, later = self._begun, self.context.later

        def work() -> None:
            moved = WhatMoved(snapshot)
            later(lambda: self._take(number, moved))

        Thread(target=work, name="moved", daemon=True).start()

    def _take(self, number: int, moved: WhatMoved) -> None:
        if number == self._begun:
            self._moved = moved

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        moved = self._moved
        if moved is not None:
            moved.look(snapshot)
            if snapshot.now_s - self._ranked_s >= _RANK_EVERY_S:
                self._ranked_s = snapshot.now_s
                self._fill(moved)
        self._tell()
        self._head.redraw()
        self._list.redraw()

    def _fill(self, moved: WhatMoved) -> None:
        rows: list[MovedRow] = [PointMoved(one) for one in moved.ranked(_MOST_ROWS) if one.score >= NOTICED]
        state = self._bare.state if self._bare is not None else None
        if state is not None:
            found = self.snapshot.plan.part_of(state.device)
            points = found.device.points if found is not None else ()
            for word in ranked_words(state, self._since_s, _MOST_ROWS):
                if word.score >= NOTICED:
                    named = _named_there(points, state.table, word.address)
                    rows.append(WordMoved(state.device, state.table, word, named))
        for along, between in read_along(self.snapshot):
            if state is None or (state.device, state.table) != (along.device, along.table):
                rows += [
                    WordMoved(along.device, along.table, word, "")
                    for word in ranked_words(along, self._since_s, _MOST_ROWS)
                    if word.score >= NOTICED and word.address in between
                ]
        rows.sort(key=lambda row: -row.moved.score)
        self._list.empty_text = "nothing has moved more than its noise since then"
        self._list.set_rows(rows[:_MOST_ROWS])
        if self._is_at_top:  # nobody has moved the cursor: it is on what moved most
            self._list.place_cursor(0)

    def _tell(self) -> None:
        since = self.context.engine.session.clock.at(self._since_s)
        noticed = len(self._list.rows)
        text = "nothing yet: disturb the measurement" if not noticed else f"{noticed} moved more than their noise"
        if self.snapshot.is_held:
            text = "polling is held: nothing can move"
        self._head.texts = (f"since {clock_text(since)[:8]} · {text}", self._bare_text())

    def _bare_text(self) -> str:
        state = self._bare.state if self._bare is not None else None
        if state is None:
            return (
                "× is how many times its usual noise it moved · m begins again · registers that no point names: those "
                "that are read along with points are here too, b watches others"
            )
        found = self.snapshot.plan.part_of(state.device)
        numbering = found.device.numbering if found is not None else None
        ends = [
            from_wire(at, state.table, numbering) if numbering is not None else str(at)
            for at in (state.first, state.last)
        ]
        count = sum(stretch.count for stretch in state.words)
        refused = f", {sum(last - first + 1 for first, last in state.refused)} refused" if state.refused else ""
        text = f": {state.text}" if state.text else ""
        watched = f"{state.table.value} {ends[0]} … {ends[1]} of {state.device}"
        return f"also {watched} as bare words: {count} read{refused}{text}"

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        row = self._list.current
        of_row = self.keys_of("name_it") if isinstance(row, WordMoved) else self.keys_of("go", "pin")
        return [("m", "from now on"), *of_row, *self.keys_of("bare"), ("escape", "back")]

    def back(self) -> None:
        self.end_bare()
        self._moved = None
        self._begun += 1
        self.leave()

    def end_bare(self) -> None:
        bare, self._bare = self._bare, None
        if bare is not None:
            self.context.do(lambda session: bare.stop())

    def _identity(self) -> Identity | None:
        row = self._list.current
        return row.moved.identity if isinstance(row, PointMoved) else None

    def action_go(self) -> None:
        identity = self._identity()
        if identity is not None:
            self.doors.go_to(identity)

    def action_pin(self) -> None:
        identity = self._identity()
        if identity is not None:
            self.doors.pin(identity)

    def action_bare(self) -> None:
        row = self._list.current
        name = row.device if isinstance(row, WordMoved) else row.moved.identity[0] if row is not None else ""
        name = name or self.doors.device_here()
        found = self.snapshot.plan.part_of(name)
        if found is None:
            self.context.tell("put the cursor on a point of the device first")
            return
        device = found.device
        start = from_wire(0, Table.HOLDING, device.numbering)
        end = from_wire(99, Table.HOLDING, device.numbering)
        question = f"registers of {name} to watch, named or not (table first-last, as its manual counts)"
        self.context.ask(question, f"holding {start}-{end}", lambda text: self._watch(device, text))

    def _watch(self, device: Device, text: str) -> str | None:
        try:
            table, first, last = parse_range(text, device)
        except ValueError as error:
            return str(error)
        session = self.context.engine.session
        bare = self._bare = self._bare or Bare(session)
        self.context.do(lambda _: bare.start(device.name, table, first, last))
        self.context.tell("watched from now on: a few seconds to know their noise, then m and touch it")
        return None

    def action_name_it(self) -> None:
        row = self._list.current
        if not isinstance(row, WordMoved):
            self.context.tell("that is a point already" if row is not None else "nothing moved yet")
            return
        found = self.snapshot.plan.part_of(row.device)
        if found is None:
            return
        device = found.device
        count = from_wire(row.moved.address, row.table, device.numbering)
        point = f"{'Bit' if row.table.is_bits else 'Register'} {count}"
        cells = {"name": point, "table": row.table.value, "address": count}
        cells |= {} if row.table.is_bits else {"type": "uint16"}
        text = f"{point} is a point of {device.name}; c in Map names it, ctrl+z takes it back"
        self.context.edit(add_points(device.name, [cells]), then=lambda done: self.context.tell(text))


def parse_range(text: str, device: Device) -> tuple[Table, int, int]:
    """`holding 40001-40100`, as the device's manual counts: table, first and last address on the wire. Raises
    ValueError."""
    words = text.replace("–", "-").replace("…", "-").replace("..", "-").split()
    tables = {table.value: table for table in Table}
    table = tables.get(words[0].lower()) if len(words) > 1 else Table.HOLDING
    if table is None:
        raise ValueError(f"{words[0]!r} is no table; there are {', '.join(tables)}")
    first, dash, last = "".join(words[1:] if len(words) > 1 else words).partition("-")
    try:
        ends = [to_wire(part.strip(), table, device.numbering) for part in (first, last if dash else first)]
    except ValueError as error:
        raise ValueError(f"{text!r}: {error}; write it like holding 40001-40100") from None
    if ends[1] < ends[0]:
        raise ValueError(f"{text!r}: the last comes before the first")
    if ends[1] - ends[0] >= MOST_WORDS:
        raise ValueError(f"{ends[1] - ends[0] + 1} at once are too many: {MOST_WORDS} at most")
    return table, ends[0], ends[1]


def _named_there(points: tuple[Point, ...], table: Table, address: int) -> str:
    return next((point.name for point in points if point.table is table and point.address <= address < point.end), "")


def _times(score: float) -> str:
    return f"{score:.1f}" if score < 10 else f"{score:.0f}" if score < 10000 else "9999+"
