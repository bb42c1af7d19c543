"""The report of a site: what is unfinished first, then what it is, how it was proved, and how it communicated."""

import time
from collections.abc import Sequence
from datetime import UTC, datetime

from kanaleto.history.eventtable import how_long
from kanaleto.history.journalfile import JournalEvent
from kanaleto.paper.casedocument import moment
from kanaleto.paper.look import zone_words
from kanaleto.paper.sheets import DocumentSheet, PaperColumn, TableSheet
from kanaleto.paper.siteschemes import link_words, scheme_sheet
from kanaleto.proof.claims import Claim, ClaimState, counts_of, error_of
from kanaleto.proof.reportfacts import DeviceTalk, ReportFacts, left_of
from kanaleto.proof.sheet import SheetLine
from kanaleto.site.counting import Numbering, from_wire
from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.site.origin import Origin
from kanaleto.site.proving import Tolerance, ToleranceOf
from kanaleto.tables.maps import point_cells


def report_document(facts: ReportFacts, trends: Sequence[TableSheet] = ()) -> DocumentSheet:
    site = facts.site
    counts = counts_of(facts.claims)
    text = ", ".join(f"{count} {word}" for word, count in counts.items() if count) or "nothing is to be proved"
    unreal = [f"{name} ({origin})" for name, origin in facts.origins.items() if origin != Origin.REAL.value]
    rehearsed = counts["rehearsed"]
    notes = [f"Not answered by real devices: {', '.join(unreal)}."] if unreal else []
    if rehearsed:
        notes.append(f"{rehearsed} claims are rehearsed, not proved: no real device gave their evidence.")
    notes += [f"Note: {facts.note}"] if facts.note else []
    sections = [
        _unfinished(facts), _cover(facts), _lines(site), _devices(site), _checkout(facts), _communication(facts),
        _loads(facts), *trends, _events(facts, "Errors", facts.errors, facts.more_errors, "errors"),
        _writes(facts),
    ]  # fmt: skip
    return DocumentSheet(
        f"{site.name}: report", f"{text} · made {moment(time.time_ns() // 1000)[:-4]} · {zone_words(time.time())}",
        sections, notes, scheme_sheet(site), 2,
    )  # fmt: skip


def _table(
    title: str, about: str, headings: Sequence[str], rows: list[list[str]], numbers: Sequence[str] = ()
) -> TableSheet:
    return TableSheet(title, about, [PaperColumn(heading, heading in numbers) for heading in headings], rows)


def _unfinished(facts: ReportFacts) -> TableSheet:
    """What went wrong, a row each; what nobody has taken, by device."""
    left = left_of(facts.claims)
    rows = [
        [claim.state.value, claim.key.claim, str(claim.key), _why(claim)]
        for claim in left if claim.state is not ClaimState.OPEN
    ]  # fmt: skip
    by_device: dict[str, list[Claim]] = {}
    for claim in left:
        if claim.state is ClaimState.OPEN:
            by_device.setdefault(claim.key.device, []).append(claim)
    for device, claims in by_device.items():
        names = dict.fromkeys(claim.key.point or claim.key.claim for claim in claims)
        rows.append(["open", f"{len(claims)} claims", device, f"nobody has taken them: {', '.join(names)}"])
    rows += [["told", "sheet", text, ""] for text in facts.messages]
    about = f"{len(left)} of {len(facts.claims)} claims" if left else "nothing: all that is to be proved was proved"
    return _table("What is unfinished", about, ["stands", "kind", "what", "why"], rows)


def _why(claim: Claim) -> str:
    line = claim.line
    if claim.state.value == "disputed":
        return "judged differently by " + " and ".join(sheet_line.who for sheet_line in claim.lines)
    if claim.state.value == "again":
        return "its point was changed since"
    if line is None:
        return "nobody has taken it"
    why = f"no real device: {line.origin}" if claim.state.value == "rehearsed" else f"seen {_value(line.seen)}"
    return "; ".join(filter(None, (why, line.note)))


def _cover(facts: ReportFacts) -> TableSheet:
    begin = moment(facts.from_us)[:-4] if facts.from_us is not None else "the beginning"
    end = moment(facts.to_us)[:-4] if facts.to_us is not None else "now"
    site = facts.site
    rows = [
        ["site", site.name], ["file", site.path.name if site.path is not None else "never saved"],
        ["time", f"{begin} to {end}"], ["taken by", ", ".join(facts.who) or "nobody yet"],
        ["made by", f"Kanaleto {facts.version}"],
        ["size", f"{site.device_count} devices, {site.point_count} points on {len(site.lines)} lines"],
    ]  # fmt: skip
    rows += [[f"line {name}", f"origin {origin}"] for name, origin in facts.origins.items()]
    rows += [["note", facts.note]] if facts.note else []
    return _table("What it is of", "", ["", ""], rows)


