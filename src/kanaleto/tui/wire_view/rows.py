"""The rows of Wire: when, who, what was asked in words, request–wait–answer to one time scale, outcome."""

from collections.abc import Hashable

from msgspec import Struct

from kanaleto.board.listener import Exchange
from kanaleto.capture.words import request_words
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.counting import Numbering
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


def asked_words(exchange: Exchange, counts_as_wire: bool) -> str:
    """What was asked, with the address as the device's manual counts it, or the wire."""
    if exchange.request is None:
        return "— nobody's answer"
    numbering = exchange.device.numbering if exchange.device is not None and not counts_as_wire else Numbering.PROTOCOL
    return f"{request_words(exchange.request, numbering)}{'  (again)' if exchange.attempt else ''}"


def outcome_words(exchange: Exchange) -> str:
    """What came of it."""
    outcome, request = exchange.outcome, exchange.request
    if outcome.kind is OutcomeKind.GOOD:
        if not isinstance(request, Read):
            return "confirmed"
        word = "bit" if request.table.is_bits else "word"
        return f"{request.count} {word}{'s' if request.count > 1 else ''}"
    if outcome.kind is OutcomeKind.EXCEPTION:
        return f"refused: {outcome.reason}"
    if outcome.kind is OutcomeKind.TIMEOUT:
        return f"silent, {outcome.took_s:.2g} s"
    if outcome.kind is OutcomeKind.GARBLED:
        return f"garbled: {outcome.reason}"
    if outcome.kind is OutcomeKind.UNEXPECTED:
        return f"not the answer: {outcome.reason}"
    return f"unreachable: {outcome.reason}"


def request_start_s(exchange: Exchange) -> float:
    """When the first byte of the request went out, from its length at the line's speed."""
    outcome = exchange.outcome
    return outcome.sent_at - len(outcome.request) * exchange.line.link.character_s


class WireRows(Rows[Exchange]):
    """See the head of this file. `scale_ms` is what the time column shows in all."""

    scale_ms = 50
    are_kept = True

    def identity(self, row: Exchange) -> Hashable:
        return row.number

    def made_of(self, row: Exchange) -> Hashable:
        return self.scale_ms, self.context.counts_as_wire

    def begin_drawing(self) -> None:
        super().begin_drawing()
        self.fit_scale()

    def fit_scale(self) -> None:
        """A scale that nine of ten good answers in sight fit into; the rest runs over its edge."""
        top = self.scroll_offset.y
        seen = self.rows[top : top + max(self.size.height, 1)]
        good = sorted(1000 * (row.outcome.done_at - request_start_s(row)) for row in seen if row.outcome.is_good)
        longest = good[len(good) * 9 // 10] if good else 50.0
        self.scale_ms = next((nice for nice in _NICE_MS if nice >= longest), _NICE_MS[-1])

    def draw(self, row: Exchange, width: int, ground: str) -> Cells:
        columns = WireColumns.fit(width)
        cells = Cells(self.palette, ground).put(f" {clock_text(row.wall_s)}  ", "muted")
        tone = OUTCOME_TONES[row.outcome.kind]
        if columns.line:
            tone_of_line = "ochre" if row.line.led_from is not None else "muted"
            cells.put(row.line.name, tone_of_line, columns.line - 1).put(" ")
        cells.put(row.device.name if row.device else f"unit {row.outcome.unit_id}", width=columns.device - 1).put(" ")
        asked = asked_words(row, self.context.counts_as_wire)
        if len(asked) >= columns.asked:  # the address matters more than the words before it
            asked = asked.replace(" from ", " ").replace("registers", "")
        cells.put(asked, "ink" if row.attempt == 0 else "ochre", columns.asked - 1).put(" ")
        if columns.times:
            self._times(cells, row, columns.times, tone)
        return cells.put("  ").put(outcome_words(row), tone, columns.outcome)

    def _times(self, cells: Cells, row: Exchange, width: int, tone: str) -> None:
        """Request, wait, answer: full blocks for bytes on the wire, dots for waiting, › where it runs over the edge."""
        outcome = row.outcome
        start_s, end = request_start_s(row), cells.width + width

        def column(at_s: float) -> int:
            return round(1000 * (at_s - start_s) / self.scale_ms * (width - 1))

        sent = max(column(outcome.sent_at), 1)
        has_answer = bool(outcome.answer)
        link = row.line.link
        if link.is_serial and has_answer:
            # bytes are seen when they are handed over; on the wire they began earlier
            first_s = max(outcome.done_at - len(outcome.answer) * link.character_s, outcome.sent_at)
        else:
            first_s = outcome.first_at or outcome.done_at
        first = max(column(first_s), sent)
        done = max(column(outcome.done_at), first + 1) if has_answer else max(column(outcome.done_at), sent)
        ends = done > width
        shown = min(done, width) - ends
        answer = max(shown - max(first, sent), 0) if has_answer else 0
        asked = min(sent, shown)
        cells.put("█" * asked, "sky")
        cells.put("·" * (shown - asked - answer), "muted" if outcome.is_good else tone)
        cells.put("█" * answer + "›" * ends, tone)
        cells.at(end)
