"""Lines and devices at the left of Map."""

from collections.abc import Hashable

from msgspec import Struct

from kanaleto.site.leading import led_words
from kanaleto.site.model import Device, Line
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.look import SHAPES, TONES
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import device_state


class LineRow(Struct, frozen=True):
    line: Line


class UnitRow(Struct, frozen=True):
    line: Line
    device: Device


DeviceListRow = LineRow | UnitRow | str | None


class DeviceList(Rows[DeviceListRow]):
    DEFAULT_CSS = "DeviceList { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    def may_rest(self, row: DeviceListRow) -> bool:
        return isinstance(row, UnitRow)

    def identity(self, row: DeviceListRow) -> Hashable:
        return row.device.name if isinstance(row, UnitRow) else None

    def draw(self, row: DeviceListRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground if self.has_keys or ground == "ground" else "panel").put(" ")
        if isinstance(row, LineRow):
            is_led = row.line.led_from is not None
            cells.put(row.line.name, width=width - 2 - (11 if is_led else 0), bold=True)
            cells.put(f" ◇ {led_words(row.line)}" if is_led else "", "ochre")
        elif isinstance(row, str):
            cells.put(f"  {row}", "muted", width=width - 2)
        elif isinstance(row, UnitRow):
            found = self.snapshot.status_of(row.device.name)
            state = device_state(*found) if found is not None else "idle"
            right = " ◇" if self.context.bench.is_served(row.line.name, row.device.name) else ""
            cells.put(f" {SHAPES[state]} ", TONES[state]).put(f"{row.device.unit_id:>3} ", "muted").put(
                row.device.name, width=width - 9 - len(right)
            )
            cells.put(right, "ochre")
        return cells

    def fill(self, lines: tuple[Line, ...]) -> None:
        rows: list[DeviceListRow] = []
        for line in lines:
            rows += [LineRow(line), line.link.setup, *(UnitRow(line, device) for device in line.devices), None]
        self.set_rows(rows)
