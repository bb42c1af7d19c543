"""The rows of Bridge: routes, from where masters ask to where it goes; passes, with both values; composed devices, with
each register and whose value it has."""

from collections.abc import Hashable, Sequence

from msgspec import Struct

from kanaleto.board.board import Quality
from kanaleto.bridge.bridging import Tested
from kanaleto.bridge.watch import PassSeen, RouteState
from kanaleto.planning.plan import Place
from kanaleto.site.bridges import Bridge, BridgeTarget, Composed, ComposedRow, Pass
from kanaleto.site.counting import Counting, Numbering, from_wire
from kanaleto.site.model import Point
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.readings import short_number, value_text
from kanaleto.tui.shared.rows import Rows
from kanaleto.tui.shared.words import age_text
from kanaleto.wire.codes import Table


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


class ComposedCell(Struct, frozen=True):
    """One value of a composed device."""

    bridge: str
    unit_id: int
    numbering: Numbering
    row: ComposedRow


class PassRow(Struct, frozen=True):
    """`number` counts the passes of its bridge."""

    bridge: str
    number: int
    pass_: Pass


RouteRow = BridgeName | RoutedUnit | PassRow | ComposedRowOf | ComposedCell | None
_COLUMNS = (("asked", 8), ("waits", 7), ("answers", 10), ("slowest", 10), ("failed", 8))


