"""What is to be seen of bridges that run: each routed unit, each master, and the last request of each unit."""

from collections import deque
from statistics import median

from msgspec import Struct

from kanaleto.board.board import Quality
from kanaleto.bridge.bridging import Bridging, MasterAsked
from kanaleto.bridge.passes import Passes, PassState
from kanaleto.site.bridges import BridgeTarget, Pass
from kanaleto.wire.codes import ExceptionCode

_KEPT, _WITHIN_S = 64, 10.0
_MOST_MASTERS = 100
_NOW_S = 60.0  # whoever has not asked for so long is none of the masters now
_OF_BRIDGE = (ExceptionCode.GATEWAY_TARGET_FAILED, ExceptionCode.GATEWAY_PATH_UNAVAILABLE)


class Latest(Struct, frozen=True):
    """The last request of a routed unit, and what it was answered (None: silence)."""

    master: str
    request: bytes
    answer: bytes | None


class RouteState(Struct, frozen=True):
    """One routed unit. `waits` is how many requests wait for its line; times in seconds, None before the first."""

    bridge: str
    unit_id: int
    target: BridgeTarget
    is_written: bool
    asked: int
    failed: int
    per_s: float
    waits: int
    took_s: float | None
    slowest_s: float | None
    is_silent: bool
    why_down: str
    latest: Latest | None


class MasterSeen(Struct, frozen=True):
    """One master: how often it asks, how long it waits at most, and after how long it gave up waiting, where it did."""

    name: str
    bridge: str
    asked: int
    per_s: float
    longest_s: float
    gives_up_s: float | None
    refused: int
    last_at: float


class PassSeen(Struct, frozen=True):
    """One pass: the value of its source now with its age, what it wrote last and how long ago. Times in seconds, None
    before the first. `why_not` says why nothing is written where that is nobody's fault."""

    bridge: str
    pass_: Pass
    source_value: object
    source_age_s: float | None
    is_good: bool
    wrote: float | None
    wrote_ago_s: float | None
    written: int
    trouble: str
    why_not: str
    is_stopped: bool


class BridgeState(Struct, frozen=True):
    """All of it at a moment."""

    routes: tuple[RouteState, ...] = ()
    masters: tuple[MasterSeen, ...] = ()
    passes: tuple[PassSeen, ...] = ()
    places: tuple[tuple[str, str], ...] = ()
    """Where masters find which bridge: its name, and the link."""


class _Seen(Struct):
    asked: int = 0
    failed: int = 0
    refused: int = 0
    at: deque[float] = deque()
    took: deque[float] = deque()
    gave_up: deque[float] = deque()
    latest: Latest | None = None
    bridge: str = ""


def _fresh() -> _Seen:
    return _Seen(at=deque(maxlen=_KEPT), took=deque(maxlen=_KEPT), gave_up=deque(maxlen=_KEPT))


class BridgeWatch:
    """Hears of each request; `state` makes what is to be seen. For the loop's thread."""

    def __init__(self) -> None:
        self._routes: dict[tuple[str, int], _Seen] = {}
        self._masters: dict[str, _Seen] = {}

    def asked(self, asked: MasterAsked, now_s: float) -> None:
        route = self._routes.setdefault((asked.bridge.name, asked.unit_id), _fresh())
        if asked.master.name not in self._masters and len(self._masters) >= _MOST_MASTERS:
            del self._masters[min(self._masters, key=lambda name: max(self._masters[name].at, default=0.0))]
        master = self._masters.setdefault(asked.master.name, _fresh())
        master.bridge = asked.bridge.name
        is_refused = asked.pdu is not None and bool(asked.pdu[0] & 0x80)
        is_failed = is_refused and asked.pdu is not None and asked.pdu[1] in _OF_BRIDGE
        for seen in (route, master):
            seen.asked += 1
            seen.at.append(now_s)
            seen.failed += is_failed
            seen.refused += is_refused
            if asked.gave_up:
                seen.gave_up.append(asked.took_s)
            elif not is_failed:
                seen.took.append(asked.took_s)
        route.latest = Latest(asked.master.name, asked.request, asked.pdu)

    def state(self, bridging: Bridging, now_s: float) -> BridgeState:
        routes = [
            self._route(bridging, bridge.name, unit, target, route.access.value == "write", now_s)
            for bridge in bridging.bridges
            for route in bridge.routes
            for unit, target in zip(route.units, route.targets, strict=True)
        ]
        masters = [
            MasterSeen(
                name, seen.bridge, seen.asked, _per_s(seen, now_s), max(seen.took, default=0.0),
                median(seen.gave_up) if seen.gave_up else None, seen.refused, max(seen.at, default=0.0),
            )
            for name, seen in self._masters.items() if now_s - max(seen.at, default=0.0) < _NOW_S
        ]  # fmt: skip
        places = tuple((bridge.name, str(link)) for bridge, link in bridging.places)
        passes = tuple(_pass(one_pass, state, now_s) for one_pass in bridging.passes for state in one_pass.states)
        return BridgeState(tuple(routes), tuple(sorted(masters, key=lambda one: -one.last_at)), passes, places)

    def _route(
        self, bridging: Bridging, bridge: str, unit: int, target: BridgeTarget, is_written: bool, now_s: float
    ) -> RouteState:
        seen = self._routes.get((bridge, unit)) or _fresh()
        way = bridging.ways_out.get(target.line)
        return RouteState(
            bridge, unit, target, is_written, seen.asked, seen.failed, _per_s(seen, now_s),
            len(way.turns) if way is not None else 0, median(seen.took) if seen.took else None,
            max(seen.took, default=None), way is not None and target.unit_id in way.silent,
            way.why_down if way is not None else "there is no such line", seen.latest,
        )  # fmt: skip


def _pass(passes: Passes, state: PassState, now_s: float) -> PassSeen:
    reading = passes.source_of(state, now_s)
    return PassSeen(
        passes.bridge, state.pass_, reading.value if reading is not None else None,
        reading.age_s if reading is not None else None, reading is not None and reading.quality is Quality.GOOD,
        state.value, now_s - state.written_at if state.written_at is not None else None, state.written, state.trouble,
        passes.why_not(state), state.is_stopped,
    )  # fmt: skip


def _per_s(seen: _Seen, now_s: float) -> float:
    recent = [at for at in seen.at if now_s - at < _WITHIN_S]
    if len(recent) < 2:
        return len(recent) / _WITHIN_S
    return (len(recent) - 1) / max(recent[-1] - recent[0], 0.001) if len(recent) == _KEPT else len(recent) / _WITHIN_S
