"""What is to be proved of a site, and how each claim stands by the lines of its sheet.

The newest line of a claim counts; of two people's newest that differ both stand, until a line replaces both. A line
takes the place of those that it names, whatever the clock said. Evidence that no real device gave is rehearsed, never
proved; and what rests on another definition of its point than today's is to be proved again.
"""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from enum import Enum

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.history.definition import fingerprint_of
from kanaleto.proof.sheet import ClaimKey, SheetLine
from kanaleto.site.model import LIMITS, Device, Line, Point, Site
from kanaleto.site.origin import Origin
from kanaleto.site.proving import Tolerance, ToleranceOf
from kanaleto.values.types import Kind


class ClaimState(Enum):
    """The value is the word of the command line and of papers."""

    PROVED = "proved"
    REHEARSED = "rehearsed"
    FAILED = "failed"
    DISPUTED = "disputed"
    AGAIN = "again"
    SKIPPED = "skipped"
    OPEN = "open"


LEFT = (ClaimState.OPEN, ClaimState.REHEARSED, ClaimState.FAILED, ClaimState.DISPUTED, ClaimState.AGAIN)
"""What is still to be done; `open` comes first in lists."""


class Claim(Struct, frozen=True):
    """One thing to be proved, and how it stands: `lines` are those that count now (several where they are disputed),
    `is_wanted` whether the map (or a person) asks for it, `is_gone` whether its point is no more."""

    key: ClaimKey
    state: ClaimState
    lines: tuple[SheetLine, ...] = ()
    is_wanted: bool = True
    is_gone: bool = False
    is_made_good: bool = False
    """Failed as found, and passed as left."""

    @property
    def line(self) -> SheetLine | None:
        return self.lines[-1] if self.lines else None

    @property
    def is_left(self) -> bool:
        return self.state in LEFT and not self.is_made_good and not self.is_gone


def kind_of(point: Point) -> str:
    """What its one claim is: a value, or a state."""
    return "state" if point.is_state else "value"


def wanted_of(device: Device) -> Iterator[ClaimKey]:
    """What the map asks for, in its order."""
    for point in device.points:
        yield from _wanted_of_point(device.name, point)


def _wanted_of_point(device: str, point: Point) -> Iterator[ClaimKey]:
    proving, kind = point.proving, kind_of(point)
    if proving.once:
        yield ClaimKey(kind if point.access.is_read else "write", device, point.name)
    for level in proving.levels:
        yield ClaimKey("value", device, point.name, f"{level:g} %")
    if proving.each:
        for label in states_of(point):
            yield ClaimKey("state", device, point.name, label)
    if proving.write and (point.access.is_read or not proving.once):
        yield ClaimKey("write", device, point.name)
    if proving.limits:
        for name in limits_of(point):
            yield ClaimKey("limit", device, point.name, name)


def states_of(point: Point) -> list[str]:
    """Each state by its label; of a word of bits each named bit, on and off."""
    labels = point.labels
    if point.codec.type.kind is Kind.BITS and point.codec.bits is None:
        return [f"{label} {way}" for _, label in sorted(labels.items()) for way in ("on", "off")]
    if point.codec.type.kind is Kind.BOOL or point.table.is_bits or _is_one_bit(point):
        return [labels.get(value, str(value)) for value in (0, 1)]
    return [label for _, label in sorted(labels.items())]


def _is_one_bit(point: Point) -> bool:
    bits = point.codec.bits
    return bits is not None and bits[0] == bits[1]


def limits_of(point: Point) -> list[str]:
    """The limits that its map has, by their columns."""
    limits = point.limits
    found = [name for name in LIMITS[2:] if getattr(limits, name) is not None]
    found += [f"{name}_on" for name in ("warn", "alarm") if getattr(limits, f"{name}_on")]
    return found


def span_of(point: Point) -> float | None:
    """From one end of its range to the other, in its unit; None where there is no range."""
    low, high = point.limits.range_low, point.limits.range_high
    return high - low if low is not None and high is not None else None


def expected_at(point: Point, level: str) -> float | None:
    """What a level in per cent of span is in the unit."""
    low, span = point.limits.range_low, span_of(point)
    if low is None or span is None or not level.endswith("%"):
        return None
    return low + span * float(level.removesuffix("%")) / 100


