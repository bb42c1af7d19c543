"""The trend of the pinned points over the last minute, each on its own scale: their names, and what of them is
drawn."""

from collections.abc import Sequence

from textual.strip import Strip

from kanaleto.planning.plan import AnyPlace, Place
from kanaleto.polling.snapshot import Snapshot
from kanaleto.polling.trace import TRACE_EVERY_S
from kanaleto.tui.live.rows import numbers_of
from kanaleto.tui.shared.cells import Cells
from kanaleto.tui.shared.pane import Drawn
from kanaleto.values.text import shown

MOST_PINS = 5
TONES = ["verdigris", "ochre", "sky", "violet", "terracotta"]
SPAN_S = 60.0


class TrendHead(Drawn):
    """Names of the pinned points in their colours, with the ends of their scales."""

    DEFAULT_CSS = "TrendHead { height: 1; }"
    pinned: Sequence[AnyPlace] = ()

    def draw_line(self, y: int) -> Strip:
        cells = Cells(self.palette).put(" PINNED ", "muted", bold=True)
        each = max((self.size.width - 22) // max(len(self.pinned), 1), 12)
        for tone, place in zip(TONES, self.pinned, strict=False):
            ends = trend_ends(self.snapshot, place)
            name = " · ".join(part for part in place.identity if part)
            scale = f"  {ends}" if ends and len(name) + len(ends) + 7 <= each else ""
            cells.put(" ── ", tone, bold=True).put(f"{name}{scale}", tone, each - 5)
        return cells.at(self.size.width - 13).put("last minute", "muted").strip(self.size.width)


def longest_step_s(snapshot: Snapshot, place: AnyPlace) -> float:
    """From one sample to the next; after a longer one nothing was read, and nothing is drawn."""
    after_s = snapshot.board.stale_after_s(place) if isinstance(place, Place) else SPAN_S
    return max(after_s, 3 * TRACE_EVERY_S)


def pieces(times: Sequence[float], longest_s: float) -> list[tuple[int, int]]:
    """Begin and end of each run of samples without a gap."""
    cuts = [at for at in range(1, len(times)) if times[at] - times[at - 1] > longest_s]
    return list(zip([0, *cuts], [*cuts, len(times)], strict=True))


def series(snapshot: Snapshot, place: AnyPlace) -> tuple[list[float], list[float]]:
    numbers = [(at_s - snapshot.now_s, value) for at_s, value in numbers_of(snapshot, place)]
    recent = [(age_s, value) for age_s, value in numbers if age_s >= -SPAN_S]
    return [age_s for age_s, _ in recent], [value for _, value in recent]


def trend_ends(snapshot: Snapshot, place: AnyPlace) -> str:
    """The lowest and highest of what the trend shows, in the point's own decimals."""
    _, values = series(snapshot, place)
    if not values:
        return ""
    low, high = (shown(value, place.point.codec, place.point.decimals) for value in (min(values), max(values)))
    return f"{low} … {high} {place.point.unit}".strip()
