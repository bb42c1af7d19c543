"""A device's map as CSV, as a workbook, as JSON; everything that its points say, addresses as the map counts them."""

import csv
import json
from io import BytesIO, StringIO

from kanaleto.files.harmless import guarded
from kanaleto.files.mapcolumns import COLUMNS
from kanaleto.site.counting import from_wire
from kanaleto.site.model import DEMAND, LIMIT_MANNERS, LIMIT_STATES, LIMITS, Device, Point, Writing
from kanaleto.site.proving import prove_text, tolerance_text
from kanaleto.values.scale import Bounded, Curve, Scale

_TEXTS = ("name", "note", "unit", "labels", "bit", "curve", "no_value")


def point_cells(device: Device, point: Point) -> dict[str, str]:
    """The cells of a point's row; those that are as the device has them are left out."""
    codec = point.codec
    cells = {
        "name": point.name,
        "table": point.table.value,
        "address": from_wire(point.address, point.table, device.numbering),
        "type": "" if point.table.is_bits else str(codec.type),
        "order": codec.order.value if codec.type.is_wide or codec.order.swaps_bytes else "",
        "unit": point.unit,
        "decimals": "" if point.decimals is None else str(point.decimals),
        "period_s": ""
        if point.period_s == device.period_s
        else "demand"
        if point.period_s == DEMAND
        else f"{point.period_s:g}",
        "access": point.access.value if point.access.value != "r" else "",
        "labels": ";".join(f"{number}={label}" for number, label in point.labels.items()),
        "bit": ""
        if codec.bits is None
        else str(codec.bits[0])
        if codec.bits[0] == codec.bits[1]
        else f"{codec.bits[0]}-{codec.bits[1]}",
        "group": point.group,
        "exponent": point.exponent,
        "role": point.writing.role.value if point.writing.role is not None else "",
        "feedback": point.writing.feedback,
        "write": {Writing.CONFIRM: "confirm", Writing.NEVER: "never"}.get(point.writing.how, ""),
        "repeat": "yes" if point.writing.may_repeat else "",
        "prove": prove_text(point.proving) if prove_text(point.proving) != "once" else "",
        "tolerance": tolerance_text(point.proving),
        "deadband": f"{point.deadband:.12g}" if point.deadband else "",
        "setting": point.setting.value if point.setting is not None else "",
        "no_value": ";".join(
            f"{number:g}" if isinstance(number, float) else str(number) for number in sorted(codec.no_values)
        ),
        "initial": "" if point.initial is None else str(point.initial),
        "words": words_cell(point.words, point.table.is_bits),
        "note": point.note,
    }
    limits = point.limits
    for name in LIMITS:
        number = getattr(limits, name)
        cells[name] = "" if number is None else f"{number:.12g}"
    for name in LIMIT_MANNERS:
        cells[name] = f"{getattr(limits, name):.12g}" if getattr(limits, name) else ""
    for name in LIMIT_STATES:
        cells[name] = ";".join(point.labels.get(state) or str(state) for state in getattr(limits, name))
    return {key: value for key, value in {**cells, **_scale_cells(codec.scale)}.items() if value}


def words_cell(words: bytes | None, is_bit: bool) -> str:
    """As a map says them."""
    if words is None:
        return ""
    return str(words[0]) if is_bit else f"0x{words.hex(' ', 2).upper()}"


