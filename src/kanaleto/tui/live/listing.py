"""Which rows the list of Live has: in which order, of which kind, what is folded, what the filter leaves."""

from collections.abc import Callable, Mapping, Sequence

from rich.cells import cell_len

from kanaleto.analysis.arranging import Only, SortOrder, chosen, ordered
from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import AnyPlace, DerivedPlace, Identity, Plan
from kanaleto.tui.live.bysite import BySite
from kanaleto.tui.live.rows import DerivedRow, DeviceRow, LiveRow, PointRow

DERIVED = ""

_NO_NAMES = 14
Matches = Callable[[str], bool]
"""Whether a filter leaves a row with that text."""


class Listing:
    """`spread` is how much each point moved lately, as far as somebody looked."""

    def __init__(self) -> None:
        self.order = SortOrder.DEVICE
        self.only = Only.ALL
        self.folded: set[str] = set()
        self.spread: Mapping[Identity, float] = {}
        self.total = self.shown = 0

    @property
    def changes_by_itself(self) -> bool:
        """Whether other points, or others first, are shown as time goes on."""
        return self.only is not Only.ALL or self.order not in (SortOrder.DEVICE, SortOrder.NAME)

    @property
    def needs_spread(self) -> bool:
        return self.only is Only.CHANGED or self.order is SortOrder.MOVES

    @property
    def text(self) -> str:
        parts = [self.order.value] if self.order is not SortOrder.DEVICE else []
        parts += [self.only.value] if self.only is not Only.ALL else []
        if not parts:
            return ""
        return f"{', '.join(parts)}: {self.shown} of {self.total} points"

    def rows(self, snapshot: Snapshot, matches: Matches | None) -> Sequence[LiveRow]:
        plan = snapshot.plan
        if matches is None and self.order is SortOrder.DEVICE and self.only is Only.ALL:
            self.total = self.shown = snapshot.site.point_count + len(plan.derived)
            return BySite(plan, self.folded)
        found: list[AnyPlace] = [place for place in plan.places if matches is None or matches(_text(place))]
        found += [place for place in plan.derived if matches is None or matches(_text(place))]
        self.total = len(found)
        found = ordered(snapshot, chosen(snapshot, found, self.only, self.spread), self.order, self.spread)
        self.shown = len(found)
        if self.order is not SortOrder.DEVICE:
            return [PointRow(place) for place in found]
        return self._by_device(found)

    def _by_device(self, places: list[AnyPlace]) -> list[LiveRow]:
        rows: list[LiveRow] = []
        groups: dict[str, list[AnyPlace]] = {}
        for place in places:
            groups.setdefault(place.identity[0], []).append(place)
        for device, of_device in groups.items():
            hidden = len(of_device) if device in self.folded else 0
            rows += [None] if rows else []
            first = of_device[0]
            rows.append(
                DerivedRow(hidden) if isinstance(first, DerivedPlace) else DeviceRow(first.line, first.device, hidden)
            )
            rows += [] if hidden else [PointRow(place) for place in of_device]
        return rows


def longest_name(plan: Plan) -> int:
    """Of all points, in cells."""
    names = [*(part.by_name for part in plan.parts), [place.derived.name for place in plan.derived]]
    lengths = (max(map(len if "".join(some).isascii() else cell_len, some), default=0) for some in names)
    return max(lengths, default=0) or _NO_NAMES


def _text(place: AnyPlace) -> str:
    if isinstance(place, DerivedPlace):
        return f"derived {place.derived.name} {place.derived.unit}"
    return f"{place.line.name} {place.device.name} {place.point.name} {place.point.unit}"
