"""One point opened: its value large, its figures since a key press, its limits in words, from its words as they came to
its value, and what brought it."""

from kanaleto.board.board import Quality, Reading
from kanaleto.board.crossing import Level, rules_of
from kanaleto.history.figures import Figures
from kanaleto.planning.plan import AnyPlace, DerivedPlace, Place
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import DEMAND, Point
from kanaleto.tui.shared.digits import large
from kanaleto.tui.shared.figures import figure_rows
from kanaleto.tui.shared.pane import Panel, Row
from kanaleto.tui.shared.past import LEVEL_SHAPES, LEVEL_TONES
from kanaleto.tui.shared.readings import is_guess, value_tone
from kanaleto.tui.shared.words import age_text, clock_text, wrapped
from kanaleto.values.codec import NoValue
from kanaleto.values.scale import AnyScale, Bounded, Curve
from kanaleto.values.text import shown
from kanaleto.values.types import Kind, byte_places

_WIDTH = 44


class PointDetail(Panel):
    """Beside the list, never on top of it. `figures` are those since `since` (wall)."""

    DEFAULT_CSS = f"PointDetail {{ width: {_WIDTH}; height: 100%; background: $panel; display: none; }}"
    place: AnyPlace | None = None
    figures: Figures | None = None
    since: float | None = None

    def text_rows(self) -> list[Row]:
        place = self.place
        if place is None:
            return []
        reading = self.snapshot.reading(place)
        point = place.point
        rows: list[Row] = [[(point.name, "ink!")], [(_whose(place), "muted")], []]
        rows += _value_rows(place, reading)
        rows += self._limit_rows(place, reading)
        rows += self._figure_rows(place)
        if isinstance(place, DerivedPlace):
            return [*rows, [], *_derived_rows(place, reading)]
        rows += [[], [("FROM THE WIRE TO THE VALUE", "muted!")], *chain_rows(place, reading), []]
        rows += self._fetched_rows(place, reading)
        rows += [[], *([(text, "ink")] for text in wrapped(point.note, _WIDTH - 4))] if point.note else []
        return rows

    def _limit_rows(self, place: AnyPlace, reading: Reading) -> list[Row]:
        point = place.point
        rows: list[Row] = []
        past = {crossing.identity: crossing for crossing in self.snapshot.past}
        for rule in rules_of(point.limits):
            value = reading.value
            if rule.level is Level.RANGE:
                continue
            is_past = isinstance(value, int | float) and rule.is_past(value, False, 0.0, point)
            mark, tone = (LEVEL_SHAPES[rule.level], LEVEL_TONES[rule.level]) if is_past else (" ", "muted")
            rows.append([(f"{mark} {rule.word} {rule.words(point)}", tone)])
        if point.limits.range_low is not None or point.limits.range_high is not None:
            rows.append([(f"  range {_range_words(point)}", "muted")])
        since = past.get(place.identity)
        if since is not None:
            rows.append([(f"  past since {clock_text(since.wall_s)[:8]}", "ink"),
                         ("" if since.seen is not None else ", not seen yet", "ochre")])  # fmt: skip
        limits = point.limits
        manner = [f"back by {limits.hysteresis:g}"] if limits.hysteresis else []
        manner += [f"after {limits.delay_s:g} s"] if limits.delay_s else []
        if rows and manner:
            rows.append([(f"  {', '.join(manner)}", "dim")])
        return [*rows, []] if rows else []

    def _figure_rows(self, place: AnyPlace) -> list[Row]:
        if self.figures is None or self.since is None:
            return []
        head: Row = [(f"SINCE {clock_text(self.since)[:8]}", "muted!"), ("   z from now on", "dim")]
        return [head, *figure_rows(place, self.figures)]

    def _fetched_rows(self, place: Place, reading: Reading) -> list[Row]:
        point = place.point
        manual = from_wire(point.address, point.table, place.device.numbering)
        wire = from_wire(point.address, point.table, Numbering.PROTOCOL)
        rows: list[Row] = [
            [("in the manual  ", "muted"), (manual, "ink")],
            [("on the wire    ", "muted"), (wire, "ink"), (f"  0x{point.address:04X}", "dim")],
            [("function       ", "muted"), (f"0x{point.table.read_function:02X}", "ink"), (_fetched(place), "dim")],
            [("read           ", "muted"), (_read_ago(reading), "ink")],
            [("period asked   ", "muted"), (_period(point.period_s), "ink")],
        ]
        if place.block is not None and reading.wall_s is not None and point.period_s != DEMAND:
            rows[-1].append((f"  reached {self.snapshot.board.cycles_s[place.block.index]:.2f} s", "dim"))
        return rows


def _range_words(point: Point) -> str:
    low, high = (
        f"{number:g}" if number is not None else "" for number in (point.limits.range_low, point.limits.range_high)
    )
    return f"{low} … {high} {point.unit}".strip()