def _scale_cells(scale: Scale | Curve | Bounded | None) -> dict[str, str]:
    if scale is None:
        return {}
    if isinstance(scale, Bounded):
        cells = _scale_cells(scale.inner) | ({"clamp": "yes"} if scale.clamps else {})
        inner = scale.inner
        if isinstance(inner, Curve) or scale.zero_ma is None or scale.full_ma is None:
            return (
                cells
                if isinstance(inner, Curve)
                else _two_points(inner, scale) | ({"clamp": "yes"} if scale.clamps else {})
            )
        ends = {"raw_low": scale.zero_ma, "raw_high": scale.full_ma}
        values = {"eng_low": inner.to_value(scale.zero_ma), "eng_high": inner.to_value(scale.full_ma)}
        cells = {key: f"{number:.12g}" for key, number in {**ends, **values}.items()}
        return cells | {"signal": "4-20mA"} | ({"clamp": "yes"} if scale.clamps else {})
    if isinstance(scale, Curve):
        return {
            "curve": ";".join(f"{raw:.12g}={value:.12g}" for raw, value in zip(scale.raws, scale.values, strict=True))
        }
    return {"factor": f"{scale.factor:.12g}", "offset": f"{scale.offset:.12g}" if scale.offset else ""}


def _two_points(inner: Scale | Curve, bounded: Bounded) -> dict[str, str]:
    """Ends for clamping: raw numbers that give the engineering ends."""
    raws = {"raw_low": float(inner.to_raw(bounded.low)), "raw_high": float(inner.to_raw(bounded.high))}
    return {key: f"{number:.12g}" for key, number in {**raws, "eng_low": bounded.low, "eng_high": bounded.high}.items()}


def _table(device: Device) -> tuple[list[str], list[dict[str, str]]]:
    rows = [point_cells(device, point) for point in device.points]
    used = [
        column for column in COLUMNS if column in ("name", "table", "address") or any(column in row for row in rows)
    ]
    return used, rows


def as_csv(device: Device) -> str:
    columns, rows = _table(device)
    out = StringIO(newline="")
    writer = csv.DictWriter(out, columns, restval="", lineterminator="\n")
    writer.writeheader()
    writer.writerows({key: guarded(cell) for key, cell in row.items()} for row in rows)
    return out.getvalue()


def as_workbook(device: Device) -> bytes:
    """One sheet, headings fixed at the top."""
    import openpyxl  # costs a start that needs none too much
    from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE
    from openpyxl.styles import Font

    columns, rows = _table(device)
    book = openpyxl.Workbook()
    page = book.active
    assert page is not None
    page.title = "".join(character for character in device.name if character not in "[]:*?/\\")[:31] or "Map"
    page.append(columns)
    for number, row in enumerate(rows, 2):
        for at, column in enumerate(columns, 1):
            value = _cell(column, row.get(column, ""))
            cell = page.cell(
                number, at, ILLEGAL_CHARACTERS_RE.sub("\ufffd", value) if isinstance(value, str) else value
            )
            if isinstance(value, str) and value:
                cell.data_type = "s"  # else what begins with = is a formula, and #N/A an error
    for heading in page[1]:
        heading.font = Font(bold=True)
    page.freeze_panes = "A2"
    out = BytesIO()
    book.save(out)
    return out.getvalue()


def _cell(column: str, text: str) -> str | float | int:
    """Numbers as numbers, but for addresses with leading zeros and the like."""
    if column in _TEXTS or (text.startswith("0") and text != "0" and "." not in text):
        return text
    try:
        number = float(text)
    except ValueError:
        return text
    return int(number) if number == int(number) and "." not in text else number


def as_json(device: Device) -> str:
    """An object: the device, and its points with the address on the wire beside the manual's."""
    points = [
        {**point_cells(device, point), "wire_address": point.address, "registers": point.size}
        for point in device.points
    ]
    return (
        json.dumps({"device": device.name, "unit_id": device.unit_id, "points": points}, ensure_ascii=False, indent=1)
        + "\n"
    )


def rows_of_json(text: str) -> list[dict[str, str]] | None:
    """The rows of what `as_json` wrote, addresses as the wire's (0x…); None where it is something else."""
    try:
        document = json.loads(text)
        points = document["points"]
        rows = [{key: str(value) for key, value in point.items() if key in COLUMNS} for point in points]
        for row, point in zip(rows, points, strict=True):
            row["address"] = f"0x{int(point['wire_address']):04X}"
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError):
        return None
    return rows
