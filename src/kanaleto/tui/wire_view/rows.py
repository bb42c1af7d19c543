"""The rows of Wire: when, who, what was asked in words, request–wait–answer to one time scale, outcome."""

from collections.abc import Hashable, Sequence

from msgspec import Struct

from kanaleto.capture.ranked import KeyedRow
from kanaleto.capture.row import ExchangeRow, link_of
from kanaleto.capture.served import ServedPoints
from kanaleto.capture.words import request_words
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.counting import Counting, Numbering
from kanaleto.site.model import Site
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import clock_text
from kanaleto.wire.pdu import Read

OUTCOME_TONES = {
    OutcomeKind.GOOD: "verdigris",
    OutcomeKind.EXCEPTION: "ochre",
    OutcomeKind.TIMEOUT: "terracotta",
    OutcomeKind.GARBLED: "violet",
    OutcomeKind.UNEXPECTED: "violet",
    OutcomeKind.UNREACHABLE: "terracotta",
}
_GOOD = OutcomeKind.GOOD
_NICE_MS = (2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 30000)


class WireColumns(Struct, frozen=True):
    """Widths that fit the screen; 0 leaves a column out."""

    line: int
    device: int
    asked: int
    times: int
    outcome: int

    @classmethod
    def fit(cls, width: int) -> "WireColumns":
        line = 12 if width >= 120 else 0
        device = 20 if width >= 90 else 15
        outcome = 26 if width >= 110 else 20
        asked = 36 if width >= 130 else 29 if width >= 100 else 24
        times = width - 15 - line - device - outcome - asked - 2
        return cls(
            line, device, asked, times if times >= 12 else 0, outcome if times >= 12 else outcome + max(times, 0)
        )


def asked_words(row: ExchangeRow, numbering: Counting) -> str:
    """What was asked, with the address as the device's manual counts it, or the wire."""
    if not row.request:
        return "— nobody's answer" if row.answer else "no connection"
    request = row.asked()
    if request is None:
        return f"unit {row.unit_id}, bytes that are no request"
    return f"{request_words(request, numbering)}{'  (again)' if row.attempt else ''}"


def outcome_words(row: ExchangeRow) -> str:
    """What came of it."""
    match row.kind:
        case OutcomeKind.GOOD:
            request = row.asked()
            if not isinstance(request, Read):
                return "confirmed"
            word = "bit" if request.table.is_bits else "word"
            return f"{request.count} {word}{'s' if request.count > 1 else ''}"
        case OutcomeKind.EXCEPTION:
            return f"refused: {row.reason}"
        case OutcomeKind.TIMEOUT:
            return f"silent, {row.took_us / 1e6:.2g} s"
        case OutcomeKind.GARBLED:
            return f"garbled: {row.reason}"
        case OutcomeKind.UNEXPECTED:
            return f"strange: {row.reason}"
    return f"unreachable: {row.reason}"


def request_start_us(row: ExchangeRow) -> float:
    """When the first byte of the request went out, from its length at the line's speed; as all times after `at_us`."""
    return row.sent_us - len(row.request) * 1e6 * link_of(row.link).character_s


class KnownPlaces:
    """What the open site says of the rows: devices, points, how their manuals count."""

    def __init__(self, site: Site) -> None:
        self.served = ServedPoints(site)
        self.led = {line.name for line in site.lines if line.led_from is not None}

    def numbering_of(self, row: ExchangeRow, counts_as_wire: bool) -> Counting:
        device = self.served.device_of(row) if not counts_as_wire else None
        return device.numbering if device is not None else Numbering.PROTOCOL

    def text_of(self, row: ExchangeRow, counts_as_wire: bool) -> str:
        """What a row says, for the filter."""
        return f"{asked_words(row, self.numbering_of(row, counts_as_wire))} {outcome_words(row)}"


