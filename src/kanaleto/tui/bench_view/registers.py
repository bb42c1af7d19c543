"""Each register of the device in view: what stands there, what moves it, and what a master wrote there last."""

from collections.abc import Hashable

from kanaleto.bench.states import LookState, WrittenState
from kanaleto.control.wanted import text_of
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import Device, Point
from kanaleto.tui.bench_view.words import master_text, moved_by, written_text
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import age_text

_MOST_WORDS, _WITH_WORDS = 9, 84


class RegisterRows(Rows[Point]):
    """`device` and `look` are what is drawn; `now_s` is the wall time."""

    DEFAULT_CSS = "RegisterRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"
    device: Device | None = None
    look: LookState | None = None
    is_served = False
    now_s = 0.0

    def identity(self, row: Point) -> Hashable:
        return row.name

    def take(self, device: Device | None, look: LookState | None, is_served: bool, now_s: float) -> None:
        """What is to be drawn from now on."""
        is_other = device is not self.device
        self.device, self.is_served, self.now_s = device, is_served, now_s
        self.look = look if look is not None and device is not None and look.device == device.name else None
        if is_other:
            self._written: dict[str, WrittenState] = {}
            self.set_rows(device.points if device is not None else ())
        self._written = {one.point: one for one in self.look.written} if self.look is not None else {}
        self.redraw()

    def data_of(self, point: Point) -> bytes | None:
        """What stands in its registers; None where that is not known."""
        look = self.look
        if look is None or point.table.value not in look.tables:
            return None
        first, text = look.tables[point.table.value]
        item = 1 if point.table.is_bits else 2
        start = 2 * item * (point.address - first)
        digits = text[start : start + 2 * item * point.size]
        return bytes.fromhex(digits) if start >= 0 and len(digits) == 2 * item * point.size else None

    def value_text(self, point: Point) -> str:
        data = self.data_of(point)
        if data is None:
            return "—"
        return ("on" if data[0] else "off") if point.table.is_bits else text_of(point, data)

    def columns(self, width: int) -> tuple[int, int, int, int]:
        """How wide name, value, what moves it and what was written are; 0 where there is no room."""
        rest = width - 9 - (_MOST_WORDS + 1 if width >= _WITH_WORDS else 0)
        if rest >= 96:
            return 22, 20, rest - 22 - 20 - 34 - 2, 34
        if rest >= 62:
            return 22, 18, rest - 22 - 18 - 2, 0
        return 20, 16, max(rest - 20 - 16 - 2, 8), 0

    def draw(self, row: Point, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground if self.has_keys or ground == "ground" else "panel").put(" ")
        device = self.device
        if device is None:
            return cells
        numbering = Numbering.PROTOCOL if self.context.counts_as_wire else device.numbering
        name, value, moved, written = self.columns(width)
        data = self.data_of(row)
        words = "" if data is None or row.table.is_bits else data.hex().upper()
        words = " ".join(words[at : at + 4] for at in range(0, len(words), 4))
        if len(words) > _MOST_WORDS:
            words = words[: _MOST_WORDS - 1] + "…"
        cells.put(f"{from_wire(row.address, row.table, numbering):<7} ", "muted")
        if width >= _WITH_WORDS:
            cells.put(words, "sky", _MOST_WORDS).put(" ")
        cells.put(row.name, width=name, bold=True).put(" ")
        cells.put(self.value_text(row), "ink" if data is not None else "dim", value - 1, right=True, bold=True)
        text, tone = moved_by(device, row, self.look) if self.is_served else ("", "dim")
        cells.put("  ").put(text, tone, moved - 1)
        written_state = self._written.get(row.name)
        if written and written_state is not None:
            tone = "terracotta" if written_state.code is not None else "ink"
            age = age_text(max(self.now_s - written_state.at_s, 0.0))
            cells.put(" ").put(written_text(row, written_state), tone, max(written - 19, 8))
            cells.put(f" {age:>6} ", "muted").put(master_text(written_state.master), "muted", 10)
        return cells

    def head(self, width: int) -> Cells:
        name, value, moved, written = self.columns(width)
        cells = Cells(self.palette).put(" ").put("manual", "muted", 8)
        cells.put("word" if width >= _WITH_WORDS else "", "muted", _MOST_WORDS + 1 if width >= _WITH_WORDS else 0)
        cells.put("register", "muted", name).put(" ").put("value", "muted", value - 1, right=True)
        cells.put("  ").put("moved by", "muted", moved - 1)
        return cells.put(" last written by a master" if written else "", "muted")
