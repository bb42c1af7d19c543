"""Bridge: routes from where masters ask to where it goes, who asks and how long each waits, and the latest request of
the route in view in both framings, byte under byte."""

from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.strip import Strip

from kanaleto.board.snapshot import Snapshot
from kanaleto.bridge.watch import BridgeState, Latest, MasterSeen, RouteState
from kanaleto.editing.bridgeedit import PartKind, delete_part
from kanaleto.editing.composedit import delete_row
from kanaleto.lines.opening import framing_of
from kanaleto.planning.plan import Identity
from kanaleto.site.bridges import Bridge, Composed
from kanaleto.tui.bridge_view.asking import ask_change, ask_pass, ask_route, ask_run
from kanaleto.tui.bridge_view.routes import ComposedCell, ComposedRowOf, PassRow, RoutedUnit, RouteRows
from kanaleto.tui.shared.actions import Action, Key
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn, Panel, Row
from kanaleto.tui.shared.view import View
from kanaleto.tui.shared.words import wrapped

_MOST_BYTES = 24
_ABOUT = (
    "Bridge passes on what masters ask: from its ways in to the lines of this site, by unit ID, many masters in turns."
    " Routes stand in the site file ([[bridge]]); docs/bridge.md shows one."
)

ACTIONS = (
    Action("b", "pass_on", "pass on", "open the ways in and pass on what masters ask; again: end it"),
    Action(
        "c", "change", "change", "the route or pass that the cursor is on, as one line; ? lists what may stand in it"
    ),
    Action("a", "add", "add a route", "one more route, or the first bridge of this site"),
    Action("d", "add_pass", "add a pass", "a value that is written on into another device by itself"),
    Action("f", "compose", "points into registers", "a run of points into registers of a composed device"),
    Action("s", "stop", "stop or go on", "stop the pass that the cursor is on, or let it go on"),
    Action(
        "delete", "delete", "take it out", "take the route, pass or register out of its file; ctrl+z brings it back",
        "del",
    ),
    Action("t", "test", "test routes", "one read for each routed unit: who answers, and how fast"),
)  # fmt: skip


class BridgeHead(Drawn):
    DEFAULT_CSS = "BridgeHead { height: 3; }"
    rows: tuple[Cells, ...] = ()

    def draw_line(self, y: int) -> Strip:
        width = self.size.width
        return self.rows[y].strip(width) if y < len(self.rows) else Cells(self.palette).strip(width)


class MasterRows(Panel):
    """Masters now, with how long each waits, and after how long it gives up."""

    DEFAULT_CSS = "MasterRows { width: 1fr; height: 1fr; background: $panel; }"
    state: BridgeState | None = None

    def redraw_key(self) -> object:
        return self.state

    def text_rows(self) -> list[Row]:
        rows: list[Row] = [[("MASTERS", "muted!")]]
        if self.state is None or not self.state.masters:
            said = "nobody has asked yet" if self.state is not None else "nobody is heard: b begins"
            return [*rows, [(said, "muted")]]
        for master in self.state.masters[: max(self.size.height - 3, 1)]:
            rows.append(self._row(master))
        return rows

    def _row(self, master: MasterSeen) -> Row:
        row: Row = [(f"{master.name:<22} ", "ink"), (f"{master.per_s:6.1f}/s  ", "sky")]
        row.append((f"waits {1000 * master.longest_s:.0f} ms at most", "muted"))
        if master.refused:
            row.append((f"  refused {master.refused}", "ochre"))
        if master.gives_up_s is not None:
            slowest = max((route.slowest_s or 0.0 for route in self._routes()), default=0.0)
            text = f"  gives up after {master.gives_up_s:.2g} s"
            if slowest > master.gives_up_s:
                text += f", the slowest takes up to {slowest:.2f}"
            row.append((text, "terracotta"))
        return row

    def _routes(self) -> tuple[RouteState, ...]:
        return self.state.routes if self.state is not None else ()


class LatestRows(Panel):
    """The latest request of the route in view, as it came and as it went out."""

    DEFAULT_CSS = "LatestRows { width: 1fr; height: 1fr; background: $panel; }"
    state: RouteState | None = None
    listen_framing = out_framing = None

    def redraw_key(self) -> object:
        return self.state

    def text_rows(self) -> list[Row]:
        rows: list[Row] = [[("LATEST REQUEST", "muted!")]]
        state = self.state
        if state is None or state.latest is None:
            return [*rows, [("none yet", "muted")]]
        rows[0].append((f"  of {state.latest.master}, unit {state.unit_id}", "muted"))
        return [*rows, *self._frames(state, state.latest)]

    def _frames(self, state: RouteState, latest: Latest) -> list[Row]:
        site = self.snapshot.site
        bridge = next((bridge for bridge in site.bridges if bridge.name == state.bridge), None)
        line = next((line for line in site.lines if line.name == state.target.line), None)
        if bridge is None or not bridge.listen or line is None:
            return []
        came, went = framing_of(bridge.listen[0]), framing_of(line.link)
        rows: list[Row] = []
        for title, pdu in (("asked", latest.request), ("answered", latest.answer)):
            if pdu is None:
                rows.append(
                    [(f"{title:<9}", "muted"), ("nothing: its master did not wait, or silence is right", "muted")]
                )
                continue
            rows += _under(title, came.name, came.encode(state.unit_id, pdu, 1), pdu)
            rows += _under("", went.name, went.encode(state.target.unit_id, pdu, 1), pdu)
        return rows


