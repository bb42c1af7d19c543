"""Taking evidence: what a device shows now, asked for after somebody said so, against what was expected."""

import asyncio
from collections.abc import Sequence
from datetime import UTC, datetime

from msgspec import Struct

from kanaleto.board.board import times_ten_to
from kanaleto.files.origins import look_around, origin_of
from kanaleto.history.definition import fingerprint_of
from kanaleto.polling.session import Session
from kanaleto.proof.claims import Claim, allowed, expected_at, replacing
from kanaleto.proof.sheet import ClaimKey, SheetLine, new_id
from kanaleto.site.model import Device, Line, Point
from kanaleto.site.proving import Tolerance, ToleranceOf
from kanaleto.values.codec import NoValue
from kanaleto.values.digits import number, whole
from kanaleto.values.text import NO_BIT, plain_number, shown
from kanaleto.values.types import Kind
from kanaleto.wire.pdu import Read, ReadAnswer


class NoEvidence(Exception):
    """One sentence: why nothing was taken."""


class SeenNow(Struct, frozen=True):
    """What was read for evidence: a number, or text (a state by its label); its words, and the exchange."""

    value: float | str
    words: str
    exchange: dict[str, str]
    unit_id: int
    origin: str
    at: str


class Expected(Struct, frozen=True):
    """What somebody expects, a number or a label, and how far off it may be."""

    value: float | str
    tolerance: Tolerance


async def read_now(session: Session, line: Line, device: Device, point: Point, look: bool = True) -> SeenNow:
    """One fresh reading. Raises NoEvidence where it was not good."""
    if not point.access.is_read:
        raise NoEvidence(f"{point.name} is only written: nothing can be read of it")
    if look:
        await asyncio.to_thread(look_around)
    poller = session.named(line.name)
    request = Read(point.table, point.address, point.size)
    outcome = await poller.ask(device.unit_id, request, device.timeout_s, device)
    content = outcome.content
    if not isinstance(content, ReadAnswer):
        raise NoEvidence(f"{device.name}/{point.name} was not read: {outcome.reason or outcome.kind.value}")
    data = bytes(content.bits(1)) if point.table.is_bits else content.data
    value = int(data[0] != 0) if point.table.is_bits else point.codec.decode(data)
    if isinstance(value, NoValue):
        raise NoEvidence(f"{device.name}/{point.name} has no value: {value.reason}")
    if point.exponent and isinstance(value, int | float):
        value = times_ten_to(value, await _power_of(session, line, device, point))
    at = iso_of(session.clock.at(outcome.asked_at))
    exchange = {"at": at, "line": line.name, "request": outcome.request.hex(), "answer": outcome.answer.hex()}
    words = data.hex(" ", 2).upper() if not point.table.is_bits else str(data[0])
    return SeenNow(_as_typed(point, value), words, exchange, device.unit_id, origin_of(poller.line).value, at)


async def _power_of(session: Session, line: Line, device: Device, point: Point) -> int:
    """The power of ten that another register of the device says. Raises NoEvidence."""
    exponent = next((exponent for exponent in device.points if exponent.name == point.exponent), None)
    power = (await read_now(session, line, device, exponent, look=False)).value if exponent is not None else None
    if not isinstance(power, int | float):
        raise NoEvidence(f"{device.name}/{point.name}: its exponent, {point.exponent}, cannot be read")
    return int(power)