def allowed(point: Point, expected: float, tolerance: Tolerance) -> float:
    """How far off it may be, in its unit. Raises ValueError where it has no range and one is needed."""
    if tolerance.of is ToleranceOf.UNIT:
        return tolerance.number
    if tolerance.of is ToleranceOf.VALUE:
        return abs(expected) * tolerance.number / 100
    span = span_of(point)
    if span is None:
        raise ValueError(f"{point.name} has no range: a tolerance in per cent of span needs range_low and range_high")
    return span * tolerance.number / 100


def error_of(line: SheetLine, point: Point | None) -> float | None:
    """By how many per cent of span what was seen is off; None where there is no span or no number."""
    span = span_of(point) if point is not None else None
    if not span or not isinstance(line.seen, int | float) or not isinstance(line.expected, int | float):
        return None
    return 100 * (line.seen - line.expected) / span


# How claims stand


def claims_of(
    site: Site, lines: Sequence[SheetLine], devices: Collection[str] = (), chosen: Iterable[ClaimKey] = ()
) -> list[Claim]:
    """All that the map asks for, and all that a line speaks of, in the order of the site; what is of no point any more
    stands at the end. With `devices` only theirs; `chosen` are asked for by hand."""
    lines = followed(site, lines)
    grouped: dict[tuple[str, str, str, str, str], list[SheetLine]] = {}
    for line in lines:
        grouped.setdefault((line.claim, line.device, line.point, line.level, line.when), []).append(line)
    by_key = {ClaimKey(*key): sheet_lines for key, sheet_lines in grouped.items()}
    replaced = {one for line in lines if line.replaces for one in line.replaced}
    asked = set(chosen)
    by_device: dict[str, list[ClaimKey]] = {}
    for key in (*asked, *by_key):
        by_device.setdefault(key.device, []).append(key)
    found: list[Claim] = []
    for _, device in site.devices():
        if devices and device.name not in devices:
            continue
        points = {point.name: point for point in device.points}
        prints: dict[str, str] = {}
        wanted = list(dict.fromkeys(wanted_of(device)))
        known = set(wanted)
        more = [key for key in by_device.get(device.name, ()) if key not in known]
        for key in _in_order(device, wanted, more):
            sheet_lines = by_key.pop(key, [])
            point = points.get(key.point)
            print_now = ""
            if point is not None and sheet_lines:
                print_now = prints.get(key.point) or prints.setdefault(key.point, fingerprint_of(point))
            is_gone = bool(key.point) and point is None
            is_wanted = key in known or key in asked
            claim = _claim(key, sheet_lines, replaced, print_now, is_gone, is_wanted)
            if claim.lines or is_wanted:
                found.append(claim)
    for key, sheet_lines in sorted(by_key.items()):
        if not devices or key.device in devices:
            claim = _claim(key, sheet_lines, replaced, "", True)
            found += [claim] if claim.lines else []
    return _made_good(found)


def _in_order(device: Device, wanted: Sequence[ClaimKey], more: Iterable[ClaimKey]) -> list[ClaimKey]:
    places = {point.name: number for number, point in enumerate(device.points)}
    order = {key: number for number, key in enumerate(wanted)}

    def place(key: ClaimKey) -> tuple[int, int, float, str, str]:
        at = places.get(key.point, len(places))
        level = float(key.level[:-1]) if key.level.endswith("%") and _is_number(key.level[:-1]) else 0.0
        return at, order.get(replace(key, when="found"), len(order)), level, key.level, key.when

    return sorted(dict.fromkeys([*wanted, *more]), key=place)


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _claim(
    key: ClaimKey, lines: Sequence[SheetLine], replaced: Collection[str], definition: str, is_gone: bool,
    is_wanted: bool = True,
) -> Claim:  # fmt: skip
    newest = _newest(lines, replaced)
    if not newest:
        return Claim(key, ClaimState.OPEN, (), is_wanted, is_gone)
    if len({line.verdict for line in newest}) > 1:
        return Claim(key, ClaimState.DISPUTED, newest, is_wanted, is_gone)
    line = newest[-1]
    return Claim(key, _state(line, definition), (line,), is_wanted, is_gone)