def _lines(site: Site) -> TableSheet:
    rows = [
        [
            line.name, link_words(line.link), f"{line.timeout_s:g}", str(line.retries),
            f"{line.gap_s:g}" if line.gap_s else "", str(len(line.devices)), line.writing.value, _wiring(line),
        ]
        for line in site.lines
    ]  # fmt: skip
    rows = rows or [["this site has no lines"]]
    headings = ["line", "link", "timeout s", "retries", "gap s", "devices", "writing", "wiring"]
    return _table("Lines and settings", "", headings, rows, ("timeout s", "retries", "gap s", "devices"))


def _wiring(line: Line) -> str:
    wiring = line.wiring
    texts = [f"order {', '.join(wiring.order)}"] if wiring.order else []
    texts += [f"terminators {', '.join(wiring.terminators)}"] if wiring.terminators else []
    texts += [f"bias {wiring.bias}"] if wiring.bias else []
    texts += [f"{wiring.wires} wires"] if wiring.wires else []
    texts += [f"{wiring.length_m:g} m"] if wiring.length_m else []
    return "; ".join([*texts, *([wiring.note] if wiring.note else [])])


def _devices(site: Site) -> TableSheet:
    rows = [
        [
            device.name, line.name, str(device.unit_id), str(len(device.points)),
            device.map_path.name if device.map_path is not None else "", f"{device.period_s:g}",
            f"{device.timeout_s:g}", str(device.limits.max_registers), _device_words(device),
        ]
        for line, device in site.devices()
    ]  # fmt: skip
    rows = rows or [["this site has no devices"]]
    headings = ["device", "line", "unit ID", "points", "map", "period s", "timeout s", "registers", "note"]
    return _table("Devices", "", headings, rows, ("unit ID", "points", "period s", "timeout s", "registers"))


def _device_words(device: Device) -> str:
    return "; ".join(filter(None, ("" if device.is_enabled else "switched off", device.note)))


def _checkout(facts: ReportFacts) -> TableSheet:
    points = {(device.name, point.name): point for _, device in facts.site.devices() for point in device.points}
    headings = [
        "point",
        "kind",
        "level",
        "when",
        "expected",
        "seen",
        "of span",
        "stands",
        "evidence",
        "who",
        "at",
        "note",
    ]
    rows: list[list[str]] = []
    marked: list[int] = []
    last = ""
    for claim in facts.claims:
        key = claim.key
        if key.device != last:
            last = key.device
            rows.append([last])
        point = points.get((key.device, key.point))
        for line in claim.lines or (None,):
            if claim.state.value in ("failed", "disputed", "again"):
                marked.append(len(rows))
            rows.append(_claim_row(claim, line, point))
    sheet = _table(
        "Checkout", facts.missing.get("checkout", f"{len(facts.claims)} claims"), headings,
        rows or [["nothing is to be proved"]], ("expected", "seen", "of span"),
    )  # fmt: skip
    sheet.marked = marked
    sheet.notes = ["Evidence: words as they came, and where from. of span: the error in per cent of span."]
    return sheet


def _claim_row(claim: Claim, line: SheetLine | None, point: Point | None) -> list[str]:
    key, unit = claim.key, f" {point.unit}" if point is not None and point.unit else ""
    name = key.point or ("cable pulled" if key.claim == "loss" else "")
    stands = "made good" if claim.is_made_good else claim.state.value
    if line is None:
        return [name, key.claim, key.level, key.when, "", "", "", stands, "", "", "", ""]
    error = error_of(line, point)
    expected = _value(line.expected) + (unit if isinstance(line.expected, int | float) else "")
    if line.tolerance:
        expected += f" ± {Tolerance(line.tolerance, ToleranceOf(line.of))}"
    seen = _value(line.seen) + (unit if isinstance(line.seen, int | float) else "")
    evidence = " ".join(filter(None, (line.words, line.origin if line.origin != Origin.REAL.value else "")))
    return [
        name, key.claim, key.level, key.when, expected, seen, f"{error:+.2f} %" if error is not None else "", stands,
        evidence, line.who, _at(line), line.note,
    ]  # fmt: skip


def _at(line: SheetLine) -> str:
    try:
        return f"{datetime.fromisoformat(line.at.replace('Z', '+00:00')).astimezone():%Y-%m-%d %H:%M:%S}"
    except ValueError:
        return line.at


def _value(value: float | str | None) -> str:
    if value is None:
        return ""
    return f"{value:.8g}" if isinstance(value, int | float) else value


def _communication(facts: ReportFacts) -> TableSheet:
    numbers = ("asked", "good", "refused", "silent", "garbled", "strange", "unreachable", "median ms", "95 % ms")
    headings = ["device", "line", *numbers]
    rows = [_talked(device) for device in facts.devices]
    missing = facts.missing.get("communication", "")
    return _table("Communication", missing or "out of the record, minute by minute", headings, rows, numbers)


def _talked(talk: DeviceTalk) -> list[str]:
    def middle(values: list[int]) -> str:
        return f"{sorted(values)[len(values) // 2] / 1000:.1f}" if values else ""

    counts = (talk.asked, talk.good, talk.refused, talk.silent, talk.garbled, talk.strange, talk.unreachable)
    return [talk.device, talk.line, *map(str, counts), middle(talk.medians), middle(talk.most)]


