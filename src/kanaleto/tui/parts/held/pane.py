"""Snapshots of a device: what it held then beside what it holds now, and the way back."""

from collections.abc import Callable, Hashable, Sequence
from concurrent.futures import Future
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Any

from rich.cells import cell_len
from textual.app import ComposeResult
from textual.strip import Strip

from kanaleto.board.snapshot import Snapshot
from kanaleto.control.order import Order, Result
from kanaleto.control.snapshots import (
    Held,
    SnapshotDiff,
    as_text,
    differences,
    for_device,
    load,
    orders_for,
    restore,
    save,
    standing,
    take,
    writable,
)
from kanaleto.control.wanted import why_not_writable
from kanaleto.files.beside import folder_beside
from kanaleto.site.filefaults import FaultyFile
from kanaleto.tui.parts.below import Below, written_last
from kanaleto.tui.parts.held import KIND
from kanaleto.tui.parts.part import Doors, Part
from kanaleto.tui.shared.actions import Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.holder import expanded
from kanaleto.tui.shared.pane import Drawn, Row
from kanaleto.tui.shared.question import Choice, WriteQuestion
from kanaleto.tui.shared.readings import brief_text
from kanaleto.tui.shared.rows import Rows

FOLDER = "snapshots"
_LOOK_S = 0.5


class HeldHead(Drawn):
    DEFAULT_CSS = "HeldHead { height: 3; }"
    text = ""
    then = ""

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette)
        if y == 0:
            cells.put(" SNAPSHOTS  ", "muted", bold=True).put(self.text, "ink")
        elif y == 2:
            name, value = widths(self.size.width)
            cells.put(" ").put("point", "muted", name).put(self.then, "muted", value, right=True, bold=True)
            cells.put("now", "muted", value, right=True, bold=True)
        return self.strip_of(y, cells, self.size.width)


def widths(width: int) -> tuple[int, int]:
    """Of the name, and of each value."""
    value = 30 if width >= 120 else 20
    return max(min(width - 2 * value - 4, 44), 16), value


class HeldRows(Rows[SnapshotDiff]):
    def identity(self, row: SnapshotDiff) -> Hashable:
        return row.held.key

    def draw(self, row: SnapshotDiff, width: int, ground: str) -> Cells:
        name, value = widths(width)
        held = row.held
        cells = (
            Cells(self.palette, ground).put(" ").put(held.point or f"{held.table.value} {held.address}", "ink", name)
        )
        for one in (row.one, row.other):
            text, words = _value(one), _words(one)
            room = value - cell_len(words) - 1
            cells.put(text, "ink" if one is not None else "dim", max(room, 4), right=True, bold=True)
            cells.put(f" {words}", "sky")
        return cells


def _value(held: Held | None) -> str:
    return "not there" if held is None else f"{held.value} {held.unit}".strip()


def _words(held: Held | None) -> str:
    if held is None or held.table.is_bits:
        return ""
    return held.data.hex(" ", 2).upper()


