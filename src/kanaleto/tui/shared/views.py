"""The views, by name. The module of a view is loaded once the first frame stands, but for the one that is seen first:
none costs a start that does not show it."""

from importlib import import_module
from typing import NamedTuple, cast

from kanaleto.tui.shared.view import View


class Entry(NamedTuple):
    """Digit and title of a view, and where its class is."""

    digit: str
    title: str
    module: str
    name: str

    def load(self) -> type[View]:
        return cast(type[View], getattr(import_module(self.module), self.name))


FIND, MAP, LIVE, WIRE, BENCH, BRIDGE, PROOF = "1", "2", "3", "4", "5", "6", "7"
VIEWS = (
    Entry(FIND, "Find", "kanaleto.tui.find.view", "FindView"),
    Entry(MAP, "Map", "kanaleto.tui.map.view", "MapView"),
    Entry(LIVE, "Live", "kanaleto.tui.live.view", "LiveView"),
    Entry(WIRE, "Wire", "kanaleto.tui.wire_view.view", "WireView"),
    Entry(BENCH, "Bench", "kanaleto.tui.bench_view.view", "BenchView"),
    Entry(BRIDGE, "Bridge", "kanaleto.tui.bridge_view.view", "BridgeView"),
    Entry(PROOF, "Proof", "kanaleto.tui.proof_view.view", "ProofView"),
)
