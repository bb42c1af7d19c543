"""A device that is put together from points of others: its registers hold their last values, in its own types, orders
and scales; a write goes through to the source."""

from collections.abc import Awaitable, Callable, Sequence
from math import isfinite

from msgspec import Struct

from kanaleto.board.board import Quality
from kanaleto.board.board import Reading as LastReading
from kanaleto.bridge.masterturns import refused
from kanaleto.polling.session import Session
from kanaleto.site.bridges import Composed, ComposedRow
from kanaleto.site.model import Device, Line, Point
from kanaleto.values.codec import CannotEncode
from kanaleto.wire.codes import ExceptionCode, Function, Table

_TABLES = {1: Table.COIL, 2: Table.DISCRETE, 3: Table.HOLDING, 4: Table.INPUT}
_NEVER_AGE = 65535
_WRITES = {5: Table.COIL, 15: Table.COIL, 6: Table.HOLDING, 16: Table.HOLDING}

Send = Callable[[Line, Device, bytes], Awaitable[bytes | None]]
"""Sends a PDU to a source device, in its turn; gives what it answered."""


class _Stale(Exception):
    """What was asked for is not good any more, and nothing is to stand for it."""


class _Written(Struct):
    """One value that is to be written to its source."""

    line: Line
    device: Device
    pdu: bytes


class ComposedUnit:
    """One composed device, over what `session` polls."""

    def __init__(self, composed: Composed, session: Session) -> None:
        self.composed = composed
        self._session = session

    def read(self, pdu: bytes, now_s: float) -> bytes:
        """The answer to a read (functions 01 to 04)."""
        table = _TABLES[pdu[0]]
        first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
        if len(pdu) != 5 or not 1 <= count <= table.most_read:
            return refused(pdu, ExceptionCode.ILLEGAL_DATA_VALUE)
        rows = [row for row in self.composed.rows if row.table is table]
        status = self._status(table, now_s)
        try:
            found = {**status, **self._words(rows, first, first + count, now_s)}
        except _Stale:
            return refused(pdu, ExceptionCode.GATEWAY_TARGET_FAILED)
        if any(address not in found for address in range(first, first + count)):
            return refused(pdu, ExceptionCode.ILLEGAL_DATA_ADDRESS)
        words = [found[address] for address in range(first, first + count)]
        data = _bits(words) if table.is_bits else b"".join(word.to_bytes(2) for word in words)
        return bytes((pdu[0], len(data))) + data

    def _words(self, rows: Sequence[ComposedRow], first: int, end: int, now_s: float) -> dict[int, int]:
        """What stands at the addresses from `first` to `end` (not included). Raises _Stale."""
        found: dict[int, int] = {}
        for row in rows:
            if row.end <= first or row.address >= end:
                continue
            data = self._encoded(row, now_s)
            if row.table.is_bits:
                found[row.address] = data[0] & 1 if len(data) == 1 else int.from_bytes(data) & 1
                continue
            for number in range(row.end - row.address):
                found[row.address + number] = int.from_bytes(data[2 * number : 2 * number + 2])
        return found

    def _encoded(self, row: ComposedRow, now_s: float) -> bytes:
        """The words of a row as they stand now. Raises _Stale."""
        reading = self._reading(row, now_s)
        if reading is None and row.device:
            raise _Stale  # its point is no more
        composed, value = self.composed, reading.value if reading is not None else None
        is_good = reading is not None and reading.quality is Quality.GOOD and self._is_young(reading)
        if not is_good and isinstance(composed.stale, int | float):
            value = float(composed.stale)
        elif not is_good and (composed.stale == "exception" or value is None):
            raise _Stale
        if not isinstance(value, int | float | str) or not _is_number(value):
            raise _Stale
        try:
            return row.codec.encode(value, is_within=False, decimals=row.decimals)
        except CannotEncode:
            raise _Stale from None

    def _is_young(self, reading: LastReading) -> bool:
        return reading.age_s is None or reading.age_s <= self.composed.stale_after_s

    def _reading(self, row: ComposedRow, now_s: float) -> LastReading | None:
        """The source's last value; None where there is no such point any more."""
        return reading_of(self._session, row.device, row.point, now_s)

    # How its sources are

    def _status(self, table: Table, now_s: float) -> dict[int, int]:
        """A word for each source device: 0 good, 1 stale, 2 bad, 3 never; then as many with its age in seconds."""
        status = self.composed.status
        if status is None or status[0] is not table:
            return {}
        sources = self.composed.sources
        found: dict[int, int] = {}
        for number, name in enumerate(sources):
            rows = [row for row in self.composed.rows if row.device == name]
            rows = rows or [row for row in self.composed.rows if name in row.sources]  # an expression has others in it
            readings = [self._reading(row, now_s) for row in rows]
            found[status[1] + number] = max((self._word(reading) for reading in readings), default=3)
            ages = [reading.age_s for reading in readings if reading is not None]
            known = [age_s for age_s in ages if age_s is not None]
            age = min(int(max(known)), _NEVER_AGE - 1) if known and len(known) == len(readings) else _NEVER_AGE
            found[status[1] + len(sources) + number] = age
        return found

    def _word(self, reading: LastReading | None) -> int:
        if reading is None or reading.age_s is None or reading.quality is Quality.NEVER:
            return 3
        if reading.quality is Quality.BAD:
            return 2
        return 0 if reading.quality is Quality.GOOD and self._is_young(reading) else 1

    # Writes

    async def write(self, pdu: bytes, send: Send) -> bytes:
        """Through the inverse scale to the sources, one after the other; the answer of the first that refuses, or as
        the standard answers a write."""
        table, function = _WRITES[pdu[0]], pdu[0]
        first = int.from_bytes(pdu[1:3])
        words = _words_written(pdu)
        if words is None:
            return refused(pdu, ExceptionCode.ILLEGAL_DATA_VALUE)
        end = first + len(words)
        rows = [row for row in self.composed.rows if row.table is table and row.end > first and row.address < end]
        covered = {address for row in rows for address in range(row.address, row.end)}
        if covered != set(range(first, end)) or not all(row.is_written for row in rows):
            return refused(pdu, ExceptionCode.ILLEGAL_DATA_ADDRESS)
        try:
            wanted = [self._wanted(row, words[row.address - first : row.end - first]) for row in rows]
        except KeyError:
            return refused(pdu, ExceptionCode.GATEWAY_TARGET_FAILED)
        except (CannotEncode, ValueError):
            return refused(pdu, ExceptionCode.ILLEGAL_DATA_VALUE)
        for one in wanted:
            answer = await send(one.line, one.device, one.pdu)
            if answer is None or answer[0] & 0x80:
                code = answer[1] if answer is not None and len(answer) > 1 else ExceptionCode.GATEWAY_TARGET_FAILED
                return bytes((function | 0x80, code))
        return pdu[:5]

    def _wanted(self, row: ComposedRow, words: Sequence[int]) -> _Written:
        """What goes to its source. Raises KeyError where that is gone, CannotEncode, ValueError."""
        place = self._session.plan.place_of((row.device, row.point))
        if place is None or not isinstance(place.point, Point):
            raise KeyError(row.point)
        part = self._session.plan.part_of(row.device)
        if part is None:
            raise KeyError(row.device)
        value: object = words[0]
        if not row.table.is_bits:
            value = row.codec.decode(b"".join(word.to_bytes(2) for word in words))
        if not isinstance(value, int | float | str) or not _is_number(value):
            raise ValueError(f"{row.name}: {value!r} cannot be written")
        return _Written(part.line, part.device, write_of(place.point, value, part.device))