def _loads(facts: ReportFacts) -> TableSheet:
    rows = [
        [
            load.line,
            load.origin,
            f"{100 * sum(load.busy) / len(load.busy):.0f} %",
            f"{100 * max(load.busy):.0f} %",
            str(len(load.busy)),
        ]
        for load in facts.loads
        if load.busy
    ]
    headings = ["line", "origin", "busy", "busiest minute", "minutes"]
    missing = facts.missing.get("communication", "")
    return _table("Load of the lines", missing, headings, rows, ("busy", "busiest minute", "minutes"))


def _events(facts: ReportFacts, title: str, events: Sequence[JournalEvent], more: int, key: str) -> TableSheet:
    rows = [
        [
            _when(event.begun),
            event.line,
            event.device,
            event.kind,
            event.text,
            str(event.count),
            how_long(event),
            event.note,
        ]
        for event in events
    ]
    about = facts.missing.get(key) or (f"the last {len(rows)} of {len(rows) + more}" if more else "")
    about = about or ("" if rows else "none in that time")
    headings = ["at", "line", "device", "kind", "what", "times", "long", "note"]
    return _table(title, about, headings, rows, ("times",))


def _writes(facts: ReportFacts) -> TableSheet:
    rows = [
        [_when(event.begun), event.who, event.device, event.point, event.text, str(event.count)]
        for event in facts.writes
    ]
    about = facts.missing.get("writes") or (
        f"the last {len(rows)} of {len(rows) + facts.more_writes}" if facts.more_writes else ""
    )
    about = about or ("" if rows else "none in that time")
    return _table("Writes", about, ["at", "who", "device", "point", "what", "times"], rows, ("times",))


def _when(at_us: int) -> str:
    return f"{datetime.fromtimestamp(at_us / 1e6, UTC).astimezone():%Y-%m-%d %H:%M:%S}"


# The register map for whoever programs a controller


def maps_document(site: Site, devices: Sequence[tuple[Line, Device]]) -> DocumentSheet:
    """Both countings, types, orders, scale, access, states, bits: a table a device."""
    sections = [_map(line, device) for line, device in devices]
    sections = sections or [_table("Register map", "this site has no devices", ["", ""], [])]
    notes = [
        "reference counts from 1 with the table's digit, wire from 0 as in requests. value = raw × factor + offset.",
        "Orders: the letters are the bytes of the value, the first is sent first.",
    ]
    return DocumentSheet(
        f"{site.name}: register maps", f"{len(devices)} devices · {zone_words(time.time())}", sections, notes
    )


def _map(line: Line, device: Device) -> TableSheet:
    headings = [
        "point",
        "reference",
        "wire",
        "hex",
        "type",
        "order",
        "scale",
        "unit",
        "access",
        "states and bits",
        "note",
    ]
    points = sorted(device.points, key=lambda point: (point.table.value, point.address))
    rows = [_map_row(device, point) for point in points]
    about = f"{line.name} · unit ID {device.unit_id} · at most {device.limits.max_registers} registers a request"
    return _table(device.name, about, headings, rows or [["this device has no points"]], ("wire", "hex"))


def _map_row(device: Device, point: Point) -> list[str]:
    codec = point.codec
    last = point.end - 1
    span = f"-{last}" if last > point.address else ""
    reference = from_wire(point.address, point.table, Numbering.REFERENCE)
    bits = codec.bits
    kind = "bit" if point.table.is_bits else str(codec.type)
    kind += f" bit {bits[0]}" + (f"-{bits[1]}" if bits[1] > bits[0] else "") if bits is not None else ""
    order = codec.order.value if not point.table.is_bits and (codec.type.is_wide or codec.order.swaps_bytes) else ""
    states = "; ".join(f"{number} = {label}" for number, label in sorted(point.labels.items()))
    cells = point_cells(device, point)
    scale = _scale_words(cells)
    return [
        point.name, f"{reference}{f' +{point.size - 1}' if point.size > 1 else ''}", f"{point.address}{span}",
        f"{point.address:04X}", kind, order, scale, point.unit, point.access.value, states, point.note,
    ]  # fmt: skip


def _scale_words(cells: dict[str, str]) -> str:
    texts = []
    if cells.get("factor"):
        texts.append(f"× {cells['factor']}")
    if cells.get("offset") and cells["offset"] != "0":
        texts.append(f"+ {cells['offset']}")
    if cells.get("raw_low") or cells.get("raw_high"):
        texts.append(f"{cells.get('raw_low')}…{cells.get('raw_high')} = {cells.get('eng_low')}…{cells.get('eng_high')}")
    if cells.get("curve"):
        texts.append(f"curve {cells['curve']}")
    if cells.get("exponent"):
        texts.append(f"× 10 to {cells['exponent']}")
    return " ".join(texts)
