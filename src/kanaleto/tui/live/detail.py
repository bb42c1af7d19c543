"""One point opened: from its words as they came to its value, and what is known of it."""

from kanaleto.planning.plan import AnyPlace, DerivedPlace, Place
from kanaleto.polling.board import Reading
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import DEMAND
from kanaleto.tui.shared.pane import Panel, Row
from kanaleto.tui.shared.words import age_text, clock_text, wrapped
from kanaleto.values.codec import NoValue
from kanaleto.values.scale import AnyScale, Bounded, Curve
from kanaleto.values.text import shown
from kanaleto.values.types import Kind, byte_places


class PointDetail(Panel):
    """Beside the list, never on top of it."""

    DEFAULT_CSS = "PointDetail { width: 44; height: 100%; background: $panel; display: none; }"
    place: AnyPlace | None = None

    def text_rows(self) -> list[Row]:
        place = self.place
        if place is None:
            return []
        reading = self.snapshot.reading(place)
        if isinstance(place, DerivedPlace):
            return _derived_rows(place, reading)
        point, device = place.point, place.device
        manual = from_wire(point.address, point.table, device.numbering)
        rows: list[Row] = [
            [(point.name, "ink!")],
            [(f"{device.name} · unit {device.unit_id} · {place.line.name}", "muted")],
            [],
            [("in the manual  ", "muted"), (manual, "ink")],
            [
                ("on the wire    ", "muted"),
                (f"{from_wire(point.address, point.table, Numbering.PROTOCOL)}", "ink"),
                (f"  0x{point.address:04X}", "dim"),
            ],
            [("table          ", "muted"), (point.table.title, "ink")],
            [("function       ", "muted"), (f"0x{point.table.read_function:02X}", "ink"), (_fetched(place), "dim")],
            [],
            [("FROM THE WIRE TO THE VALUE", "muted!")],
            *chain_rows(place, reading),
            [],
            [
                ("quality        ", "muted"),
                (reading.quality.value, "ink"),
                (f"  {reading.reason}" if reading.reason else "", "ochre"),
            ],
            [
                ("read           ", "muted"),
                (f"{age_text(reading.age_s)} ago" if reading.age_s is not None else "never", "ink"),
            ],
        ]
        if reading.wall_s is not None:
            rows.append([("at             ", "muted"), (clock_text(reading.wall_s), "ink")])
        rows.append([("period asked   ", "muted"), (_period(point.period_s), "ink")])
        if place.block is not None and reading.wall_s is not None and point.period_s != DEMAND:
            rows.append(
                [("reached        ", "muted"), (f"{self.snapshot.board.cycles_s[place.block.index]:.2f} s", "ink")]
            )
        rows += [[], *([(text, "ink")] for text in wrapped(point.note, 40))] if point.note else []
        return rows


def _derived_rows(place: DerivedPlace, reading: Reading) -> list[Row]:
    """A derived point: its formula, and what it gives."""
    point = place.point
    text = shown(reading.value, None, point.decimals) if reading.value is not None else "—"
    rows: list[Row] = [[(point.name, "ink!")], [("derived from points of this site", "muted")], []]
    rows += [[(part, "sky")] for part in wrapped(place.own.formula, 40)]
    rows += [[("= ", "muted"), (f"{text} {point.unit}".strip(), "verdigris!")], []]
    rows.append([("quality        ", "muted"), (reading.quality.value, "ink")])
    rows += [[(part, "ochre")] for part in wrapped(reading.reason, 40)]
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
