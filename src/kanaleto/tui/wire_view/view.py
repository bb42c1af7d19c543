"""Wire: follows the newest exchange until the cursor moves; then the list stands still until one follows again."""

from collections.abc import Iterator
from concurrent.futures import Future
from datetime import datetime
from pathlib import Path
from struct import pack

from textual import events
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.strip import Strip
from textual.widgets import Input

from kanaleto.board.snapshot import Snapshot
from kanaleto.capture.filter import FAILED, ExchangeFilter
from kanaleto.capture.ranked import KeyedRow
from kanaleto.capture.row import ExchangeRow
from kanaleto.control.preview import spot_of
from kanaleto.events.log import length_text
from kanaleto.evidence.finding import WireFinding
from kanaleto.finding.scratch import ScratchQuestion
from kanaleto.planning.plan import Place
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.filter import Filter
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.wishes import ReadAgain, ShowExchange, ShowMoment, ShowPoint
from kanaleto.tui.shared.words import clock_text
from kanaleto.tui.wire_view.aside import AskedAside
from kanaleto.tui.wire_view.beside import Beside
from kanaleto.tui.wire_view.bytes import BytesPanel
from kanaleto.tui.wire_view.fields import written_points
from kanaleto.tui.wire_view.lane import SPANS_MS, LaneInFull
from kanaleto.tui.wire_view.looking import AnswersOf
from kanaleto.tui.wire_view.opening import ask_capture
from kanaleto.tui.wire_view.rows import WireColumns, WireRows
from kanaleto.tui.wire_view.source import Source
from kanaleto.wire.pdu import Read

_NOTHING = (
    "Wire shows each exchange byte by byte: when it was asked, what came, and what is wrong with it.\n"
    "no exchange yet: 1 finds devices to ask, o opens a capture"
)


class WireHead(Drawn):
    DEFAULT_CSS = "WireHead { height: 1; }"
    scale_ms = 50
    note = ""
    day = ""
    """Of the row under the cursor, where it is not today."""

    def draw_line(self, y: int) -> Strip:
        width = self.size.width
        columns = WireColumns.fit(width)
        cells = Cells(self.palette).put(f" at {self.day}".rstrip(), "muted", 15)
        if columns.line:
            cells.put("line", "muted", columns.line)
        cells.put("device", "muted", columns.device)
        if len(self.note) > columns.outcome + 1:  # what is reported at length takes the place of the scale
            cells.at(max(width - len(self.note) - 1, cells.width + 1))
            return cells.put(self.note, "ochre", max(width - cells.width, 1)).strip(width)
        cells.put("asked", "muted", columns.asked)
        if columns.times:
            start = cells.width
            parts = 4 if columns.times >= 32 else 2 if columns.times >= 16 else 1
            for part in range(parts):
                cells.at(start + round(part / parts * (columns.times - 1)))
                number = self.scale_ms * part / parts
                cells.put(f"{number:g}" if part else "0 ms", "dim")
            cells.at(start + columns.times)
        cells.put("  ").put(self.note or "outcome", "ochre" if self.note else "muted", max(width - cells.width, 1))
        return cells.strip(width)


_MANY, _APART_S = 6, 0.45  # more rows than these are nothing that one reads while they run: drawn twice a second
_LOOK_S, _PLACE_S = 0.015, 0.5


