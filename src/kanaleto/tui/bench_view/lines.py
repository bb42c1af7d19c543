"""Lines and devices at the left of Bench: who stands in, where, and how often masters ask."""

from collections.abc import Hashable, Sequence

from msgspec import Struct

from kanaleto.bench.states import ServedDevice
from kanaleto.site.model import Device, Line
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows


class StandLine(Struct, frozen=True):
    line: Line


class StandPlace(Struct, frozen=True):
    """Where a line is stood in for."""

    line: Line


class StandDevice(Struct, frozen=True):
    line: Line
    device: Device


BenchRow = StandLine | StandPlace | StandDevice | None
_SAID = {"silent": "✕", "power": "✕", "cable": "✕", "refuse": "✕"}


class BenchList(Rows[BenchRow]):
    DEFAULT_CSS = "BenchList { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"

    def may_rest(self, row: BenchRow) -> bool:
        return isinstance(row, StandLine | StandDevice)

    def identity(self, row: BenchRow) -> Hashable:
        if isinstance(row, StandDevice):
            return "device", row.device.name
        return ("line", row.line.name) if isinstance(row, StandLine) else None

    def fill(self, lines: Sequence[Line]) -> None:
        rows: list[BenchRow] = []
        for line in lines:
            rows += [StandLine(line), StandPlace(line), *(StandDevice(line, device) for device in line.devices), None]
        self.set_rows(rows)

    def draw(self, row: BenchRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground if self.has_keys or ground == "ground" else "panel").put(" ")
        if isinstance(row, StandLine):
            return self._line(cells, row.line, width)
        if isinstance(row, StandPlace):
            return self._place(cells, row.line, width)
        if isinstance(row, StandDevice):
            return self._device(cells, row, width)
        return cells

    def _line(self, cells: Cells, line: Line, width: int) -> Cells:
        doing = self.context.bench.under_way(line.name)
        is_led = line.name in self.context.bench.leads
        right = f"{doing} …" if doing else "instead of it" if is_led else ""
        cells.put(line.name, width=max(width - 3 - len(right), 4), bold=True)
        return cells.put(f" {right}", "sky" if doing else "ochre")

    def _place(self, cells: Cells, line: Line, width: int) -> Cells:
        served = self.context.bench.served.get(line.name)
        if served is None:
            return cells.put("  nobody stands in", "dim", width - 2)
        state = self.context.bench.state
        served_line = state.line(line.name) if state is not None else None
        masters = (
            f" · {served_line.masters} master{'s' if served_line.masters != 1 else ''}"
            if served_line is not None
            else ""
        )
        room = width - 4 - len(masters)
        place = served.link.place
        place = place if len(place) <= room else f"…{place[len(place) - max(room - 1, 1) :]}"
        return cells.put(
            f"  {place}{masters}", "ochre" if line.name in self.context.bench.leads else "muted", width - 2
        )

    def _device(self, cells: Cells, row: StandDevice, width: int) -> Cells:
        bench = self.context.bench
        state = bench.state
        served = state.device(row.device.name) if state is not None else None
        if not bench.is_served(row.line.name, row.device.name) or served is None:
            return cells.put(f" · {row.device.unit_id:>3} ", "dim").put(row.device.name, "muted", width - 9)
        shape, tone, text = _how(served)
        cells.put(f" {shape} ", tone).put(f"{served.unit_id:>3} ", "muted")
        return cells.put(row.device.name, width=max(width - 10 - len(text), 6)).put(f" {text}", tone)


def _how(served: ServedDevice) -> tuple[str, str, str]:
    """Its shape, its tone, and what is said beside its name."""
    if served.is_silenced:
        return "✕", "terracotta", "another answers"
    if served.faults:
        name = served.faults[0].split()[0]
        return _SAID.get(name, "◐"), "terracotta" if name in _SAID else "ochre", name
    if not served.times:
        return "◌", "muted", "never asked"
    return "●", "verdigris", f"{served.per_s:.0f}/s" if served.per_s >= 9.95 else f"{served.per_s:.1f}/s"