def reading_of(session: Session, device: str, point: str, now_s: float) -> LastReading | None:
    """The last value of a point, or (without a device) of an expression; None where there is none such."""
    if not device:
        return session.board.derived.get(point)
    place = session.plan.place_of((device, point))
    return session.board.reading(place, now_s) if place is not None else None


def _is_number(value: object) -> bool:
    return isinstance(value, str) or (isinstance(value, int | float) and isfinite(value))


def write_of(point: Point, value: int | float | str, device: Device) -> bytes:
    """The request that writes a value to a point. Raises CannotEncode, ValueError."""
    place = point.address.to_bytes(2)
    if point.table.is_bits:
        return bytes((Function.WRITE_COIL,)) + place + (b"\xff\x00" if value else b"\0\0")
    if point.codec.bits:
        raise ValueError(f"{point.name} is a part of a word: it is not written through a bridge")
    low, high = point.limits.range_low, point.limits.range_high
    if isinstance(value, int | float) and ((low is not None and value < low) or (high is not None and value > high)):
        raise ValueError(f"{value:g} is outside the range of {point.name}")
    data = point.codec.encode(value, decimals=point.decimals)
    if point.size == 1 and device.limits.write_with != "multiple":
        return bytes((Function.WRITE_REGISTER,)) + place + data
    return bytes((Function.WRITE_REGISTERS,)) + place + point.size.to_bytes(2) + bytes((len(data),)) + data


def _words_written(pdu: bytes) -> list[int] | None:
    """The bits or words of a write; None where it is not whole."""
    function, count = pdu[0], int.from_bytes(pdu[3:5])
    if function == Function.WRITE_COIL:
        return [int(pdu[3:5] == b"\xff\x00")] if len(pdu) == 5 and pdu[3:5] in (b"\xff\x00", b"\0\0") else None
    if function == Function.WRITE_REGISTER:
        return [count] if len(pdu) == 5 else None
    if len(pdu) < 6 or len(pdu) != 6 + pdu[5]:
        return None
    if function == Function.WRITE_COILS:
        is_whole = 1 <= count <= 1968 and pdu[5] == (count + 7) // 8
        return [pdu[6 + at // 8] >> at % 8 & 1 for at in range(count)] if is_whole else None
    is_whole = 1 <= count <= 123 and pdu[5] == 2 * count
    return [int.from_bytes(pdu[6 + 2 * at : 8 + 2 * at]) for at in range(count)] if is_whole else None


def _bits(words: Sequence[int]) -> bytes:
    packed = bytearray((len(words) + 7) // 8)
    for at, word in enumerate(words):
        packed[at // 8] |= (word & 1) << at % 8
    return bytes(packed)


def is_for_composed(pdu: bytes) -> bool:
    """Whether a composed device has that function."""
    return pdu[0] in _TABLES or pdu[0] in _WRITES


def is_read(pdu: bytes) -> bool:
    return pdu[0] in _TABLES
