"""The ruler: brackets for the requests, manual's count, wire's address, the word, brackets for the points, their
values."""

from collections.abc import Hashable

from kanaleto.board.board import Quality
from kanaleto.planning.plan import Place
from kanaleto.planning.ruler import GapRow, Row, Ruler, RulerPart, RulerRow, TableRow
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import DEMAND, Device
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.readings import DEAD_TONES, QUALITY_SHAPES, limit_tone, value_text
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import age_text
from kanaleto.values.codec import Codec
from kanaleto.values.scale import Scale
from kanaleto.wire.codes import Table

_BLOCK_MARKS = {
    RulerPart.NONE: " ",
    RulerPart.WHOLE: "╺",
    RulerPart.FIRST: "┏",
    RulerPart.MIDDLE: "┃",
    RulerPart.LAST: "┗",
}
_POINT_MARKS = {
    RulerPart.NONE: " ",
    RulerPart.WHOLE: " ",
    RulerPart.FIRST: "╭",
    RulerPart.MIDDLE: "│",
    RulerPart.LAST: "╰",
}
_BLOCK_TONES = ("verdigris", "violet", "sky", "ochre")


class RulerRows(Rows[Row]):
    """`device` is whose registers they are; `marked` holds the points that are chosen, by name."""

    DEFAULT_CSS = "RulerRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    def __init__(self) -> None:
        super().__init__()
        self.device: Device | None = None
        self.marked: set[str] = set()

    @property
    def places(self) -> list[Place]:
        """Of the rows in sight, each point once."""
        rows = [row for row in self.rows if isinstance(row, RulerRow)]
        return [row.place for row in rows if row.place is not None and row.place.point.address == row.address]

    def may_rest(self, row: Row) -> bool:
        return isinstance(row, RulerRow)

    def identity(self, row: Row) -> Hashable:
        """The point, on the register of it that it is; registers of no point are themselves."""
        if not isinstance(row, RulerRow):
            return None
        if row.place is None:
            return row.table, row.address
        return row.place.identity, row.address - row.place.point.address

    def find(self, identity: Hashable) -> int | None:
        rows = self.rows
        if not isinstance(rows, Ruler) or not isinstance(identity, tuple):
            return super().find(identity)
        whose, address = identity
        if not isinstance(whose, Table):
            part = self.snapshot.plan.part_of(whose[0])
            place = part.by_name.get(whose[1]) if part is not None else None
            if place is None:
                return None
            whose, address = place.point.table, place.point.address + address
        return next((at for at in rows.rows_at(whose, address) if self.identity(rows[at]) == identity), None)

    def redraw_key(self, row: Row) -> Hashable:
        snapshot, device = self.snapshot, self.device
        common = (snapshot.version, device.name if device is not None else "", self.context.counts_as_wire)
        if not isinstance(row, RulerRow):
            return common
        word, place = self._word(row), row.place
        if place is None or row.part not in (RulerPart.WHOLE, RulerPart.FIRST):
            return *common, word, place is not None and place.point.name in self.marked
        is_marked = place.point.name in self.marked
        return *common, word, is_marked, int(snapshot.now_s), snapshot.state_of(place)

    def draw(self, row: Row, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground)
        if isinstance(row, TableRow):
            return cells.put("  ").put(row.table.title.upper(), "muted", bold=True)
        if isinstance(row, GapRow):
            return self._gap(cells, row)
        self._address(cells, row, width)
        if row.place is not None and row.part in (RulerPart.WHOLE, RulerPart.FIRST):
            self._point(cells, row, width)
        elif row.place is not None:
            cells.put(_POINT_MARKS[row.part], "ochre")
        else:
            cells.put("  ").put("read along, in no point", "dim")
        return cells

    def _count(self, row: RulerRow | GapRow, address: int) -> str:
        numbering = self.device.numbering if self.device is not None else Numbering.PROTOCOL
        return from_wire(address, row.table, Numbering.PROTOCOL if self.context.counts_as_wire else numbering)

    def _gap(self, cells: Cells, row: GapRow) -> Cells:
        count = row.last - row.first + 1
        span = self._count(row, row.first) + (f" … {self._count(row, row.last)}" if count > 1 else "")
        cells.put(" · ", "dim").put(span, "muted").put(f"  {count} not read", "dim")
        if row.gap is not None:
            saved = 1000 * (row.gap.second_s - row.gap.through_s)
            text = (
                f": reading them too would save {saved:.1f} ms"
                if saved > 0
                else f": reading them too takes {-saved:.1f} ms"
            )
            device = self.device
            is_closed = device is None or (
                device.limits.forbids_reading(row.table, row.first, row.last)
                or device.only_written[row.table].touch(row.first, row.last + 1)
            )
            if not is_closed and device is not None:
                hint = f" (max_gap={count})" if saved > 0 and device.limits.max_gap < count else ""
                cells.put(text + hint, "dim")
        return cells

    def _address(self, cells: Cells, row: RulerRow, width: int) -> None:
        tone = _BLOCK_TONES[row.block.index % len(_BLOCK_TONES)] if row.block is not None else "dim"
        is_marked = row.place is not None and row.place.point.name in self.marked
        cells.put("▸" if is_marked else " ", "ochre").put(_BLOCK_MARKS[row.block_part], tone)
        if row.is_more:
            cells.put(" " * (8 + (7 if width >= 60 else 0) + 6))
            return
        cells.put(self._count(row, row.address), "ink", 8, right=True)
        if width >= 60:
            cells.put(f"{row.address:04X}", "muted", 7, right=True)
        cells.put("  ").put(self._word(row), "sky", 4)

    def _word(self, row: RulerRow) -> str:
        """The word as it came last; a bit for coils and discrete inputs."""
        if row.block is None:
            return ""
        record = self.snapshot.board.records[row.block.index]
        if record is None:
            return ""
        at = row.address - row.block.request.address
        if row.table.is_bits:
            return str(record.data[at // 8] >> at % 8 & 1)
        return record.data[2 * at : 2 * at + 2].hex().upper()

    def _point(self, cells: Cells, row: RulerRow, width: int) -> None:
        place = row.place
        assert place is not None
        point, reading = place.point, self.snapshot.reading(place)
        if row.is_more:
            bit = point.codec.bits
            cells.put("├ ", "ochre")
            cells.put(f"{bit[0] if bit and bit[0] == bit[1] else f'{bit[0]}–{bit[1]}' if bit else ''} ", "muted")
        else:
            cells.put(_POINT_MARKS[row.part] + " ", "ochre")
        left = width - cells.width
        age = 8 if left >= 62 else 0
        value = 22 if left >= 70 else 17 if left >= 44 else 13
        kind = 20 if left >= 80 else 14 if left >= 50 else 0
        good = reading.quality is Quality.GOOD
        mark = QUALITY_SHAPES.get(reading.quality, "")
        text = value_text(point, reading)
        if isinstance(reading.value, int | float):  # digits are never cut: the type's words and the name give way
            value = max(value, len(text) + (3 if mark else 1))
            kind = kind if left - age - value - kind - 1 >= 10 else 0
            age = age if left - age - value - kind - 1 >= 10 else 0
        name = max(left - age - value - kind - 1, 8)
        cells.put(
            f"{'⨯ ' if row.overlaps else ''}{point.name}",
            "terracotta" if row.overlaps else "ink",
            name,
            bold=not row.is_more,
        )
        if kind:
            cells.put(_kind_text(point.codec, point.table.is_bits), "muted", kind)
        tone = (limit_tone(point, reading.value) or "ink") if good else DEAD_TONES[reading.quality]
        cells.put(f"{mark} " if mark else "", tone).put(text, tone, value - (2 if mark else 0), bold=good)
        if age:
            cells.put(
                "asked" if point.period_s == DEMAND and reading.age_s is None else age_text(reading.age_s),
                "muted",
                age,
                right=True,
            )


def _kind_text(codec: Codec, is_bit: bool) -> str:
    if is_bit:
        return "bool"
    text = str(codec)
    if codec.scale is not None:
        text += f" ×{codec.scale.factor:g}" if isinstance(codec.scale, Scale) else " curve"
    return text