def _whose(place: AnyPlace) -> str:
    if isinstance(place, DerivedPlace):
        return "derived from points of this site"
    return f"{place.device.name} · unit {place.device.unit_id} · {place.line.name} · {place.point.table.title}"


def _read_ago(reading: Reading) -> str:
    at = f", {clock_text(reading.wall_s)}" if reading.wall_s is not None else ""
    return f"{age_text(reading.age_s)} ago{at}" if reading.age_s is not None else "never"


def _value_rows(place: AnyPlace, reading: Reading) -> list[Row]:
    """Large where it is a number, and why it is not good."""
    point = place.point
    tone = value_tone(point, reading)
    text = _plain(point, reading)
    digits = large(text, _WIDTH - 5) if isinstance(reading.value, int | float) else None
    rows: list[Row]
    if digits is not None:
        rows = [[(row, tone)] for row in digits]
        rows[-1].append((f" {point.unit}", "muted"))
    else:
        rows = [[(part, f"{tone}!")] for part in wrapped(f"{text} {point.unit}".strip(), _WIDTH - 4)]
    if is_guess(point) and point.sure is not None:
        sure = f"{100 * point.sure:.0f} % sure of how it is read" if point.sure else "how it is read is not known"
        rows.append([(f"? drafted by a search, {sure}: b in Map lists readings", "ochre")])
    if reading.quality is not Quality.GOOD:
        why = f"{reading.quality.value}: {reading.reason}" if reading.reason else reading.quality.value
        rows += [[(part, "ochre")] for part in wrapped(why, _WIDTH - 4)]
    return [*rows, []]


def _plain(point: Point, reading: Reading) -> str:
    value = reading.value
    if value is None or isinstance(value, NoValue):
        return "—"
    return shown(value, point.codec, point.decimals, point.labels)


def _derived_rows(place: DerivedPlace, reading: Reading) -> list[Row]:
    """A derived point: its formula, and what it gives."""
    rows: list[Row] = [[("FORMULA", "muted!")]]
    rows += [[(part, "sky")] for part in wrapped(place.derived.formula, _WIDTH - 4)]
    rows.append([("= ", "muted"), (f"{_plain(place.point, reading)} {place.point.unit}".strip(), "verdigris!")])
    return rows


def chain_rows(place: Place, reading: Reading) -> list[Row]:
    """From the words as they came to the value, a step a row."""
    point, codec, data = place.point, place.point.codec, reading.data
    if not data:
        return [[("nothing has come yet", "dim")]]
    value = reading.value
    text = (
        value.reason
        if isinstance(value, NoValue)
        else shown(value, codec, point.decimals, point.labels)
        if value is not None
        else "—"
    )
    result: Row = [("= ", "muted"), (f"{text} {point.unit}".strip(), "verdigris!")]
    if point.table.is_bits:
        return [[(f"{data[0]}", "sky!"), ("  as it came", "muted")], result]
    rows: list[Row] = [[(data.hex(" ", 2).upper(), "sky!"), ("  as it came", "muted")]]
    if codec.registers > 1 or codec.order.swaps_bytes:
        ordered = bytes(data[at] for at in byte_places(codec.type, codec.order))
        rows.append([(ordered.hex(" ", 2).upper(), "sky"), (f"  in order, from {codec.order.value}", "muted")])
    rows.append([("as ", "muted"), (str(codec.type), "ink")])
    if codec.bits is not None:
        low, high = codec.bits
        rows.append(
            [("bit " if low == high else "bits ", "muted"), (str(low) if low == high else f"{low}–{high}", "ink")]
        )
    if codec.type.kind is Kind.BITS:
        rows.append([(f"{int.from_bytes(data):016b}", "sky")])
    if codec.scale is not None:
        rows.append(
            [("× ", "muted"), (f"{codec.scale.factor:g}", "ink"), ("  + ", "muted"), (f"{codec.scale.offset:g}", "ink")]
        )
        rows.append([(_two_points(codec.scale), "dim")])
    return [*rows, result]


def _two_points(scale: AnyScale) -> str:
    """The same scale as two points on a line, or its table."""
    if isinstance(scale, Bounded):
        ends = "4–20 mA, " if scale.zero_ma is not None else ""
        return f"{ends}{'clamped to' if scale.clamps else 'between'} {scale.low:g} … {scale.high:g}"
    if isinstance(scale, Curve):
        return (
            "table: "
            + ", ".join(f"{raw:g} is {value:g}" for raw, value in list(zip(scale.raws, scale.values, strict=True))[:3])
            + " …"
        )
    return f"that is 0 → {scale.to_value(0):g}, 10 000 → {scale.to_value(10000):g}"


def _fetched(place: Place) -> str:
    if place.block is None:
        return "  not polled"
    request = place.block.request
    return f"  with {request.count} from {request.address}"


def _period(period_s: float) -> str:
    return "only when asked" if period_s == DEMAND else "without a pause" if period_s == 0 else f"{period_s:g} s"