def _under(title: str, framing: str, raw: bytes, pdu: bytes) -> list[Row]:
    """A frame, with the bytes of its PDU in one column whatever stands before them."""
    if framing == "ascii":
        text = raw.decode("ascii").strip()
        return [[(f"{title:<9}", "muted"), (f"{framing:<6}", "muted"), (text[: 3 * _MOST_BYTES], "ink")]]
    before = raw.index(pdu)
    head, tail = raw[:before].hex(" ").upper(), raw[before + len(pdu) :].hex(" ").upper()
    body = pdu[:_MOST_BYTES].hex(" ").upper() + (" …" if len(pdu) > _MOST_BYTES else "")
    return [
        [
            (f"{title:<9}", "muted"),
            (f"{framing:<6}", "muted"),
            (f"{head:>20} ", "dim"),
            (body, "ink"),
            (f" {tail}", "dim"),
        ]
    ]


class BridgeView(View, Vertical):
    digit, title, about = "6", "Bridge", "go to the bridges: routes, who asks, what waits"
    actions = ACTIONS

    def compose(self) -> ComposeResult:
        yield BridgeHead()
        yield RouteRows()
        with Vertical(id="bridge-below"):
            yield MasterRows()
            yield LatestRows()

    def on_mount(self) -> None:
        one = self.query_one
        self._head, self._routes = one(BridgeHead), one(RouteRows)
        self._masters, self._latest = one(MasterRows), one(LatestRows)
        self._routes.empty_text = "no [[bridge]] in the site file: docs/bridge.md shows one"
        self._routes.when_moved = self.context.redraw
        self._version = -1

    def show(self, snapshot: Snapshot) -> None:
        super().show(snapshot)
        if self._version != snapshot.version:
            self._version = snapshot.version
            self._routes.fill(snapshot.site.bridges)
        bridging = self.context.bridging
        state = bridging.state
        routes = state.routes if state is not None else ()
        self._routes.states = {(route.bridge, route.unit_id): route for route in routes}
        self._routes.tests = bridging.tests
        passes = state.passes if state is not None else ()
        self._routes.passes = {(seen.bridge, seen.pass_): seen for seen in passes}
        self.set_class(self.size.height < 24, "-low")
        self._head.rows = tuple(self._head_rows(state))
        self._masters.state = state
        row = self._routes.current
        self._latest.state = self._routes.states.get((row.bridge, row.unit_id)) if isinstance(row, RoutedUnit) else None
        for widget in (self._head, self._routes, self._masters, self._latest):
            widget.redraw()

    def _head_rows(self, state: BridgeState | None) -> list[Cells]:
        width = max(self.size.width - 2, 30)
        if not self.snapshot.site.bridges:
            return [Cells(self.palette).put(" ").put(text, "muted") for text in wrapped(_ABOUT, width)[:3]]
        cells = Cells(self.palette).put(" ")
        if state is None:
            cells.put("nothing is passed on: ", "muted").put("b", "ochre").put(" begins", "muted")
        else:
            places = ", ".join(place.partition("?")[0] for _, place in state.places)
            cells.put("● ", "verdigris").put(f"passing on, heard at {places}", width=max(width - 4, 8))
        return [cells, self._state_of_row(), self._routes.head(self._routes.size.width or width)]

    def _state_of_row(self) -> Cells:
        """What is wrong with the route in view, or how its test came out."""
        cells, row = Cells(self.palette).put(" "), self._routes.current
        bridging = self.context.bridging
        if bridging.trouble:
            return cells.put(bridging.trouble, "terracotta")
        if isinstance(row, ComposedRowOf | ComposedCell):
            unit_id = row.composed.unit_id if isinstance(row, ComposedRowOf) else row.unit_id
            return cells.put(f"unit {unit_id} has values of its sources as they were polled last", "muted")
        if isinstance(row, PassRow):
            seen = self._routes.passes.get((row.bridge, row.pass_))
            if seen is not None and (seen.trouble or seen.why_not):
                return cells.put(
                    seen.trouble or f"nothing is written: {seen.why_not}", "terracotta" if seen.trouble else "muted"
                )
            each = f"every {row.pass_.every_s:g} s" if row.pass_.every_s is not None else "when it changes"
            return cells.put(
                f"written {each}" + (", while its condition holds" if row.pass_.condition else ""), "muted"
            )
        if not isinstance(row, RoutedUnit):
            return cells
        state, test = self._routes.states.get((row.bridge, row.unit_id)), bridging.tests.get((row.bridge, row.unit_id))
        if state is not None and state.why_down:
            return cells.put(f"{row.target.line}: {state.why_down}", "terracotta")
        if state is not None and state.is_silent:
            return cells.put(f"unit {row.target.unit_id} did not answer last: masters get 0B at once", "terracotta")
        if test is not None:
            is_there = test.outcome in ("good", "exception")
            text = f"answered in {1000 * test.took_s:.1f} ms" if is_there else f"does not answer: {test.reason}"
            return cells.put(f"tested: {text}", "muted" if is_there else "terracotta")
        return cells

    # Keys

    def focus_rows(self) -> None:
        self.screen.set_focus(self._routes)

    def keys_here(self) -> list[Key]:
        if not self.snapshot.site.bridges:
            return self.keys_of("add", add="a bridge")
        verbs = {"pass_on": "end passing on" if self.context.bridging.is_running else "pass on"}
        row = self._routes.current
        if isinstance(row, PassRow):
            seen = self._routes.passes.get((row.bridge, row.pass_))
            stop = "let it go on" if seen is not None and seen.is_stopped else "stop"
            return self.keys_of("pass_on", "stop", "change", "add_pass", stop=stop, **verbs)
        if isinstance(row, ComposedRowOf | ComposedCell):
            return self.keys_of("pass_on", "compose", "delete", **verbs)
        return self.keys_of("pass_on", "test", "change", "add", "add_pass", "compose", **verbs)

    def would_be_lost(self) -> list[str]:
        return ["masters are passed on to devices"] if self.context.bridging.is_running else []

    def action_pass_on(self) -> None:
        if not self.snapshot.site.bridges:
            self.context.tell("the site file has no [[bridge]]: docs/bridge.md shows one")
            return
        self.context.bridging.turn(self.snapshot.site)
        self.context.redraw()

    # Routes

    def _route_here(self) -> tuple[Bridge, int] | None:
        """The bridge and the number of the route that the cursor is on."""
        row = self._routes.current
        if not isinstance(row, RoutedUnit):
            return None
        bridge = next((bridge for bridge in self.snapshot.site.bridges if bridge.name == row.bridge), None)
        if bridge is None:
            return None
        return next(((bridge, at) for at, route in enumerate(bridge.routes) if row.unit_id in route.units), None)

    def _part_here(self) -> tuple[Bridge, PartKind, int] | None:
        """The route or pass that the cursor is on."""
        row = self._routes.current
        if isinstance(row, PassRow):
            bridge = self._bridge_here()
            return (bridge, "pass", row.number) if bridge is not None else None
        here = self._route_here()
        return (here[0], "route", here[1]) if here is not None else None

    def _bridge_here(self) -> Bridge | None:
        """The one that the cursor is in, else the first."""
        bridges, row = self.snapshot.site.bridges, self._routes.current
        name = row.bridge if isinstance(row, RoutedUnit | PassRow | ComposedRowOf | ComposedCell) else None
        return next((bridge for bridge in bridges if bridge.name == name), bridges[0] if bridges else None)

    def _composed_here(self) -> Composed | None:
        row, bridge = self._routes.current, self._bridge_here()
        if bridge is None:
            return None
        if isinstance(row, ComposedCell):
            return bridge.composed(row.unit_id)
        if isinstance(row, ComposedRowOf):
            return bridge.composed(row.composed.unit_id)
        return None

    def action_change(self) -> None:
        here = self._part_here()
        if here is None:
            self.context.presses.refused("the cursor is on no route and no pass; a adds a route, d a pass")
            return
        ask_change(self.context, *here)

    def action_add(self) -> None:
        bridge = self._bridge_here()
        ask_route(self.context, bridge.name if bridge is not None else "")

    def action_add_pass(self) -> None:
        bridge = self._bridge_here()
        if bridge is None:
            self.context.presses.refused("a adds a bridge first")
            return
        ask_pass(self.context, bridge)

    def action_compose(self) -> None:
        self.take_points(())

    def take_points(self, chosen: Sequence[Identity]) -> None:
        """Ask into which registers of a composed device these points go; none are named yet where there are none."""
        bridge = self._bridge_here()
        if bridge is None:
            self.context.presses.refused("a adds a bridge first")
            return
        ask_run(self.context, bridge, self._composed_here(), chosen)

    def action_stop(self) -> None:
        row = self._routes.current
        if not isinstance(row, PassRow):
            self.context.tell("the cursor is on no pass")
            return
        if not self.context.bridging.is_running:
            self.context.tell("nothing is passed on: b begins")
            return
        self.context.bridging.turn_pass(row.bridge, row.pass_)

    def action_delete(self) -> None:
        row, bridge, here = self._routes.current, self._bridge_here(), self._part_here()
        if bridge is not None and isinstance(row, ComposedCell):
            self.context.edit(delete_row(bridge, row.unit_id, row.row.name))
        elif here is not None:
            self.context.edit(delete_part(*here))
        else:
            self.context.tell("the cursor is on no route, no pass and no register")

    def action_test(self) -> None:
        if not self.snapshot.site.bridges:
            self.context.tell("the site file has no [[bridge]]: docs/bridge.md shows one")
            return
        self.context.bridging.test(self.snapshot.site)
