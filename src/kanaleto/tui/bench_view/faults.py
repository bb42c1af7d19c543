"""Faults to switch on for the device in view, or for its line."""

from collections.abc import Hashable
from datetime import datetime

from kanaleto.bench.states import FaultState
from kanaleto.site.model import Line
from kanaleto.tui.bench_view.words import FAULTS, OF_SERIAL, OF_TCP
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows

_ON, _OFF = "━━● ", "○── "


class FaultRows(Rows[str]):
    """`standing` are those that stand now, of the target in view."""

    DEFAULT_CSS = """
    FaultRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $panel; }
    """
    resting_ground = "panel"
    standing: tuple[FaultState, ...] = ()

    def identity(self, row: str) -> Hashable:
        return row

    def take(self, line: Line | None, target: str, faults: tuple[FaultState, ...]) -> None:
        self.standing = tuple(one for one in faults if one.target == target)
        others = OF_TCP if line is not None and line.link.is_serial else OF_SERIAL
        names = tuple(name for name in FAULTS if name not in others)
        if names != self.rows:
            self.set_rows(names)
        self.redraw()

    def fault(self, name: str) -> FaultState | None:
        return next((one for one in self.standing if one.name == name), None)

    def draw(self, row: str, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground if self.has_keys else "panel").put("  ")
        standing = self.fault(row)
        text, _ = FAULTS[row]
        if standing is None:
            return cells.put(_OFF, "dim").put(text, "ink", width - 8)
        since = datetime.fromtimestamp(standing.since_s).strftime("%H:%M:%S")
        keys = standing.text.partition(" ")[2]
        right = f"{keys}{' · ' if keys else 'since '}{since}"
        cells.put(_ON, "terracotta").put(text, bold=True, width=max(width - 9 - len(right), 8))
        return cells.put(f" {right}", "terracotta")