def _newest(lines: Sequence[SheetLine], replaced: Collection[str]) -> tuple[SheetLine, ...]:
    """The newest of each person that nobody replaced, the latest last; nothing where it was withdrawn."""
    left = [line for line in lines if line.id not in replaced] if replaced else lines
    by_who: dict[str, SheetLine] = {}
    for line in left:
        known = by_who.get(line.who)
        if known is None or (known.at, known.id) < (line.at, line.id):
            by_who[line.who] = line
    standing = [line for line in by_who.values() if line.verdict != "withdrawn"]
    return tuple(sorted(standing, key=lambda line: (line.at, line.id)))


def _state(line: SheetLine, definition: str) -> ClaimState:
    if line.verdict == "skipped":
        return ClaimState.SKIPPED
    if definition and line.definition and line.definition != definition:
        return ClaimState.AGAIN
    if line.verdict == "failed":
        return ClaimState.FAILED
    return ClaimState.PROVED if line.origin == Origin.REAL.value else ClaimState.REHEARSED


def _made_good(claims: Sequence[Claim]) -> list[Claim]:
    """What failed as found and is proved as left is not left to be done."""
    good = {replace(claim.key, when="found") for claim in claims
            if claim.key.when == "left" and claim.state is ClaimState.PROVED}  # fmt: skip
    return [
        replace(claim, is_made_good=True)
        if claim.key.when == "found" and claim.key in good and claim.state is ClaimState.FAILED
        else claim
        for claim in claims
    ]  # fmt: skip


def followed(site: Site, lines: Sequence[SheetLine]) -> list[SheetLine]:
    """Lines of devices and points that have another name by now, under that name: a device by its line and unit ID, a
    point by all that its words mean, where there is no doubt."""
    devices = {device.name: device for _, device in site.devices()}
    there = {(device.name, point.name) for device in devices.values() for point in device.points}
    if all(
        one in there or (one[0] in devices and not one[1])
        for one in {(sheet_line.device, sheet_line.point) for sheet_line in lines}
    ):
        return list(lines)
    by_place = {(line.name, device.unit_id): device.name for line, device in site.devices()}
    names: dict[tuple[str, int | None, str], str] = {}
    points: dict[tuple[str, str, str], str] = {}
    known = {line.device for line in lines if line.device in devices}

    def device_of(line: SheetLine) -> str:
        if line.device in devices or line.unit_id is None or line.exchange is None:
            return line.device
        place = (line.exchange.get("line", ""), line.unit_id)
        name = by_place.get(place)
        return name if name is not None and name not in known else line.device

    def point_of(device: Device, line: SheetLine) -> str:
        if not line.point or not line.definition or any(point.name == line.point for point in device.points):
            return line.point
        taken = {other.point for other in lines if other.device == line.device}
        same = [
            point.name for point in device.points
            if point.name not in taken and fingerprint_of(point) == line.definition
        ]  # fmt: skip
        return same[0] if len(same) == 1 else line.point

    found: list[SheetLine] = []
    for line in lines:
        place = line.exchange.get("line", "") if line.exchange is not None else ""
        name_key = (line.device, line.unit_id, place)
        if name_key not in names:
            names[name_key] = device_of(line)
        name = names[name_key]
        device = devices.get(name)
        point = line.point
        if device is not None and point:
            key = (name, point, line.definition)
            if key not in points:
                points[key] = point_of(device, line)
            point = points[key]
        is_same = name == line.device and point == line.point
        found.append(line if is_same else replace(line, device=name, point=point))
    return found


def place_of(site: Site, key: ClaimKey) -> tuple[Line, Device, Point | None] | None:
    """Where a claim's point stands."""
    for line, device in site.devices():
        if device.name == key.device:
            return line, device, next((point for point in device.points if point.name == key.point), None)
    return None


def counts_of(claims: Iterable[Claim]) -> Mapping[str, int]:
    """How many there are of each state, by its word."""
    counts = {state.value: 0 for state in ClaimState}
    for claim in claims:
        counts[claim.state.value] += 1
    return counts


def replacing(claims: Sequence[Claim], key: ClaimKey, lines: Sequence[SheetLine], who: str) -> list[str]:
    """What a new line of that person takes the place of: what he said before; of a disputed claim what everybody
    said."""
    claim = next((claim for claim in claims if claim.key == key), None)
    if claim is not None and claim.state is ClaimState.DISPUTED:
        return [line.id for line in claim.lines]
    replaced = {one for line in lines for one in line.replaced}
    return [line.id for line in lines if line.key == key and line.who == who and line.id not in replaced]
