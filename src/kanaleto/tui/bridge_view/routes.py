"""The routes of Bridge: from where masters ask to where it goes, a row each."""

from collections.abc import Hashable, Sequence

from msgspec import Struct

from kanaleto.bridge.running import Tested
from kanaleto.bridge.watch import RouteState
from kanaleto.site.bridges import Bridge, BridgeTarget, Composed
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.rows import Rows


class BridgeName(Struct, frozen=True):
    bridge: Bridge


class RoutedUnit(Struct, frozen=True):
    bridge: str
    unit_id: int
    target: BridgeTarget
    is_written: bool


class ComposedRowOf(Struct, frozen=True):
    """A device that is composed: as one row."""

    bridge: str
    composed: Composed


RouteRow = BridgeName | RoutedUnit | ComposedRowOf | None
_COLUMNS = (("asked", 8), ("waits", 7), ("answers", 10), ("slowest", 10), ("failed", 8))


class RouteRows(Rows[RouteRow]):
    DEFAULT_CSS = "RouteRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"
    states: dict[tuple[str, int], RouteState] = {}
    tests: dict[tuple[str, int], Tested] = {}

    def may_rest(self, row: RouteRow) -> bool:
        return isinstance(row, RoutedUnit | ComposedRowOf)

    def identity(self, row: RouteRow) -> Hashable:
        if isinstance(row, RoutedUnit):
            return "unit", row.bridge, row.unit_id
        if isinstance(row, ComposedRowOf):
            return "composed", row.bridge, row.composed.unit_id
        return ("bridge", row.bridge.name) if isinstance(row, BridgeName) else None

    def fill(self, bridges: Sequence[Bridge]) -> None:
        rows: list[RouteRow] = []
        for bridge in bridges:
            rows.append(BridgeName(bridge))
            for route in bridge.routes:
                pairs = zip(route.units, route.targets, strict=True)
                rows += [RoutedUnit(bridge.name, unit, to, route.access.value == "write") for unit, to in pairs]
            rows += [ComposedRowOf(bridge.name, composed) for composed in bridge.devices]
            rows.append(None)
        self.set_rows(rows)

    def draw(self, row: RouteRow, width: int, ground: str) -> Cells:
        cells = Cells(self.palette, ground).put(" ")
        if isinstance(row, BridgeName):
            places = ", ".join(str(link).partition("?")[0] for link in row.bridge.listen)
            return cells.put(row.bridge.name, bold=True).put(f"  {places}", "muted")
        if isinstance(row, ComposedRowOf):
            sources = ", ".join(row.composed.sources)
            cells.put(" ◆ ", "sky").put(f"{row.composed.unit_id:>3}", width=5)
            return cells.put(f"composed of {sources}", "muted", max(width - 10, 4))
        if isinstance(row, RoutedUnit):
            return self._unit(cells, row, width)
        return cells

    def _unit(self, cells: Cells, row: RoutedUnit, width: int) -> Cells:
        state = self.states.get((row.bridge, row.unit_id))
        shape, tone = self._how(row, state)
        figures = sum(size for _, size in _COLUMNS) if width >= 90 else _COLUMNS[0][1]
        room = max(width - 14 - figures, 12)
        access = "reads, writes" if row.is_written else "reads"
        cells.put(f" {shape} ", tone).put(f"{row.unit_id:>3}", width=5).put("→ ", "muted")
        cells.put(f"{row.target.line} unit {row.target.unit_id}", width=max(room - 16, 8)).put(
            f"  {access}", "muted", 15
        )
        if state is None:
            return cells
        cells.put(f"{state.per_s:.1f}/s" if state.asked else "", "sky", _COLUMNS[0][1], right=True)
        if width < 90:
            return cells
        cells.put(str(state.waits) if state.waits else "", "ochre", _COLUMNS[1][1], right=True)
        cells.put(_ms(state.took_s), "ink", _COLUMNS[2][1], right=True)
        cells.put(_ms(state.slowest_s), "muted", _COLUMNS[3][1], right=True)
        return cells.put(str(state.failed) if state.failed else "", "terracotta", _COLUMNS[4][1], right=True)

    def _how(self, row: RoutedUnit, state: RouteState | None) -> tuple[str, str]:
        test = self.tests.get((row.bridge, row.unit_id))
        if state is not None and (state.why_down or state.is_silent):
            return "✕", "terracotta"
        if state is not None and state.asked:
            return ("◐", "ochre") if state.failed else ("●", "verdigris")
        if test is not None:
            return ("●", "verdigris") if test.outcome in ("good", "exception") else ("✕", "terracotta")
        return "◌", "muted"

    def head(self, width: int) -> Cells:
        """The titles of the columns."""
        cells = Cells(self.palette).put("    unit", "muted", 9).put("goes to", "muted")
        figures = _COLUMNS if width >= 90 else _COLUMNS[:1]
        cells.at(max(width - 1 - sum(size for _, size in figures), cells.width + 1))
        for title, size in figures:
            cells.put(title, "muted", size, right=True)
        return cells


def _ms(seconds: float | None) -> str:
    return f"{1000 * seconds:.1f} ms" if seconds is not None else ""
