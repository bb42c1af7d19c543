"""The bytes of one exchange in boxes: what each field is called, what it holds and what that means."""

from textual.strip import Strip

from kanaleto.board.listener import Exchange
from kanaleto.lines.opening import framing_of
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.tui.shared.cells import Cells, cut
from kanaleto.tui.shared.rows import Scrolled
from kanaleto.tui.wire_view.rows import OUTCOME_TONES, outcome_words, request_start_s
from kanaleto.wire.explain import Field, FieldKind, explain_frame
from kanaleto.wire.facts import table_of
from kanaleto.wire.frames import Role
from kanaleto.wire.pdu import Read

_TONES = {
    FieldKind.FRAME: "muted",
    FieldKind.FUNCTION: "ochre",
    FieldKind.ADDRESS: "sky",
    FieldKind.DATA: "verdigris",
    FieldKind.CHECK: "verdigris",
}
_TALL = 12  # rows from which on there is room for boxes
_Box = tuple[str, str, str, str]  # bytes, name, meaning, tone


class BytesPanel(Scrolled, can_focus=False):
    """Below the list."""

    DEFAULT_CSS = "BytesPanel { width: 1fr; height: 100%; scrollbar-size: 1 1; background: $background; }"

    def __init__(self) -> None:
        super().__init__()
        self._exchange: Exchange | None = None
        self._lines: list[Cells] = []
        self._made_for: tuple[object, ...] = ()

    def show(self, exchange: Exchange | None) -> None:
        made_for = (exchange.number if exchange else 0, self.size, self.context.counts_as_wire, self.palette)
        if made_for == self._made_for:
            return
        if exchange is not self._exchange:
            self.scroll_to(0, 0, animate=False)
        self._made_for, self._exchange = made_for, exchange
        self._lines = self._made(exchange, max(self.size.width - 2, 20)) if exchange is not None else []
        self.have_lines(len(self._lines))
        self.redraw()

    def draw_line(self, y: int) -> Strip:
        index, width = y + self.scroll_offset.y, self.size.width
        if index < len(self._lines):
            return self._lines[index].strip(width)
        cells = Cells(self.palette)
        if not self._lines and y == 0:
            cells.put(" no exchange yet", "muted")
        return cells.strip(width)

    def _made(self, exchange: Exchange, width: int) -> list[Cells]:
        outcome, link = exchange.outcome, exchange.line.link
        framing = framing_of(link).name
        took = (
            f", {1000 * (outcome.sent_at - request_start_s(exchange)):.1f} ms at {link.settings}"
            if link.is_serial
            else ""
        )
        request_title = ("REQUEST", f"{len(outcome.request)} bytes{took}")
        lines = [self._title(*(request_title if exchange.request is not None else ("NO REQUEST", "of ours")), "muted")]
        request_fields = explain_frame(framing, Role.REQUESTS, outcome.request) if outcome.request else []
        lines += self._boxes(exchange, outcome.request, request_fields, width)
        tone = OUTCOME_TONES[outcome.kind]
        if not outcome.answer:
            return [
                *lines,
                self._title("NO ANSWER", outcome_words(exchange), tone),
                self._title("", outcome.reason, tone),
            ]
        after = f"after {1000 * outcome.took_s:.1f} ms, {len(outcome.answer)} bytes"
        lines.append(
            self._title(
                "ANSWER",
                after if outcome.is_good else f"{after} · {outcome_words(exchange)}",
                "muted" if outcome.is_good else tone,
            )
        )
        first = exchange.request.address if isinstance(exchange.request, Read) else None
        answer_fields = explain_frame(framing, Role.ANSWERS, outcome.answer, first)
        return lines + self._boxes(exchange, outcome.answer, answer_fields, width)

    def _title(self, head: str, text: str, tone: str) -> Cells:
        return Cells(self.palette).put(f" {head} " if head else " ", "muted", bold=True).put(text, tone)

    def _boxes(self, exchange: Exchange, raw: bytes, fields: list[Field], width: int) -> list[Cells]:
        boxes = [self._box(exchange, raw, field, fields) for field in fields]
        lines: list[Cells] = []
        while boxes:
            row: list[_Box] = []
            used = 1
            while boxes and (not row or used + _box_width(boxes[0]) + 1 <= width):
                row.append(boxes.pop(0))
                used += _box_width(row[-1]) + 1
            lines += self._box_row(row, width)
        return lines

    def _box(self, exchange: Exchange, raw: bytes, field: Field, fields: list[Field]) -> _Box:
        tone = _TONES[field.kind] if field.is_right is not False else "terracotta"
        meaning, name = field.meaning, field.name
        table = table_of(exchange.request) if exchange.request is not None else None
        device = exchange.device
        if (
            table is not None
            and device is not None
            and not self.context.counts_as_wire
            and device.numbering is not Numbering.PROTOCOL
        ):
            if field.kind is FieldKind.ADDRESS and meaning.isdecimal():
                meaning = f"{meaning} = {from_wire(int(meaning), table, device.numbering)}"
            if name.startswith("register ") and name.removeprefix("register ").isdecimal():
                name = from_wire(int(name.removeprefix("register ")), table, device.numbering)
        return raw[field.start : field.end].hex(" ").upper(), name, meaning, tone

    def _box_row(self, row: list[_Box], width: int) -> list[Cells]:
        if self.size.height < _TALL:
            return self._plain_row(row)
        lines = [Cells(self.palette).put(" ") for _ in range(4)]
        for box in row:
            inner = min(_box_width(box) - 2, max(width - 3, 8))
            data, name, meaning, tone = box
            lines[0].put("╭" + "─" * inner + "╮ ", "rules")
            lines[1].put("│", "rules").put(_centred(data, inner), tone, bold=True).put("│ ", "rules")
            lines[2].put("│", "rules").put(_centred(name, inner), "muted").put("│ ", "rules")
            bottom = _centred(f" {cut(meaning, inner - 2)} ", inner, "─")
            lines[3].put("╰", "rules").put(bottom, tone if tone == "terracotta" else "ink").put("╯ ", "rules")
        return lines

    def _plain_row(self, row: list[_Box]) -> list[Cells]:
        """Three lines without frames, where there is little room."""
        lines = [Cells(self.palette).put(" ") for _ in range(3)]
        for box in row:
            data, name, meaning, tone = box
            inner = _box_width(box) - 3
            lines[0].put(data, tone, inner, bold=True).put("  ")
            lines[1].put(name, "muted", inner).put("  ")
            lines[2].put(meaning, tone if tone == "terracotta" else "ink", inner).put("  ")
        return lines


def _box_width(box: _Box) -> int:
    data, name, meaning, _ = box
    return min(max(len(data), len(name), len(meaning)) + 4, 60)


def _centred(text: str, width: int, fill: str = " ") -> str:
    return cut(text, width).center(width, fill)
