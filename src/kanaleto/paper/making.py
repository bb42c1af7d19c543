"""Makes sheets of curves, values, and maps."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from math import isfinite

import numpy as np

from kanaleto.board.board import Quality
from kanaleto.board.crossing import rules_of
from kanaleto.board.snapshot import Snapshot
from kanaleto.events.log import length_text
from kanaleto.files.origins import origin_of
from kanaleto.history.curves import STALE, Thinned, TrendCurve, figures, thinned
from kanaleto.paper.look import zone_words
from kanaleto.paper.sheets import PaperColumn, PaperCurve, TableSheet, TrendSheet
from kanaleto.planning.plan import AnyPlace, DerivedPlace, Identity
from kanaleto.site.counting import from_wire
from kanaleto.site.model import Device, Line, Point
from kanaleto.site.origin import Origin
from kanaleto.tables.maps import point_cells
from kanaleto.values.codec import Codec, NoValue
from kanaleto.values.text import shown

COLUMNS = 1600
_MOST_STATES = 400
_LARGEST = 1e150  # what is beyond cannot be drawn to scale
LETTERS = "abcdefghijklmnop"


def trend_sheet(
    site_name: str, places: Sequence[AnyPlace], curves: Mapping[Identity, TrendCurve], begin: float, end: float,
    scale: str, notes: Sequence[str] = (), mark: float | None = None, cursor: float | None = None,
) -> TrendSheet:  # fmt: skip
    """`scale` is one, several or percent."""
    paper_curves = []
    for letter, place in zip(LETTERS, places, strict=False):
        curve = curves[place.identity]
        paper_curves.append(_paper_curve(letter, place, curve, begin, end))
    count = len(paper_curves)
    about = f"{count} point{'s' if count != 1 else ''}"
    return TrendSheet(
        f"{site_name}: trend", about, begin, end, scale, paper_curves, mark, cursor, [*notes, *_origins(places)]
    )


def _paper_curve(letter: str, place: AnyPlace, curve: TrendCurve, begin: float, end: float) -> PaperCurve:
    thin = thinned(curve, begin, end, COLUMNS)
    edges = np.linspace(begin, end, COLUMNS + 1)[1:]
    point = place.point
    limits = [
        (f"{rule.word} {rule.words(point)}", rule.bound, rule.word == "alarm")
        for rule in rules_of(point.limits)
        if not rule.states
    ]
    states = _states(place, thin, begin, end) if point.is_state else None
    return PaperCurve(
        letter, " · ".join(part for part in place.identity if part), point.unit, edges.tolist(), _plain(thin.low),
        _plain(thin.high), _plain(thin.last), (thin.quality == STALE).tolist(), limits, states,
        point.limits.range_low, point.limits.range_high, _figures(place, curve, begin, end),
        edges[thin.is_new].tolist(),
    )  # fmt: skip


def _plain(column: "np.ndarray[tuple[int], np.dtype[np.float64]]") -> list[float | None]:
    return [max(-_LARGEST, min(number, _LARGEST)) if isfinite(number) else None for number in column.tolist()]


def _states(place: AnyPlace, thin: Thinned, begin: float, end: float) -> list[tuple[float, float, str]]:
    width = (end - begin) / COLUMNS
    runs: list[tuple[float, float, str]] = []
    for number, value in enumerate(thin.last.tolist()):
        at = begin + number * width
        text = "" if not isfinite(value) else _text(place, value)
        if runs and runs[-1][2] == text:
            runs[-1] = (runs[-1][0], at + width, text)
        else:
            runs.append((at, at + width, text))
    return [run for run in runs if run[2]][:_MOST_STATES]


def _text(place: AnyPlace, number: float) -> str:
    point = place.point
    if not isfinite(number):
        return "—"
    is_whole = number == int(number) and not point.codec.type.is_float and not isinstance(place, DerivedPlace)
    return shown(int(number) if is_whole else number, point.codec, point.decimals, point.labels)


def _figures(place: AnyPlace, curve: TrendCurve, begin: float, end: float) -> str:
    found = figures(curve, begin, end)
    if found is None:
        return "nothing was read in this time"
    gaps = f"{found.gaps} gaps, {length_text(found.gap_s)} in all" if found.gaps else "no gaps"
    if place.point.is_state:
        return f"{found.changes} changes · {gaps}"
    least, most, mean = (_text(place, value) for value in (found.least, found.most, found.mean))
    return f"least {least} · most {most} · mean {mean} · {gaps}"


def values_sheet(snapshot: Snapshot, places: Sequence[AnyPlace], at: float) -> TableSheet:
    """Current values, by device."""
    columns = [
        PaperColumn(name, name in ("value", "age"))
        for name in ("point", "value", "unit", "words", "quality", "limits", "age")
    ]
    rows: list[list[str]] = []
    marked: list[int] = []
    last: str | None = None
    for place in places:
        if place.identity[0] != last:
            last = place.identity[0]
            rows.append([_device_words(place)])
        reading, point = snapshot.reading(place), place.point
        value = reading.value
        text = (
            "—"
            if value is None or isinstance(value, NoValue)
            else shown(value, point.codec, point.decimals, point.labels)
        )
        words = (
            reading.data.hex(" ", 2).upper()
            if not point.table.is_bits
            else (str(reading.data[0]) if reading.data else "")
        )
        quality = reading.quality.value if not reading.reason else f"{reading.quality.value}: {reading.reason}"
        rules = [rule.word + " " + rule.words(point) for rule in rules_of(point.limits)]
        is_past = any(crossing.identity == place.identity for crossing in snapshot.past)
        if is_past or reading.quality is not Quality.GOOD:
            marked.append(len(rows))
        age = f"{reading.age_s:.1f} s" if reading.age_s is not None else "never"
        rows.append([point.name, text, point.unit, words, quality, "; ".join(rules), age])
    return TableSheet(
        f"{snapshot.site.name}: values", f"{len(places)} points · {_moment(at)}", columns, rows, marked,
        ["Bold: past a limit, or not good.", *_origins(places)],
    )  # fmt: skip


def _origins(places: Sequence[AnyPlace]) -> list[str]:
    """Which lines are not answered by real devices now, for the foot."""
    lines = {place.line.name: place.line for place in places if not isinstance(place, DerivedPlace)}
    texts = [
        f"{name} ({origin.value})" for name, line in lines.items() if (origin := origin_of(line)) is not Origin.REAL
    ]
    return [f"Not answered by real devices: {', '.join(texts)}."] if texts else []


def _device_words(place: AnyPlace) -> str:
    if isinstance(place, DerivedPlace):
        return "derived from points of this site"
    return f"{place.device.name} · unit {place.device.unit_id} · {place.line.name}, {_link_words(place.line)}"


def _link_words(line: Line) -> str:
    return line.link.setup


def _moment(at: float) -> str:
    return f"{datetime.fromtimestamp(at):%Y-%m-%d %H:%M:%S} {zone_words(at)}"


def comparison_sheet(
    site_name: str, text: str, headings: Sequence[str], rows: Sequence[Sequence[str]], marked: Sequence[int], at: float
) -> TableSheet:
    """What is side by side; the first heading is of the names."""
    columns = [PaperColumn(heading, number > 0) for number, heading in enumerate(headings)]
    return TableSheet(
        f"{site_name}: comparison", f"{text} · {_moment(at)}", columns, [list(row) for row in rows], list(marked),
        ["Bold: differs (≠)."],
    )  # fmt: skip


_HEADINGS = {
    "table": "table", "address": "address", "type": "type", "order": "order", "bit": "bit", "unit": "unit",
    "period_s": "period s", "access": "access",
}  # fmt: skip


def map_sheet(site_name: str, line: Line, device: Device, at: float) -> TableSheet:
    """The register map of a device: addresses as its manual counts and as the wire does."""
    cells = [point_cells(device, point) for point in device.points]
    used = [key for key in _HEADINGS if any(cell.get(key) for cell in cells)]
    columns = [PaperColumn("name"), *(PaperColumn(_HEADINGS[key]) for key in used if key not in ("address",))]
    columns[2:2] = [PaperColumn("address", True), PaperColumn("wire", True)]
    columns += [
        PaperColumn("scale"),
        PaperColumn("range"),
        PaperColumn("limits"),
        PaperColumn("states"),
        PaperColumn("note"),
    ]
    rows = []
    for point, row_cells in zip(device.points, cells, strict=True):
        row = [point.name, *(row_cells.get(key, "") for key in used if key != "address")]
        row[2:2] = [from_wire(point.address, point.table, device.numbering), f"0x{point.address:04X}"]
        rules = "; ".join(f"{rule.word} {rule.words(point)}" for rule in rules_of(point.limits))
        labels = "; ".join(f"{number} = {label}" for number, label in point.labels.items())
        rows.append([*row, _scale_words(point.codec), _range(point), rules, labels, point.note])
    empty = [at for at, _ in enumerate(columns) if at > 3 and not any(row[at] for row in rows)]
    columns = [column for at, column in enumerate(columns) if at not in empty]
    rows = [[cell for at, cell in enumerate(row) if at not in empty] for row in rows]
    counting = device.numbering if isinstance(device.numbering, str) else getattr(device.numbering, "value", "its own")
    about = f"unit {device.unit_id} on {line.name}, {_link_words(line)} · {len(rows)} points · addresses: {counting}"
    notes = [f"{_moment(at)}", *([device.note] if device.note else [])]
    return TableSheet(f"{site_name}: {device.name}, register map", about, columns, rows, [], notes)


def _scale_words(codec: Codec) -> str:
    scale = codec.scale
    if scale is None:
        return ""
    offset = f" {scale.offset:+.9g}" if scale.offset else ""
    return f"× {scale.factor:.9g}{offset}"


def _range(point: Point) -> str:
    limits = point.limits
    if limits.range_low is None and limits.range_high is None:
        return ""
    low, high = (f"{number:g}" if number is not None else "" for number in (limits.range_low, limits.range_high))
    return f"{low} … {high}"