class WireRows(Rows[KeyedRow | None]):
    """See the head of this file. `scale_ms` is what the time column shows in all."""

    scale_ms = 50
    are_kept = True

    def __init__(self) -> None:
        super().__init__()
        self.places = KnownPlaces(Site("", ()))
        self.marks: tuple[KeyedRow, ...] = ()
        self.shows_day = False

    def identity(self, row: KeyedRow | None) -> Hashable:
        return row

    def redraw_key(self, row: KeyedRow | None) -> Hashable:
        return None if row is None else (self.scale_ms, self.context.counts_as_wire, self.places, self.marks)

    def grow(self, rows: Sequence[KeyedRow | None], before: int) -> None:
        """More rows: so many of them stand before those that there were."""
        self.rows = rows
        self.have_lines(len(rows))
        if before:
            self.cursor = max(min(self.cursor + before, len(rows) - 1), 0)
            self.scroll_to(y=self.scroll_offset.y + before, animate=False, force=True)
        self.redraw()

    def begin_drawing(self) -> None:
        super().begin_drawing()
        self.fit_scale()

    def _in_sight(self) -> list[ExchangeRow]:
        top = self.scroll_offset.y
        return [row.row for row in self.rows[top : top + max(self.size.height, 1)] if row is not None]

    def fit_scale(self) -> None:
        """A scale that nine of ten good answers in sight fit into; the rest runs over its edge."""
        good = sorted((row.last_us - request_start_us(row)) / 1000 for row in self._in_sight() if row.kind is _GOOD)
        longest = good[len(good) * 9 // 10] if good else 50.0
        self.scale_ms = next((nice for nice in _NICE_MS if nice >= longest), _NICE_MS[-1])

    def draw(self, found: KeyedRow | None, width: int, ground: str) -> Cells:
        columns = WireColumns.fit(width)
        if found is None:
            return Cells(self.palette, ground).put(" … ", "dim")
        row = found.row
        at = clock_text(row.at_us / 1e6)
        mark = "◂" if found in self.marks else " "
        cells = Cells(self.palette, ground).put(f" {at}", "muted").put(f"{mark} ", "ochre")
        tone = OUTCOME_TONES[row.kind]
        if columns.line:
            cells.put(row.line, "ochre" if row.line in self.places.led else "muted", columns.line - 1).put(" ")
        nobody = "—" if not row.request and not row.answer else f"unit {row.unit_id}"
        cells.put(row.device or nobody, width=columns.device - 1).put(" ")
        asked = asked_words(row, self.places.numbering_of(row, self.context.counts_as_wire))
        if len(asked) >= columns.asked:  # the address matters more than the words before it
            asked = asked.replace(" from ", " ").replace("registers", "")
        cells.put(asked, "ink" if row.attempt == 0 else "ochre", columns.asked - 1).put(" ")
        if columns.times:
            self._times(cells, row, columns.times, tone)
        return cells.put("  ").put(outcome_words(row), tone, columns.outcome)

    def _times(self, cells: Cells, row: ExchangeRow, width: int, tone: str) -> None:
        """Request, wait, answer: full blocks for bytes on the wire, dots for waiting, › where it runs over the edge."""
        start_us, end = request_start_us(row), cells.width + width

        def column(at_us: float) -> int:
            return round((at_us - start_us) / 1000 / self.scale_ms * (width - 1))

        sent = max(column(row.sent_us), 1) if row.request else 0
        has_answer, link = bool(row.answer), link_of(row.link)
        if link.is_serial and has_answer:
            # bytes are seen when they are handed over; on the wire they began earlier
            first_us = max(row.last_us - len(row.answer) * 1e6 * link.character_s, row.sent_us)
        else:
            first_us = row.first_us or row.last_us
        first = max(column(first_us), sent)
        done = max(column(row.last_us), first + 1) if has_answer else max(column(row.last_us), sent)
        ends = done > width
        shown = min(done, width) - ends
        answer = max(shown - max(first, sent), 0) if has_answer else 0
        asked = min(sent, shown)
        cells.put("█" * asked, "sky")
        cells.put("·" * (shown - asked - answer), "muted" if row.kind is _GOOD else tone)
        cells.put("█" * answer + "›" * ends, tone)
        cells.at(end)