def iso_of(wall_s: float) -> str:
    """A wall time in seconds since 1970 as sheets have it: ISO-8601, UTC, to the millisecond."""
    return datetime.fromtimestamp(wall_s, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _as_typed(point: Point, value: object) -> float | str:
    if isinstance(value, int) and value in point.labels and not _is_word_of_bits(point):
        return point.labels[value]
    if isinstance(value, int | float):
        return plain_number(value, point.codec, None)
    return shown(value, point.codec, point.decimals, point.labels)  # type: ignore[arg-type]


def _is_word_of_bits(point: Point) -> bool:
    return point.codec.type.kind is Kind.BITS and point.codec.bits is None


def expected_of(point: Point, text: str, tolerance: Tolerance | None) -> Expected:
    """What was typed: a number in the point's unit, or the label of a state. Without a tolerance of its own or the
    map's, a number is expected as far as it was typed. Raises ValueError."""
    text = text.strip()
    known = {label.casefold(): label for label in point.labels.values()}
    if text.casefold() in known and not _is_word_of_bits(point):
        return Expected(known[text.casefold()], Tolerance(0.0))
    if point.codec.type.kind is Kind.TEXT:
        return Expected(text, Tolerance(0.0))
    if _is_word_of_bits(point) or point.codec.type.kind is Kind.HEX:
        return Expected(float(_word_of(point, text)), Tolerance(0.0))
    plain = text.replace(",", ".")
    try:
        value = float(number(plain))
    except ValueError:
        labels = f", or one of {', '.join(point.labels.values())}" if point.labels else ""
        raise ValueError(f"{text!r} is no number{labels}") from None
    if point.is_state:
        label = point.labels.get(int(value)) if value == int(value) else None
        begins = [known for known in point.labels.values() if known.casefold().startswith(f"{text.casefold()} ")]
        if label is None and len(begins) == 1:  # 19200, where the display says 19200 baud
            label = begins[0]
        is_word = _is_word_of_bits(point)
        return Expected(label if label is not None and not is_word else value, Tolerance(0.0))
    tolerance = tolerance or point.proving.tolerance
    if tolerance is None:
        digits = len(plain.partition(".")[2]) if "e" not in plain.lower() else 6
        tolerance = Tolerance(0.5 * 10.0**-digits)
    return Expected(value, tolerance)


def _word_of(point: Point, text: str) -> int:
    """A word as it is shown: 16 bits, a number (0x… too), or the names of the bits that are on. Raises ValueError."""
    if len(text) == 16 and set(text) <= {"0", "1"}:
        return int(text, 2)
    bits = {label.casefold(): bit for bit, label in point.labels.items()}
    names = [name.strip().casefold() for name in text.replace("·", ",").split(",") if name.strip()]
    if names and all(name in bits for name in names):
        return sum(1 << bits[name] for name in names)
    if text.casefold() == NO_BIT.casefold():
        return 0
    try:
        return int(text, 16) if point.codec.type.kind is Kind.HEX else whole(text)
    except ValueError:
        named = f", or names of bits: {', '.join(point.labels.values())}" if point.labels else ""
        raise ValueError(f"{text!r} is no word: 16 bits, a number{named}") from None


def expected_by_itself(point: Point, key: ClaimKey) -> str:
    """What a claim expects without anybody's word, as it would be typed; empty where only a person knows."""
    if key.claim == "state" and key.level:
        return key.level
    level = expected_at(point, key.level)
    return f"{level:.10g}" if level is not None else ""


def judged(
    key: ClaimKey,
    point: Point,
    seen: SeenNow,
    expected: Expected,
    who: str,
    note: str = "",
    replaces: Sequence[str] = (),
) -> SheetLine:
    """The line of the sheet that comes of it. Raises ValueError where the tolerance needs a range that is not there."""
    is_well, tolerance = _is_well(key, point, seen.value, expected)
    return SheetLine(
        new_id(), key.claim, key.device, key.point, "passed" if is_well else "failed", seen.at,
        fingerprint_of(point), key.level, key.when, expected.value, tolerance.number, tolerance.of.value, seen.value,
        seen.words, seen.exchange, note, who, seen.origin, list(replaces) or None, seen.unit_id,
    )  # fmt: skip


def _is_well(key: ClaimKey, point: Point, seen: float | str, expected: Expected) -> tuple[bool, Tolerance]:
    if key.claim == "state" and _is_word_of_bits(point) and isinstance(seen, int | float):
        return _bit_is(point, int(seen), str(expected.value)), Tolerance(0.0)
    if isinstance(seen, int | float) and isinstance(expected.value, int | float):
        most = allowed(point, expected.value, expected.tolerance)
        slack = 1e-9 * max(abs(expected.value), abs(seen), 1e-30)  # 0.1 is no binary fraction
        return abs(seen - expected.value) <= most + slack, expected.tolerance
    return str(seen) == str(expected.value), Tolerance(0.0, ToleranceOf.UNIT)


def _bit_is(point: Point, word: int, wanted: str) -> bool:
    """`Enable on`: that bit of the word stands so; else the whole word is meant."""
    label, _, way = wanted.rpartition(" ")
    for bit, text in point.labels.items():
        if text == label and way in ("on", "off"):
            return bool(word >> bit & 1) is (way == "on")
    try:
        return word == number(wanted)
    except ValueError:
        return False


def by_hand(
    key: ClaimKey, verdict: str, who: str, at: str, note: str, claims: Sequence[Claim], lines: Sequence[SheetLine],
    point: Point | None, origin: str, unit_id: int | None = None, line: str = "",
) -> SheetLine:  # fmt: skip
    """A verdict that rests on what a person saw, without a reading."""
    place = {"at": at, "line": line, "request": "", "answer": ""} if line else None
    return SheetLine(
        new_id(), key.claim, key.device, key.point, verdict, at, fingerprint_of(point) if point is not None else "",
        key.level, key.when, note=note, who=who, origin=origin, exchange=place,
        replaces=replacing(claims, key, lines, who) or None, unit_id=unit_id,
    )  # fmt: skip
