"""The words of a scratch reading: as the wire and the reference count them, in hex, decimal, signed, binary, and as
they are read."""

from collections.abc import Callable

from msgspec import Struct
from textual.binding import Binding
from textual.strip import Strip

from kanaleto.finding.scratch import ScratchState
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.tui.scratch.form import codec_of
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.tui.shared.rows import Rows
from kanaleto.values.codec import NoValue
from kanaleto.values.text import shown


class WordRow(Struct, frozen=True):
    """One register or bit: its number in the reading, its address, and its value."""

    number: int
    address: int
    value: int


class ScratchColumns(Drawn):
    """What stands in the columns."""

    DEFAULT_CSS = "ScratchColumns { height: 1; }"

    def draw_line(self, y: int) -> Strip:
        width = self.size.width
        cells = Cells(self.palette).put("    wire", "dim")
        if width >= 70:
            cells.put("manual", "dim", 8, right=True)
        cells.put("  word", "dim").put("decimal", "dim", 8, right=True).put("signed", "dim", 7, right=True)
        if width >= 64:
            cells.put("   bits 15 … 0", "dim")
        return cells.strip(width)


class ScratchRows(Rows[WordRow]):
    """`chosen` holds the addresses that are to be kept as points."""

    BINDINGS = [
        Binding("right_square_bracket", "group(1)", show=False),
        Binding("left_square_bracket", "group(-1)", show=False),
        Binding("plus", "widen(1)", show=False),
        Binding("minus", "widen(-1)", show=False),
        Binding("right_curly_bracket", "unit(1)", show=False),
        Binding("left_curly_bracket", "unit(-1)", show=False),
        Binding("v", "choose", show=False),
    ]
    DEFAULT_CSS = (
        "ScratchRows { width: 1fr; height: 1fr; min-height: 3; scrollbar-size: 1 1; background: $background; }"
    )

    def __init__(self, on_changed: Callable[[int, int, int], None]) -> None:
        """`on_changed`: read something else, so many groups further, so many words more, so many units on."""
        super().__init__()
        self._on_changed = on_changed
        self.state: ScratchState | None = None
        self.reading = "uint16"
        self.chosen: set[int] = set()
        self.empty_text = "nothing read yet: fill the row above and press enter"

    def take(self, state: ScratchState | None, reading: str) -> None:
        """Show what came last."""
        self.state, self.reading = state, reading
        if state is None or not state.values:
            self.empty_text = (
                state.error
                if state is not None and state.error
                else "nothing read yet: fill the row above and press enter"
            )
            self.set_rows(())
            return
        base = state.question.address
        self.set_rows([WordRow(number, base + number, value) for number, value in enumerate(state.values)])

    def draw(self, row: WordRow, width: int, ground: str) -> Cells:
        state = self.state
        assert state is not None
        table = state.question.table
        has_changed = row.address in state.changed
        cells = Cells(self.palette, ground)
        is_dead = bool(state.error)
        tone = "dim" if is_dead else "ochre" if has_changed else "ink"
        cells.put("▸" if row.address in self.chosen else " ", "ochre").put("*" if has_changed else " ", "ochre")
        cells.put(str(row.address), "dim" if is_dead else "ink", 6, right=True)
        if width >= 70:
            cells.put(from_wire(row.address, table, Numbering.REFERENCE), "muted", 8, right=True)
        if table.is_bits:
            return cells.put("   ").put("on " if row.value else "off", tone, bold=has_changed)
        signed = row.value - 0x10000 if row.value & 0x8000 else row.value
        cells.put(f"  {row.value:04X}", "dim" if is_dead else "sky").put(
            str(row.value), tone, 7, right=True, bold=has_changed
        )
        cells.put(str(signed), tone, 8, right=True)
        if width >= 64:
            bits = f"{row.value:016b}"
            cells.put("   ").put(" ".join(bits[at : at + 4] for at in range(0, 16, 4)), "dim")
        if self.reading not in ("uint16", "int16", "hex"):
            cells.put("   ").put(self._read_as(row), tone, 20)
        return cells

    def _read_as(self, row: WordRow) -> str:
        """The value that begins here, where one does."""
        assert self.state is not None
        codec = codec_of(self.reading)
        words = self.state.values[row.number : row.number + codec.registers]
        if row.number % codec.registers or len(words) < codec.registers:
            return ""
        value = codec.decode(b"".join(word.to_bytes(2) for word in words))
        return value.reason if isinstance(value, NoValue) else shown(value, codec, None, {})

    def action_choose(self) -> None:
        row = self.current
        if row is not None:
            self.chosen ^= {row.address}
            self.action_move(1)

    def action_group(self, step: int) -> None:
        self._on_changed(step, 0, 0)

    def action_widen(self, step: int) -> None:
        self._on_changed(0, step, 0)

    def action_unit(self, step: int) -> None:
        self._on_changed(0, 0, step)
