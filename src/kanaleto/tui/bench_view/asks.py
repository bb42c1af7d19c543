"""What masters ask of the device in view: how often, in which blocks; what nobody ever reads; who they are."""

from kanaleto.bench.states import AskState, BenchState, LookState
from kanaleto.site.model import Device, Point
from kanaleto.tui.bench_view.words import master_text, period_text, points_in, span_text
from kanaleto.tui.shared.pane import Panel, Row
from kanaleto.tui.shared.words import age_text
from kanaleto.wire.codes import Table

_TABLES = {1: Table.COIL, 2: Table.DISCRETE, 3: Table.HOLDING, 4: Table.INPUT}
_GONE_S = 10.0


class Asks(Panel):
    DEFAULT_CSS = "Asks { width: 1fr; height: 100%; background: $panel; }"
    device: Device | None = None
    look: LookState | None = None
    state: BenchState | None = None
    line = ""

    def text_rows(self) -> list[Row]:
        rows: list[Row] = [[("WHAT MASTERS ASK OF IT", "muted!")], []]
        device, look, state = self.device, self.look, self.state
        if device is None or look is None or state is None or look.device != device.name:
            return [*rows, [("nobody stands in for it: B begins", "muted")]]
        room = max(self.size.height - 1, 4)
        masters = [one for one in state.masters if one.line == self.line]
        below: list[Row] = []
        for one in masters[: max(room // 3, 1)]:
            is_here = state.at_s - one.last_s < _GONE_S
            text = f"{one.per_s:.1f}/s" if is_here else f"not for {age_text(state.at_s - one.last_s)}"
            row: Row = [(master_text(one.name), "ink!" if is_here else "muted"), (f"  {text}", "muted")]
            if one.refused:
                code = f": exception {one.code:02}" if one.code is not None else ""
                row.append((f"  {one.refused} refused{code}", "ochre"))
            below.append(row)
        if len(masters) > len(below):
            below.append([(f"and {len(masters) - len(below)} more", "muted")])
        asked = [self._asked(device, one, len(masters)) for one in look.asks]
        never = self._never(device, look.asks)
        left = room - len(rows) - len(below) - 1
        if not asked:
            asked = [[("nobody has read anything of it yet", "muted")]]
            never = []
        shown = [*asked, *never][: max(left, 1)]
        more = len(asked) + len(never) - len(shown)
        if more > 0:
            shown[-1] = [(f"and {more + 1} more", "muted")]
        return [*rows, *shown, [], *below]

    def _asked(self, device: Device, ask: AskState, masters: int) -> Row:
        table, state = _TABLES.get(ask.function, Table.HOLDING), self.state
        assert state is not None
        span = span_text(table, ask.address, ask.count, device, self.context.counts_as_wire)
        late_s = max(3 * (ask.period_s or 0.0), 5.0)
        age_s = state.at_s - ask.last_s
        how = (f"not for {age_text(age_s)}", "ochre") if age_s > late_s else (period_text(ask.period_s), "verdigris")
        points = points_in(device.points, table, ask.address, ask.count)
        row: Row = [("┏ ", "sky"), (f"{span:<16} ", "ink"), (f"{how[0]:<14} ", how[1]), (_names(points), "muted")]
        if masters > 1:
            row.append((f"  by {master_text(ask.master)}", "dim"))
        return row

    def _never(self, device: Device, asks: tuple[AskState, ...]) -> list[Row]:
        """Points that nobody has read since it stands in."""
        read: set[str] = set()
        for ask in asks:
            table = _TABLES.get(ask.function, Table.HOLDING)
            read |= {point.name for point in points_in(device.points, table, ask.address, ask.count)}
        left = [point for point in device.points if point.name not in read and point.access.is_read]
        rows: list[Row] = []
        for run in _runs(left):
            count = run[-1].end - run[0].address
            span = span_text(run[0].table, run[0].address, count, device, self.context.counts_as_wire)
            row: Row = [("· ", "dim"), (f"{span:<16} ", "muted"), (f"{'never':<14} ", "ochre")]
            rows.append([*row, (_names(run), "dim")])
        return rows


def _runs(points: list[Point]) -> list[list[Point]]:
    """Neighbours together."""
    runs: list[list[Point]] = []
    for point in sorted(points, key=lambda one: (one.table.value, one.address)):
        if runs and runs[-1][-1].table is point.table and point.address <= runs[-1][-1].end:
            runs[-1].append(point)
        else:
            runs.append([point])
    return runs


def _names(points: list[Point]) -> str:
    if not points:
        return "no point of the map"
    return points[0].name if len(points) == 1 else f"{points[0].name} … {points[-1].name}"
