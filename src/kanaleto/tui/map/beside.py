"""Beside the ruler: the point from its words to its value, other readings of the same words, one address up and down,
the last minute."""

from collections.abc import Sequence

from msgspec import Struct

from kanaleto.analysis.readings import samples_of, window
from kanaleto.board.board import Quality
from kanaleto.planning.plan import Identity, Place
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import DEMAND
from kanaleto.tui.live.detail import chain_rows
from kanaleto.tui.shared.cells import cut
from kanaleto.tui.shared.pane import Panel, Row
from kanaleto.tui.shared.readings import is_guess, spark_of
from kanaleto.tui.shared.words import moment_text, wrapped
from kanaleto.values.candidates import PRESENT, Candidate
from kanaleto.values.codec import Value
from kanaleto.values.scale import Scale
from kanaleto.values.text import shown

_MOST_READINGS = 9
_BAR = 6
_SPARK_WIDTH = 40
_VALUE_WIDTH = 14


class Ranked(Struct, frozen=True):
    """Other readings of a point's words: each with how far its address lies from the point's. `key` is the point and
    its address, `display` what the device shows."""

    key: tuple[Identity, int] | None = None
    display: str = ""
    found: Sequence[tuple[int, Candidate]] = ()
    verdict: str = ""


class PointBeside(Panel):
    DEFAULT_CSS = "PointBeside { width: 46; height: 100%; background: $panel; }"

    def __init__(self) -> None:
        super().__init__()
        self.place: Place | None = None
        self.ranked = Ranked()
        self.neighbours: list[tuple[int, str]] = []
        self.neighbours_s = 0.0
        """When they were read, by wall time: they are not read again by themselves."""
        self.chosen = 0

    def redraw_key(self) -> object:
        place, snapshot = self.place, self.snapshot
        if place is None:
            return ()
        now = snapshot.version, int(snapshot.now_s), place.identity, snapshot.state_of(place)
        return *now, self.ranked, self.neighbours, self.chosen

    def take(self, ranked: Ranked) -> None:
        """Readings ranked again: what is marked stays marked, wherever it stands now."""
        marked = self._marked()
        same = ranked.key == self.ranked.key and ranked.display == self.ranked.display
        self.ranked = ranked
        at = [(step, one.title) for step, one in ranked.found[:_MOST_READINGS]]
        self.chosen = at.index(marked) if same and marked in at else 0
        self.refresh()

    def _marked(self) -> tuple[int, str] | None:
        if self.chosen >= len(self.ranked.found):
            return None
        step, candidate = self.ranked.found[self.chosen]
        return step, candidate.title

    def text_rows(self) -> list[Row]:
        place = self.place
        if place is None:
            return []
        point, device = place.point, place.device
        reading = self.snapshot.reading(place)
        words = f"{point.size} {'bit' if point.table.is_bits else 'word'}{'s' if point.size > 1 else ''}"
        wire = from_wire(point.address, point.table, Numbering.PROTOCOL)
        rows: list[Row] = [
            [(point.name, "ink!")],
            [
                (f"{words} at {from_wire(point.address, point.table, device.numbering)}", "muted"),
                (f" · wire {wire} (0x{point.address:04X})", "dim"),
            ],
            [],
            *chain_rows(place, reading),
        ]
        if reading.quality is not Quality.GOOD and reading.reason:
            rows += [[(part, "terracotta")] for part in wrapped(f"{reading.quality.value}: {reading.reason}", 40)]
        rows += [[], *self._settings(place)]
        rows += self._other_readings()
        if self.neighbours:
            rows += [[], [("OFF BY ONE?", "muted!"), (f"  read at {moment_text(self.neighbours_s)}", "dim")]]
            for step, text in self.neighbours:
                where = from_wire(point.address + step, point.table, device.numbering)
                rows.append(
                    [(f"{where:>8}  ", "ink" if step == 0 else "muted"), (text, "verdigris" if step == 0 else "ink")]
                )
            rows.append([("Z", "ochre!"), (" moves the point there", "muted")])
        spark = spark_of(self.snapshot, place, _SPARK_WIDTH)
        if spark.strip():
            rows += [[], [("LAST 60 s", "muted!")], [(spark, "verdigris")]]
        if point.sure is not None:
            drafted = (
                f"drafted, {100 * point.sure:.0f} % sure of how it is read" if point.sure else "drafted; type not known"
            )
            rows += [[], [(drafted, "ochre" if is_guess(point) else "muted")]]
        if point.note:
            rows += [[], *([(part, "ink")] for part in wrapped(point.note, 40))]
        return rows

    def _settings(self, place: Place) -> list[Row]:
        """What the point inherits, and from where."""
        point, device = place.point, place.device
        period = (
            "on demand"
            if point.period_s == DEMAND
            else "without a pause"
            if point.period_s == 0
            else f"{point.period_s:g} s"
        )
        whose = f" from {device.name}" if point.period_s == device.period_s else ", its own"
        rows: list[Row] = [[("period  ", "muted"), (period, "ink"), (whose, "dim")]]
        if point.codec.type.is_wide:
            is_own = device.order is None or point.codec.order is not device.order
            rows.append(
                [
                    ("order   ", "muted"),
                    (point.codec.order.value, "ink"),
                    (", its own" if is_own else f" from {device.name}", "dim"),
                ]
            )
        if place.block is not None:
            request = place.block.request
            count = from_wire(request.address, request.table, device.numbering)
            rows.append(
                [
                    ("read    ", "muted"),
                    (f"{request.count} from {count}", "ink"),
                    (f", {1000 * place.block.cost_s:.1f} ms", "dim"),
                ]
            )
        return rows

    def _now(self, place: Place, step: int, candidate: Candidate) -> Value | None:
        """That reading of the words that are shown now, not of those that were ranked."""
        newest = samples_of(self.snapshot.board, place)[-1:]
        words = window(newest, place.point.address + step, candidate.codec.registers)
        return candidate.codec.decode(words[0]) if words else None

    def _other_readings(self) -> list[Row]:
        readings, place = self.ranked, self.place
        if place is None or readings.key != (place.identity, place.point.address) or not readings.found:
            return []
        rows: list[Row] = [[], [("OTHER READINGS OF THESE WORDS", "muted!")]]
        if readings.display:
            rows.append([("The display on the device says ", "muted"), (readings.display, "ink!")])
        if readings.verdict:
            tone = "verdigris" if "agree" in readings.verdict else "ochre"
            rows += [[(part, tone)] for part in wrapped(readings.verdict, 42)]
        for number, (step, candidate) in enumerate(readings.found[:_MOST_READINGS]):
            now = self._now(place, step, candidate)
            value = shown(now, candidate.codec, None, {}) if isinstance(now, int | float) else "—"
            if len(value) > _VALUE_WIDTH and isinstance(now, int | float):
                value = f"{now:.7g}"  # whole, with fewer digits
            title = candidate.title + (f" {step:+d}" if step else "")
            scale = candidate.codec.scale
            factor = f" ×{scale.factor:g}" if isinstance(scale, Scale) else " scaled" if scale is not None else ""
            factor += " now" if candidate.text == PRESENT else ""
            tone = "ink" if candidate.fit > 0.3 else "dim"
            bar = "█" * round(candidate.fit * _BAR)
            mark = "›" if number == self.chosen else " "
            rows.append(
                [
                    (mark, "ochre!"),
                    (f"{title + factor:<20}", tone),
                    (f"{cut(value, _VALUE_WIDTH):>{_VALUE_WIDTH}} ", tone),
                    (bar, "verdigris" if candidate.fit > 0.6 else "ochre"),
                ]
            )
        return rows
