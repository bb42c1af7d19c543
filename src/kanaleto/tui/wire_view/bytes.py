"""The bytes of one exchange in boxes: what each field is called, what it holds and what that means."""

from textual.binding import Binding
from textual.strip import Strip

from kanaleto.capture.ranked import KeyedRow
from kanaleto.capture.row import ExchangeRow, framing_name, link_of
from kanaleto.evidence.damage import Damage, damage_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import Site
from kanaleto.tui.shared.cells import Cells, cut
from kanaleto.tui.shared.rows import Scrolled
from kanaleto.tui.wire_view.fields import both_framings, confirms, register_words
from kanaleto.tui.wire_view.rows import OUTCOME_TONES, KnownPlaces, outcome_words, request_start_us
from kanaleto.wire.explain import Field, FieldKind, explain_frame
from kanaleto.wire.frames import Role
from kanaleto.wire.functionfacts import table_of
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


class BytesPanel(Scrolled, can_focus=True):
    """Below the list."""

    BINDINGS = [
        Binding("up,k", "by(-1)", show=False),
        Binding("down,j", "by(1)", show=False),
        Binding("pageup", "by(-8)", show=False),
        Binding("pagedown", "by(8)", show=False),
    ]
    DEFAULT_CSS = "BytesPanel { width: 1fr; height: 100%; scrollbar-size: 1 1; background: $background; }"

    def __init__(self) -> None:
        super().__init__()
        self._exchange: KeyedRow | None = None
        self._places = KnownPlaces(Site("", ()))
        self._damage: Damage | None = None
        self._lines: list[Cells] = []
        self._made_for: tuple[object, ...] = ()
        self.empty_text = ""

    def show(self, exchange: KeyedRow | None, places: KnownPlaces) -> None:
        made_for = (
            exchange,
            self.has_focus,
            self.size,
            self.context.counts_as_wire,
            self.palette,
            places,
            self.empty_text,
        )
        if made_for == self._made_for:
            return
        if exchange != self._exchange:
            self.scroll_to(0, 0, animate=False)
        self._made_for, self._exchange, self._places = made_for, exchange, places
        self._lines = self._made(exchange.row, max(self.size.width - 2, 20)) if exchange is not None else []
        self.have_lines(len(self._lines))
        self.redraw()

    def draw_line(self, y: int) -> Strip:
        index, width = y + self.scroll_offset.y, self.size.width
        if index < len(self._lines):
            return self._lines[index].strip(width)
        cells = Cells(self.palette)
        if not self._lines and y == 0:
            cells.put(f" {self.empty_text}", "muted")
        return cells.strip(width)

    def _made(self, row: ExchangeRow, width: int) -> list[Cells]:
        self._damage = None
        link, framing = link_of(row.link), framing_name(row.link)
        took = f", {(row.sent_us - request_start_us(row)) / 1000:.1f} ms at {link.settings}" if link.is_serial else ""
        title = ("REQUEST", f"{len(row.request)} bytes{took}") if row.request else ("NO REQUEST", "of ours")
        lines = [self._title(*title, "muted")]
        request_fields = explain_frame(framing, Role.REQUESTS, row.request) if row.request else []
        lines += self._boxes(row, row.request, request_fields, width, is_answer=False)
        tone = OUTCOME_TONES[row.kind]
        if not row.answer:
            return [
                *lines,
                self._title("NO ANSWER", outcome_words(row), tone),
                self._title("", row.reason, tone),
                *self._both(row, is_answer=False),
            ]
        after = f"after {row.took_us / 1000:.1f} ms, {len(row.answer)} bytes"
        is_good = row.kind is OutcomeKind.GOOD
        lines.append(
            self._title("ANSWER", after if is_good else f"{after} · {outcome_words(row)}", "muted" if is_good else tone)
        )
        self._damage = damage_of(row)
        if self._damage is not None:
            lines.append(self._title("", f"◇ {self._damage.text}", "violet"))
        request = row.asked()
        first = request.address if isinstance(request, Read) else None
        answer_fields = explain_frame(framing, Role.ANSWERS, row.answer, first)
        lines += self._boxes(row, row.answer, answer_fields, width, is_answer=True)
        return [*lines, *self._both(row, is_answer=False), *self._both(row, is_answer=True)]

    def _both(self, row: ExchangeRow, is_answer: bool) -> list[Cells]:
        """The serial form of a PDU, and the form on a network."""
        rows = both_framings(row, is_answer)
        if not rows:
            return []
        lines = [self._title("THE SAME ANSWER" if is_answer else "THE SAME REQUEST", "in both framings", "muted")]
        for word, before, pdu, check in rows:
            cells = Cells(self.palette).put(f" {word:<8}", "muted").put(f"{before} ", "muted").put(pdu, "sky")
            lines.append(cells.put(f" {check}" if check else "", "verdigris"))
        return lines

    def _title(self, head: str, text: str, tone: str) -> Cells:
        head_tone = "ochre" if self.has_focus else "muted"
        return Cells(self.palette).put(f" {head} " if head else " ", head_tone, bold=True).put(text, tone)

    def _boxes(self, row: ExchangeRow, raw: bytes, fields: list[Field], width: int, is_answer: bool) -> list[Cells]:
        boxes = [self._box(row, raw, field, is_answer) for field in fields]
        lines: list[Cells] = []
        while boxes:
            beside: list[_Box] = []
            used = 1
            while boxes and (not beside or used + _box_width(boxes[0]) + 1 <= width):
                beside.append(boxes.pop(0))
                used += _box_width(beside[-1]) + 1
            lines += self._box_row(beside, width)
        return lines

    def _box(self, row: ExchangeRow, raw: bytes, field: Field, is_answer: bool) -> _Box:
        tone = _TONES[field.kind] if field.is_right is not False else "terracotta"
        meaning, name = field.meaning, field.name
        request = row.asked()
        table = table_of(request) if request is not None else None
        device = self._places.served.device_of(row)
        damage = self._damage if is_answer else None
        if damage is not None and damage.start < field.end and field.start < damage.end:
            tone = "violet"
            if damage.right:
                meaning = f"{meaning}; {damage.right.hex().upper()} was sent"
        if is_answer and confirms(row) and field.kind in (FieldKind.ADDRESS, FieldKind.DATA):
            is_same = row.request[field.start : field.end] == raw[field.start : field.end]
            meaning, tone = (f"{meaning}, the same", tone) if is_same else (f"{meaning}: not as asked", "terracotta")
        number = name.removeprefix("register ")
        if number != name and number.isdecimal():
            point, value = register_words(device, row, is_answer, int(number))
            meaning = f"{meaning} = {value}" if value else meaning
        else:
            point = ""
        if (
            table is not None
            and device is not None
            and not self.context.counts_as_wire
            and device.numbering is not Numbering.PROTOCOL
        ):
            if field.kind is FieldKind.ADDRESS and meaning.isdecimal():
                meaning = f"{meaning} = {from_wire(int(meaning), table, device.numbering)}"
            if number != name and number.isdecimal():
                name = from_wire(int(number), table, device.numbering)
        name = f"{name} {point}" if point else name
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