class RouteRows(Rows[RouteRow]):
    DEFAULT_CSS = "RouteRows { width: 1fr; height: 1fr; scrollbar-size: 1 1; background: $background; }"
    states: dict[tuple[str, int], RouteState] = {}
    tests: dict[tuple[str, int], Tested] = {}
    passes: dict[tuple[str, Pass], PassSeen] = {}

    def may_rest(self, row: RouteRow) -> bool:
        return isinstance(row, RoutedUnit | PassRow | ComposedRowOf | ComposedCell)

    def identity(self, row: RouteRow) -> Hashable:
        if isinstance(row, RoutedUnit):
            return "unit", row.bridge, row.unit_id
        if isinstance(row, ComposedRowOf):
            return "composed", row.bridge, row.composed.unit_id
        if isinstance(row, ComposedCell):
            return "cell", row.bridge, row.unit_id, row.row.name
        if isinstance(row, PassRow):
            return "pass", row.bridge, row.pass_.title
        return ("bridge", row.bridge.name) if isinstance(row, BridgeName) else None

    def fill(self, bridges: Sequence[Bridge]) -> None:
        rows: list[RouteRow] = []
        for bridge in bridges:
            rows.append(BridgeName(bridge))
            for route in bridge.routes:
                pairs = zip(route.units, route.targets, strict=True)
                rows += [RoutedUnit(bridge.name, unit, to, route.access.value == "write") for unit, to in pairs]
            rows += [PassRow(bridge.name, number, pass_) for number, pass_ in enumerate(bridge.passes)]
            for composed in bridge.devices:
                rows.append(ComposedRowOf(bridge.name, composed))
                rows += [ComposedCell(bridge.name, composed.unit_id, composed.numbering, row) for row in composed.rows]
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
        if isinstance(row, PassRow):
            return self._pass(cells, row, width)
        if isinstance(row, ComposedCell):
            return self._cell(cells, row, width)
        return cells

    def _cell(self, cells: Cells, row: ComposedCell, width: int) -> Cells:
        """Where it stands here, its value and age, and where it stands at its source."""
        composed = row.row
        counting = Numbering.PROTOCOL if self.context.counts_as_wire else row.numbering
        cells.put("     ").put(_span(composed.table, composed.address, composed.end, counting), "sky", 17)
        name = max(min((width - 50) // 2, 34), 8)
        cells.put(composed.name, "ink", name).put(" ")
        place = self.snapshot.place_of((composed.device, composed.point)) if composed.device else None
        if place is None:
            lost = f"{composed.device}/{composed.point} is no point of the site any more: answered 0B"
            derived = self.snapshot.board.derived.get(composed.point) if not composed.device else None
            if derived is None or not isinstance(derived.value, int | float):
                return cells.put(
                    lost if composed.device else "an expression, not known yet", "ochre" if composed.device else "muted"
                )
            cells.put(f"{short_number(float(derived.value))}", "ink", 14, right=True)
            return (
                cells.put(age_text(derived.age_s), "muted", 8, right=True)
                .put("  = from ", "muted")
                .put(", ".join(composed.sources), "muted", max(width - cells.width - 1, 4))
            )
        reading = self.snapshot.reading(place)
        is_good = reading.quality is Quality.GOOD
        cells.put(value_text(place.point, reading), "ink" if is_good else "ochre", 14, right=True)
        cells.put(age_text(reading.age_s), "muted", 8, right=True).put("  ← ", "muted")
        cells.put(f"{composed.device}/{composed.point}", "ink")
        if isinstance(place.point, Point) and isinstance(place, Place):
            counting_there = Numbering.PROTOCOL if self.context.counts_as_wire else place.device.numbering
            there = _span(place.point.table, place.point.address, place.point.end, counting_there)
            cells.put(f"  {there}", "sky", max(width - cells.width - 1, 0))
        return cells

    def _pass(self, cells: Cells, row: PassRow, width: int) -> Cells:
        """Both values, the age of the one and when the other was written."""
        seen = self.passes.get((row.bridge, row.pass_))
        pass_ = row.pass_
        shape, tone = _how_passed(seen)
        source = f"{pass_.device}/{pass_.point}" if pass_.device else "an expression"
        target = f"{pass_.to_device}/{pass_.to_point}"
        room = max((width - 46) // 2, 10)
        cells.put(f" {shape} ", tone).put(source, "ink", room if seen is not None else None)
        if seen is None:
            return cells.put(" ⇢ ", "muted").put(target, "ink", max(width - cells.width - 1, 4))
        value = seen.source_value
        text = short_number(float(value)) if isinstance(value, int | float) else "—"
        cells.put(text, "ink" if seen.is_good else "ochre", 8, right=True)
        cells.put(age_text(seen.source_age_s), "muted", 8, right=True).put("  ⇢ ", "muted").put(target, "ink", room)
        if seen.is_stopped or (seen.why_not and not seen.written):
            return cells.put(seen.why_not, "ochre")
        if seen.wrote is None:
            return cells.put("not written yet", "muted" if not seen.trouble else "terracotta")
        cells.put(short_number(seen.wrote), "ink", 8, right=True)
        ago = age_text(seen.wrote_ago_s)
        return cells.put(f" {ago} ago ×{seen.written}" if not seen.why_not else f" {seen.why_not}", "muted")

    def _unit(self, cells: Cells, row: RoutedUnit, width: int) -> Cells:
        state = self.states.get((row.bridge, row.unit_id))
        shape, tone = self._how(row, state)
        figures = sum(size for _, size in _COLUMNS) if width >= 90 else _COLUMNS[0][1]
        room = max(width - 14 - figures, 12)
        access = "reads, writes" if row.is_written else "reads"
        cells.put(f" {shape} ", tone).put(f"{row.unit_id:>3}", width=5).put("→ ", "muted")
        cells.put(f"{row.target.line} unit {row.target.unit_id}", width=min(max(room - 16, 8), 40)).put(
            f"  {access}", "muted", 15
        )
        if state is None:
            return cells
        cells.at(max(width - 1 - figures, cells.width))
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


def _how_passed(seen: PassSeen | None) -> tuple[str, str]:
    if seen is None or seen.why_not:
        return "◌", "muted"
    if seen.trouble:
        return "✕", "terracotta"
    return ("●", "verdigris") if seen.is_good else ("◐", "ochre")


def _span(table: Table, address: int, end: int, counting: Counting) -> str:
    last = f"-{from_wire(end - 1, table, counting)}" if end - address > 1 else ""
    return f"{table.value} {from_wire(address, table, counting)}{last}"


def _ms(seconds: float | None) -> str:
    return f"{1000 * seconds:.1f} ms" if seconds is not None else ""