class WireView(View, Vertical):
    digit, title, about = "4", "Wire", "go to the exchanges and their bytes"
    actions = (
        Action("f", "follow", "follow", "follow the newest exchange, or stand still"),
        Action("e", "failed", "only failed", "only what failed, the newest of it open"),
        Action("left_square_bracket", "failure(-1)", "failure before", "the failure before, the next one", "[ ]"),
        Action("right_square_bracket", "failure(1)", "next failure", "the failure before, the next one", "[ ]"),
        Action("enter", "open", "fold or open bytes", "fold the bytes away, or open them"),
        Action("v", "mark", "mark", "mark an exchange, and another one: the time between them; a third begins again"),
        Action("d", "points", "its points", "the point that the exchange brought, in Live; i there comes back"),
        Action("t", "then", "trend then", "all views at the moment of the exchange: the trend of what it brought"),
        Action(
            "s",
            "again",
            "ask again",
            "the same read in a scratch reading, to be changed; what a write wrote, in the line that writes",
        ),
        Action(
            "a", "answers", "answers of when", "how devices answer: the last 10 min, an hour, round the cursor, all"
        ),
        Action("i", "lane", "line in full", "the line round the cursor: single exchanges by device; again: the bytes"),
        Action("plus", "lane_span(-1)", "less time", "less or more time in the line in full", "+ -"),
        Action("minus", "lane_span(1)", "more time", "less or more time in the line in full", "+ -"),
        Action(
            "z",
            "own",
            "its own counters",
            "the counters of the device (function 08), asked once; again: how both grew",
        ),
        Action("y", "when", "when it fails", "hour, period, length, neighbour, load or what changed: when it fails"),
        Action("tab", "panel", "next panel", "list, bytes, findings; there enter lists the rows that show one"),
        Action("x", "export", "save for others", "what is listed as a capture, a case, its document, or a drawing"),
        Action("o", "capture", "open a capture", "a capture, a tape, or what was laid aside: opened here; escape ends"),
    )

    def compose(self) -> ComposeResult:
        yield WireHead()
        yield WireRows()
        yield Filter(self._leave_filter)
        with Horizontal(id="wire-below"):
            yield BytesPanel()
            yield LaneInFull()
            yield Beside()

    def on_mount(self) -> None:
        self._list = self.query_one(WireRows)
        self._head = self.query_one(WireHead)
        self._filter = self.query_one(Filter)
        self._bytes = self.query_one(BytesPanel)
        self._beside = self.query_one(Beside)
        self._lane = self.query_one(LaneInFull)
        self._lane.display = False
        self.source = Source(self.context, lambda: self.context.later(self._came))
        self._follows = self.source.capture is None
        self._only_failed = False
        self._has_bytes = True
        self._frozen_at = 0
        self._asked = AskedAside(self.context, self._say_aside)
        self._drawn = (0, 0.0)  # how many exchanges there were when the list was filled last, and when that was
        self._list.when_moved = self._moved
        self._beside.when_chosen = self._show_rows_of
        if self.source.capture is not None:
            self.source.open(self.source.capture)
            self._beside.looking.span = AnswersOf.ALL
            self._beside.shows_events = False

    def on_resize(self, event: events.Resize) -> None:
        self._beside.display = event.size.width >= 118
        self._beside.styles.width = 72 if event.size.width >= 150 else 62
        self._lay_out(event.size.height)

    def _lay_out(self, height: int) -> None:
        self.query_one("#wire-below").display = self._has_bytes and height >= 12

    # What is listed

    @property
    def _is_of_site(self) -> bool:
        return self.source.capture is None

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        if self.source.follow_site():
            self._list.places = self.source.places
            self._list.redraw()
        reel = self.source.reel
        if self._follows and self._is_of_site:
            count, at_s = self._drawn
            if snapshot.exchanges - count <= _MANY or snapshot.now_s - at_s > _APART_S:
                reel.look(_LOOK_S)
                self._refill()
        self._draw()

    def _draw(self) -> None:
        self._head.note = self._note()
        row = self._row
        moment = datetime.fromtimestamp(row.at_us / 1e6) if row is not None else datetime.now()
        self._head.day = "" if moment.date() == datetime.now().date() else f"{moment:%Y-%m-%d}"
        self._list.redraw()
        self._list.fit_scale()
        self._head.scale_ms = self._list.scale_ms
        self._head.redraw()
        self._show_bytes()
        if self._beside.display:
            self._look_beside()

    def _look_beside(self) -> None:
        """How devices answer is counted now and then."""
        current = self._list.current
        now_us = round(self.context.engine.session.clock.now() * 1e6)
        is_over = not self._is_of_site and not self.source.reel.is_opening
        key = current.key if current is not None else None
        timeouts_us = self.source.places.served.timeouts_us if self._is_of_site else {}
        self._beside.looking.order = tuple(timeouts_us)
        self._beside.looking.served = self.source.places.served if self._is_of_site else None
        if self._is_of_site:
            self._beside.looking.ports = {status.line.name: status.port for status in self.snapshot.lines}
        self._beside.looking.look(self.source.reel, key, now_us, is_over, timeouts_us)
        self._beside.tick()

    def _note(self) -> str:
        text = self.source.fault or self.source.notice or self.source.shown_rows
        if text:
            return text
        marks, current = self._list.marks, self._list.current
        if len(marks) == 2:
            return f"{_between(*marks)} between the marks"
        if marks and current is not None:
            return f"{_between(marks[0], current)} from the mark"
        if not self._follows and self._is_of_site:
            since = self.snapshot.exchanges - self._frozen_at
            return f"{since} more · f follows" if since else ""
        return "only what failed" if self._only_failed else ""

    def _came(self) -> None:
        """The reel has read something."""
        if self.is_mounted:
            self.context.trouble("capture", "" if self._is_of_site else self.source.damage)
            self._refill()
            self._draw()

    def _refill(self) -> None:
        """What there is now. Standing still, the row under the cursor stays where it is: what a search finds stands
        before it."""
        self._say_why_empty()
        before, ranked = self._list.rows, self.source.ranked
        if self._follows:
            self._list.set_rows(self.source.listed, last=True)
            self._drawn = self.snapshot.exchanges, self.snapshot.now_s
        elif getattr(before, "ranked", None) is not ranked and self._may_grow:
            behind = len(ranked) - len(before) if self.source.is_narrowed else 0
            self._list.grow(self.source.listed, behind)

    def _say_why_empty(self) -> None:
        what = _NOTHING if self._is_of_site else "no exchange is in it"
        what = "no exchange has failed" if self._only_failed else what
        self._list.empty_text = why = self.source.fault or self.source.notice or self._filter.text or what
        self._bytes.empty_text = why.rpartition("\n")[2]

    @property
    def _may_grow(self) -> bool:
        """Whether more is to be listed while the list stands still: what a search finds, what is read of a capture."""
        return not self._is_of_site or self.source.is_narrowed

    def _begin_list(self) -> None:
        """Another filter: from its newest row, or from where a capture begins."""
        self.source.look_for(self._filter.value, self._only_failed)
        self._say_why_empty()
        self._list.set_rows(self.source.listed, last=True)
        self._drawn = self.snapshot.exchanges, self.snapshot.now_s

    def _show_bytes(self) -> None:
        if self._lane.display:
            self._lane.show_round(self._list.rows, self._list.cursor)
        self._bytes.show(self._list.current, self.source.places)

    def close(self) -> None:
        if self.is_mounted:
            self.source.close()

    # Keys

    def focus_rows(self) -> None:
        self.screen.set_focus(self._list)

    def keys_here(self) -> list[Key]:
        verbs = {
            "follow": "stand still" if self._follows else "follow",
            "failed": "all exchanges" if self._only_failed else "only failed",
            "open": "fold bytes" if self._has_bytes else "open bytes",
        }
        first = ["follow", "failed"] if self._is_of_site else ["failed"]
        last = ["open", "then"] if self._is_of_site else ["open"]
        more = [("[ ]", "failure before, next"), *self.keys_of("mark", "lane", "export", "capture")]
        back = [("escape", "back to the site")] if not self._is_of_site and self.context.capture is None else []
        if self._beside.has_focus:
            return [("up down", "choose a finding"), ("enter", "its rows"), ("tab", "list"), *self.keys_of("answers")]
        if self._bytes.has_focus:
            return [("up down", "scroll"), ("tab", "findings")]
        return [*back, *self.keys_of(*first, **verbs), ("/", "filter"), *self.keys_of(*last, **verbs), *more]

    def about_here(self) -> Iterator[tuple[str, str]]:
        row = self._row
        device = self.source.places.served.device_of(row) if row is not None and self._is_of_site else None
        if device is not None and row is not None:
            yield from ((device.name, point.name) for point in self.source.places.served.points_of(row)[:1])

    @property
    def _row(self) -> ExchangeRow | None:
        current = self._list.current
        return current.row if current is not None else None

    def open_filter(self) -> None:
        self._filter.open()

    def back(self) -> None:
        if self._filter.value:
            self._filter.clear_filter()
        elif self._only_failed:
            self._only_failed = False
        elif self.source.shown_rows:
            self.source.show_rows("", "", ())
        elif self._list.marks:
            self._list.marks = ()
        elif not self._is_of_site and self.context.capture is None:
            self._back_to_site()
            self._follows = True
        elif self._is_of_site:
            self._follows = True
        self._begin_list()
        self.focus_rows()
        self.context.redraw()

    def _back_to_site(self) -> None:
        self.source.open(None)
        self._beside.looking.span = AnswersOf.MINUTES

    def on_input_changed(self, event: Input.Changed) -> None:
        self._begin_list()
        self._draw()

    def _leave_filter(self) -> None:
        self._begin_list()
        self.focus_rows()

    def _moved(self) -> None:
        if self._follows:
            self._stand_still()
        self._draw()

    def _stand_still(self) -> None:
        self._follows = False
        self._frozen_at = self.snapshot.exchanges

    def follow(self) -> None:
        """Follow the newest again."""
        self._follows = self._is_of_site

    def stand_at(self, moment: float) -> None:
        """The list stands still at what was asked at a moment (wall, seconds)."""
        self._only_failed = False
        self._filter.clear_filter()
        if not self._is_of_site:
            self._back_to_site()
        self.source.look_for("", False)
        reel = self.source.reel
        reel.look(_PLACE_S)
        self._list.set_rows(self.source.listed, last=True)
        self._stand_still()
        ranked = self.source.ranked
        at = reel.rank_at(ranked, round(moment * 1e6), _PLACE_S) if len(ranked) else None
        if at is None:
            return
        self._list.place_cursor(min(at, len(ranked) - 1), -1)
        first_s = ranked.parts[0].first / 1e6
        if first_s > moment + 1:
            self.context.tell(f"kept here only since {clock_text(first_s)[:8]}")

    def show_exchange(self, wanted: ShowExchange) -> None:
        """The last exchange that brought a block; its bytes open."""
        begins = pack(">BHH", wanted.function, wanted.address, wanted.count)
        self.stand_at(2**31)
        self._has_bytes = True
        self._lay_out(self.size.height)
        fits = ExchangeFilter("").narrowed(
            None, None, None, lambda row: row.device == wanted.device and row.pdu[:5] == begins
        )
        self._go_to_next(len(self.source.ranked), -1, fits, "that exchange is not kept here any more")

    def _go_to_next(self, rank: int, step: int, wanted: ExchangeFilter, none: str) -> None:
        """The cursor on the next row that fits; looked for by the reel."""
        ranked = self.source.ranked
        found = self.source.reel.neighbour(ranked, rank, step, wanted)

        def go(found: "Future[int | None]") -> None:
            at = found.result() if found.exception() is None else None
            if at is None:
                self.context.tell(none)
            elif getattr(self._list.rows, "ranked", None) is ranked:
                self._list.place_cursor(at)
                self._draw()
            self.context.redraw()

        try:
            found.exception(_PLACE_S)
            go(found)
        except TimeoutError:
            found.add_done_callback(lambda done: self.context.later(lambda: go(done)))

    def action_follow(self) -> None:
        if not self._is_of_site:
            self.context.tell("a capture grows no more: there is nothing to follow")
            return
        if self._follows:
            self._stand_still()
        else:
            self._follows = True
        self.context.redraw()

    def action_failed(self) -> None:
        self._only_failed = not self._only_failed
        self.follow()
        self._has_bytes = True
        self._lay_out(self.size.height)
        self._begin_list()
        self.context.redraw()

    def action_failure(self, step: int) -> None:
        if self._follows:
            self._stand_still()
        if self._list.current is not None:
            none = "nothing failed after this" if step > 0 else "nothing failed before this"
            self._go_to_next(self._list.cursor, step, ExchangeFilter("").narrowed(FAILED), none)

    def action_mark(self) -> None:
        current = self._list.current
        if current is None:
            return
        if self._follows:
            self._stand_still()
        self._list.marks = (current,) if len(self._list.marks) == 2 else (*self._list.marks, current)
        self._draw()

    def action_points(self) -> None:
        row = self._row
        points = list(self.about_here())
        if row is None or not points:
            self.context.tell("no point of the open site stands where this exchange asked")
            return
        served = self.source.places.served.names_of(row)
        self.context.send(ShowPoint(points[0]))
        self.context.tell(
            f"it served {', '.join(served[:4])}{f' and {len(served) - 4} more' if len(served) > 4 else ''}"
        )

    async def action_then(self) -> None:
        row = self._row
        if row is None:
            return
        if not self._is_of_site:
            self.context.tell("this is a capture: the trend is of the open site")
            return
        identity = next(self.about_here(), None)
        await self.context.show_moment(ShowMoment(row.at_us / 1e6, identity, "3"))

    def action_again(self) -> None:
        row = self._row
        place = self.source.places.served.place_of(row) if row is not None else None
        request = row.asked() if row is not None else None
        written = written_points(place[1], row) if place is not None and row is not None else []
        if not self._is_of_site:
            self.context.tell("nothing is sent from a capture")
        elif place is not None and written:
            found = [(self.snapshot.place_of((place[1].name, point.name)), text) for point, text in written]
            there = [(spot_of(place), text) for place, text in found if isinstance(place, Place)]
            if there:
                self.context.write([spot for spot, _ in there], None, "; ".join(text for _, text in there))
        elif place is None or not isinstance(request, Read):
            self.context.tell("only reads, and writes to points of the site, can be sent again from here")
        else:
            line, device = place
            question = ScratchQuestion(device.unit_id, request.table, request.address, request.count, 0.0)
            self.context.send(ReadAgain(line.link, question))

    def action_capture(self) -> None:
        ask_capture(self.context, self.open_capture)

    def open_capture(self, path: Path) -> None:
        """A capture is listed in place of what was; whether it is one was looked at before."""
        self._only_failed, self._follows = False, False
        self._filter.clear_filter()
        self._list.marks = ()
        self.source.open(path)
        self.source.look_for("", False)
        self._beside.looking.span = AnswersOf.ALL
        at_us = self.source.reel.head.get("at_us")
        self._list.set_rows(self.source.listed)
        self._list.place_cursor(0)
        if isinstance(at_us, int):
            self.source.reel.look(_PLACE_S)
            self._refill()
            self._list.place_cursor(self.source.reel.rank_at(self.source.ranked, at_us, _PLACE_S) or 0)
        self.focus_rows()
        self.context.redraw()

    def action_answers(self) -> None:
        self._beside.looking.span = self._beside.looking.span.next
        self.context.tell(f"how devices answer: {self._beside.looking.span.value}")
        self._draw()

    def action_own(self) -> None:
        row = self._row
        place = self.source.places.served.place_of(row) if row is not None and self._is_of_site else None
        self._asked.ask_counters(place)

    def _say_aside(self, texts: list[str], is_last: bool) -> None:
        self._beside.looking.say_when(texts)
        if is_last and not self._beside.display:
            self.context.tell(texts[0])
        self._draw()

    def action_lane(self) -> None:
        self._lane.display = not self._lane.display
        self._bytes.display = not self._lane.display
        self._has_bytes = True
        self._lay_out(self.size.height)
        self._draw()

    def action_lane_span(self, step: int) -> None:
        self._lane.span = max(0, min(self._lane.span + step, len(SPANS_MS) - 1))
        self._draw()

    def action_export(self) -> None:
        from kanaleto.tui.wire_view.exporting import ask_export

        ask_export(self.context, self.source, self._row)

    def action_when(self) -> None:
        site = self.snapshot.site.path if self._is_of_site else None
        self._asked.ask_when(self.source.kept_at, site)

    def action_panel(self) -> None:
        has_below = self.query_one("#wire-below").display
        panels: list[Drawn] = [self._list, *([self._bytes] if has_below else [])]
        if has_below and self._beside.display:
            panels.append(self._beside)
        at = next((number for number, panel in enumerate(panels) if panel.has_focus), 0)
        self.screen.set_focus(panels[(at + 1) % len(panels)])
        self._draw()

    def _show_rows_of(self, finding: WireFinding) -> None:
        """Only the rows that show a finding; escape lists all again."""
        self._only_failed = False
        self._filter.clear_filter()
        self._stand_still()
        self.source.show_rows(f"{len(finding.rows)} rows that show: {finding.kind.value}", finding.line, finding.rows)
        self._list.set_rows(self.source.listed, last=True)
        self.focus_rows()
        self._draw()

    def action_open(self) -> None:
        self._has_bytes = not self._has_bytes
        self._lay_out(self.size.height)
        self.context.redraw()


def _between(one: KeyedRow, other: KeyedRow) -> str:
    """How long after the first of two exchanges the other began."""
    apart_us = abs(other.key - one.key)
    return f"{apart_us / 1000:.1f} ms" if apart_us < 10_000_000 else length_text(apart_us / 1e6)