class HeldPart(Part):
    """`files` are the snapshots of the device, the newest first; `then` what the chosen one has."""

    kind = KIND
    actions = KIND.actions

    def __init__(self, doors: Doors) -> None:
        super().__init__(doors)
        self.device = ""
        self._files: list[Path] = []
        self._chosen = 0
        self._then: list[Held] = []
        self._now: list[Held] = []
        self._title = ""
        self._looked_s = 0.0
        self._only_writable = True
        self._head, self._list, self._below = HeldHead(), HeldRows(), Below()

    @property
    def device_here(self) -> str:
        return self.device

    def compose(self) -> ComposeResult:
        yield self._head
        yield self._list
        yield self._below

    def begin(self, device: str, marked: Sequence[object]) -> None:
        self.device, self._chosen, self._then, self._now = device, 0, [], []
        self._look_for_files()
        self._choose(0)

    @property
    def _folder(self) -> Path | None:
        path = self.context.snapshot.site.path
        return folder_beside(path) / FOLDER if path is not None else None

    def _look_for_files(self) -> None:
        folder = self._folder
        try:
            found = folder.glob(f"{_file_name(self.device)}-*.csv") if folder is not None else iter(())
            self._files = sorted(found, reverse=True)
        except OSError:
            self._files = []

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        if snapshot.now_s - self._looked_s >= _LOOK_S:
            self._looked_s = snapshot.now_s
            self._follow(snapshot)
        room = self._below.room(self._list, self._head.size.height)
        self._below.take([*self._would_hold(snapshot), *self._written(room)], self._list, room)
        self._head.redraw()
        self._list.redraw()

    def _would_hold(self, snapshot: Snapshot) -> list[Row]:
        """Where no snapshot is chosen: what one would keep that can be written."""
        part = snapshot.plan.part_of(self.device) if not self._then else None
        places = [place for place in part.places if not why_not_writable(place.point)] if part is not None else []
        rows: list[Row] = [
            [(f"{place.point.name:<44}", "ink"), (brief_text(place.point, snapshot.reading(place)), "muted")]
            for place in places
        ]
        return [[("WHAT CAN BE WRITTEN, AS IT STANDS NOW", "muted!")], *rows] if rows else []

    def _written(self, room: int) -> list[Row]:
        return written_last(tuple(self.context.control.orders.last), self.device, room)

    def _follow(self, snapshot: Snapshot) -> None:
        """What is polled is compared as it stands now, while one looks."""
        polled = standing(self._then, snapshot)
        known = {row.key: row for row in self._now}
        if any(known.get(key) != row for key, row in polled.items()):
            known |= polled
            self._now = [known[row.key] for row in self._then if row.key in known]
            self._lay_out()

    # What is compared

    def _choose(self, step: int) -> None:
        if not self._files:
            self._title = "no snapshot of this device yet: s saves one; f takes a file, c another device"
            self._lay_out()
            return
        self._chosen = max(0, min(self._chosen + step, len(self._files) - 1))
        self._take_file(self._files[self._chosen])

    def _take_file(self, path: Path) -> None:
        try:
            rows = load(path)
        except FaultyFile as error:
            more = f", and {len(error.faults) - 1} more" if len(error.faults) > 1 else ""
            self.context.trouble("answer", f"{error.faults[0]}{more}")
            return
        helds = [row for row in rows if row.device == self.device] or for_device(rows, self.device)
        self._then, self._title = helds, path.name
        self._read_now()

    def _read_now(self) -> None:
        device = self.device
        bare = [(row.table, row.address, row.address) for row in self._then if not row.point]
        self._work(lambda session: take(session, [device], bare and _joined(bare)), self._take_now)

    def _take_now(self, came: tuple[list[Held], list[str]]) -> None:
        rows, failed = came
        keys = {row.key for row in self._then}
        self._now = [row for row in rows if row.key in keys]
        if failed:
            self.context.tell(failed[0])
        self._lay_out()

    def _lay_out(self) -> None:
        site = self.context.snapshot.site
        then, now = self._then, self._now
        if self._only_writable:
            then, now = writable(site, then), writable(site, now)
        found = differences(then, now) if now or not then else []
        only = " that can be written" if self._only_writable else ""
        count = f" · {len(found)} of {len(then)} values{only} differ" if then else ""
        self._head.text, self._head.then = f"{self.device} · {self._title}{count}", "then"
        self._list.empty_text = "nothing differs" if then and now else "nothing to compare yet"
        self._list.set_rows(found)
        self.context.redraw()

    def _work(self, what: Callable[[Any], Any], then: Callable[[Any], None]) -> None:
        """Ask devices, and go on with what came."""
        engine, later = self.context.engine, self.context.later
        done: Future[Any] = engine.run(what(engine.session))

        def came() -> None:
            error = done.exception()
            if error is not None:
                self.context.tell(str(error))
            else:
                then(done.result())

        done.add_done_callback(lambda _: later(came))

    # Actions

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        only = "all values" if self._only_writable else "only what can be written"
        return [
            *self.keys_of("save", "other", "file", "copy", "restore"),
            *self.keys_of("only", only=only),
            ("escape", "back"),
        ]

    def action_save(self) -> None:
        device = self.device
        self._work(lambda session: take(session, [device]), self._save)

    def _save(self, came: tuple[list[Held], list[str]]) -> None:
        rows, failed = came
        folder = self._folder
        if not rows or folder is None:
            self.context.tell(failed[0] if failed else "the site is not on disk yet: save it first with ctrl+s")
            return
        now = datetime.now()
        path = folder / f"{_file_name(self.device)}-{now:%Y%m%d-%H%M%S}.csv"
        try:
            save(path, as_text(self.context.snapshot.site.name, now.astimezone().isoformat(timespec="seconds"), rows))
        except OSError as error:
            self.context.trouble("answer", f"{path} cannot be written: {error.strerror}")
            return
        left = f"; {failed[0]}" if failed else ""
        self.context.tell(f"{len(rows)} values saved to {path}{left}")
        self._look_for_files()
        self._chosen = 0
        self._choose(0)

    def action_other(self, step: int) -> None:
        self._choose(step)

    def action_file(self) -> None:
        def answer(text: str) -> str | None:
            beside = self.context.holder.beside(text, self.context.snapshot.site.path)
            try:
                path = beside or expanded(text)
            except ValueError as error:
                return str(error)
            if not path.is_file():
                return f"there is no file {path}"
            self._take_file(path)
            return None

        self.context.ask("a snapshot, or a list of what is required (CSV)", "~/", answer)

    def action_copy(self) -> None:
        def answer(text: str) -> str | None:
            names = {device.name.casefold(): device.name for _, device in self.context.snapshot.site.devices()}
            other = names.get(text.strip().casefold())
            if other is None or other == self.device:
                return f"there is no other device {text.strip()!r}"
            self._work(lambda session: take(session, [other]), partial(self._take_other, other))
            return None

        self.context.ask("compare with what another device holds now; its name", "", answer)

    def _take_other(self, other: str, came: tuple[list[Held], list[str]]) -> None:
        self._then, self._title = for_device(came[0], self.device, other), f"as {other} holds it now"
        self._read_now()

    def action_only(self) -> None:
        self._only_writable = not self._only_writable
        self._lay_out()

    def action_go(self) -> None:
        row = self._list.current
        if row is not None and row.held.point:
            self.doors.go_to((self.device, row.held.point))

    def action_restore(self) -> None:
        """Write back what differs, in the snapshot's order."""
        rows = [row.one for row in self._list.rows if row.one is not None]
        orders, left = orders_for(self.context.snapshot.site, rows)
        why = self.context.control.lock.why_not(self.device)
        if why or not orders:
            self.context.tell(why or (left[0] if left else "nothing differs that could be written back"))
            return
        text = "\n".join(f"{order.name}: {order.new_text}" for order in orders[:3])
        more = f"\n… and {len(orders) - 3} more" if len(orders) > 3 else ""
        more += f"\nleft: {left[0]}" + (f", and {len(left) - 1} more" if len(left) > 1 else "") if left else ""
        write = Choice("y", "write back", partial(self._restore, orders))
        count = "one value" if len(orders) == 1 else f"{len(orders)} values, one after the other,"
        question = f"Write back {count} to {self.device}?"
        self.context.ask_to_write(WriteQuestion(question, text + more, (write,)))

    def _restore(self, orders: list[Order]) -> None:
        control = self.context.control
        self._work(
            lambda session: restore(control.orders, orders, lambda result: None), partial(self._restored, orders)
        )

    def _restored(self, orders: list[Order], results: list[Result]) -> None:
        well = sum(result.is_well for result in results)
        wrong = next((result for result in results if not result.is_well), None)
        text = f"{well} of {len(orders)} written back"
        if wrong is not None and wrong.needs is not None:
            agreed = [result.order.with_consent(result.needs) for result in results if result.needs is not None]
            write = Choice("y", "write them", partial(self._restore, agreed))
            self.context.ask_to_write(WriteQuestion(f"{text}; {len(agreed)} want a word", wrong.text, (write,)))
        elif wrong is not None:
            self.context.trouble("answer", f"{text}; {wrong.order.name}: {wrong.text}")
        else:
            self.context.tell(text)
        self._read_now()


def _joined(spans: list[tuple[Any, int, int]]) -> list[tuple[Any, int, int]]:
    """Neighbours in one."""
    found: list[tuple[Any, int, int]] = []
    for table, first, last in sorted(spans, key=lambda one: (one[0].value, one[1])):
        if found and found[-1][0] is table and first <= found[-1][2] + 1:
            found[-1] = (table, found[-1][1], max(last, found[-1][2]))
        else:
            found.append((table, first, last))
    return found


def _file_name(device: str) -> str:
    return "".join(character if character.isalnum() else "-" for character in device)[:60] or "device"
