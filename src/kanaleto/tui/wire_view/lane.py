"""One line in full: its single exchanges by device round the cursor, to one time scale, with gaps, and how much of the
time was requests, waiting, answers and silence."""

from collections.abc import Sequence
from itertools import pairwise

from textual.strip import Strip

from kanaleto.capture.ranked import KeyedRow
from kanaleto.capture.row import ExchangeRow, link_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.wire_view.rows import OUTCOME_TONES

SPANS_MS = (200, 500, 1000, 2000, 5000, 20_000)
_NAME = 18
_MOST = 3000  # rows that are looked at, each way


class LaneInFull(Drawn):
    """In the place of the bytes. `span` is which of SPANS_MS is in sight, the cursor in its middle."""

    DEFAULT_CSS = "LaneInFull { width: 1fr; height: 100%; background: $background; }"

    def __init__(self) -> None:
        super().__init__()
        self.span = 2
        self._lines: list[Cells] = []

    def show_round(self, rows: Sequence[KeyedRow | None], cursor: int) -> None:
        """Of the line of the row under the cursor."""
        found = rows[cursor] if cursor < len(rows) else None
        self._lines = []
        if found is not None:
            begin_us = found.key - 500 * SPANS_MS[self.span]
            end_us = begin_us + 1000 * SPANS_MS[self.span]
            near = _near(rows, cursor, begin_us, end_us)
            in_sight = [
                one
                for one in near
                if one.row.line == found.row.line and one.row.request and begin_us <= one.key + one.row.last_us
            ]
            self._lines = self._made(found, in_sight, begin_us, end_us)
        self.redraw()

    def draw_line(self, y: int) -> Strip:
        cells = self._lines[y] if y < len(self._lines) else Cells(self.palette)
        return cells.strip(self.size.width)

    def _made(self, found: KeyedRow, rows: list[KeyedRow], begin_us: int, end_us: int) -> list[Cells]:
        width = max(self.size.width - _NAME - 2, 10)
        devices = list(dict.fromkeys(one.row.device or f"unit {one.row.unit_id}" for one in rows))
        spans = [_spans(one) for one in rows]
        head = Cells(self.palette).put(f" {found.row.line}", "ink", bold=True)
        head.put(f"  {SPANS_MS[self.span]} ms in sight, + and - change that; {len(rows)} exchanges", "muted")
        lines = [head, self._shares(spans, begin_us, end_us)]
        for name in devices:
            cells = Cells(self.palette).put(f" {name}", "ink", _NAME)
            marks: list[tuple[str, str]] = [(" ", "dim")] * width
            for one, span in zip(rows, spans, strict=True):
                if (one.row.device or f"unit {one.row.unit_id}") == name:
                    _mark(marks, one.row, span, begin_us, end_us)
            middle = width // 2
            for at, (shape, tone) in enumerate(marks):
                cells.put(shape if shape != " " or at != middle else "│", tone if shape != " " else "rules")
            lines.append(cells)
        lines.append(self._gaps(spans))
        return lines

    def _shares(self, spans: list[tuple[float, float, float, float]], begin_us: int, end_us: int) -> Cells:
        whole = float(end_us - begin_us)
        asked = sum(_within(begin, sent, begin_us, end_us) for begin, sent, _, _ in spans)
        waited = sum(_within(sent, first, begin_us, end_us) for _, sent, first, _ in spans)
        answered = sum(_within(first, last, begin_us, end_us) for _, _, first, last in spans)
        silent = max(whole - asked - waited - answered, 0.0)
        cells = Cells(self.palette).put(" ")
        for word, share, tone in (
            ("requests", asked, "sky"), ("waiting", waited, "muted"), ("answers", answered, "verdigris"),
            ("silence", silent, "dim"),
        ):  # fmt: skip
            cells.put(f"{100 * share / whole:.0f} % ", tone).put(f"{word}  ", "muted")
        return cells

    def _gaps(self, spans: list[tuple[float, float, float, float]]) -> Cells:
        """The pauses between one exchange and the next; where the next began before, they overlap."""
        ordered = sorted(spans)
        gaps = [after[0] - before[3] for before, after in pairwise(ordered)]
        cells = Cells(self.palette)
        if not gaps:
            return cells.put(" one exchange in sight", "muted")
        overruns = sum(gap < 0 for gap in gaps)
        shown = sorted(max(gap, 0) / 1000 for gap in gaps)
        cells.put(f" pauses {shown[0]:.1f} to {shown[-1]:.1f} ms, median {shown[len(shown) // 2]:.1f}", "muted")
        return cells.put(f"   {overruns} began before the one before was over" if overruns else "", "ochre")


def _near(rows: Sequence[KeyedRow | None], cursor: int, begin_us: int, end_us: int) -> list[KeyedRow]:
    """Rows round the cursor, as far as they were read."""
    near: list[KeyedRow] = []
    for step in (-1, 1):
        at = cursor if step > 0 else cursor - 1
        for _ in range(_MOST):
            if not 0 <= at < len(rows):
                break
            one = rows[at]
            if one is not None:
                if one.key > end_us or one.key + one.row.last_us < begin_us - 2_000_000:
                    break
                near.append(one)
            at += step
    return near


def _spans(one: KeyedRow) -> tuple[float, float, float, float]:
    """When the request began and had gone, the answer began and was there; on a serial line by the time bytes take."""
    row, key = one.row, one.key
    character_us = 1e6 * link_of(row.link).character_s
    begin = max(row.sent_us - len(row.request) * character_us, 0) if character_us else 0
    first = float(row.last_us)
    if row.answer:
        first = max(row.last_us - len(row.answer) * character_us, row.sent_us) if character_us else row.first_us
    return key + begin, key + row.sent_us, key + first, key + row.last_us


def _within(begin: float, end: float, first: int, last: int) -> float:
    return max(min(end, last) - max(begin, first), 0.0)


def _mark(
    marks: list[tuple[str, str]], row: ExchangeRow, span: tuple[float, float, float, float], begin_us: int, end_us: int
) -> None:
    width = len(marks)

    def column(at_us: float) -> int:
        return round((at_us - begin_us) / (end_us - begin_us) * (width - 1))

    tone = OUTCOME_TONES[row.kind]
    is_good = row.kind is OutcomeKind.GOOD
    begin, sent, first, last = (column(at) for at in span)
    for at in range(max(sent, 0), min(first, width)):
        marks[at] = ("·", "muted" if is_good else tone)
    for low, high, shape, colour in (
        (begin, max(sent, begin + 1), "█", "sky"),
        (first, max(last, first + 1), "█", tone),
    ):
        if shape == "█" and colour == tone and not row.answer:
            continue
        for at in range(max(low, 0), min(high, width)):
            marks[at] = (shape, colour)
    if not row.answer and 0 <= last < width:
        marks[last] = ("✕", tone)
