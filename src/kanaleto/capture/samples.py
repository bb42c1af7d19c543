"""Samples of the last hours, whether a record was asked for or not: what the exchanges on tape brought, read as the
site reads its points today."""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from kanaleto.board.board import times_ten_to
from kanaleto.capture.row import ExchangeRow
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Device, Point, Site
from kanaleto.values.codec import NoValue, Value
from kanaleto.wire.pdu import Read, ReadAnswer


class TapeSample(NamedTuple):
    """A point as an answer brought it; `at_us` is when that came, `data` the point's own words, or a byte for a bit."""

    at_us: int
    device: str
    point: Point
    value: Value
    data: bytes


def samples_of(rows: Iterable[ExchangeRow], site: Site, wanted: frozenset[str]) -> Iterator[TapeSample]:
    """Of the points that are wanted, as DEVICE/POINT; of all where none is named."""
    devices = {(line.name, device.unit_id): device for line, device in site.devices()}
    powers: dict[tuple[str, str], int] = {}
    for row in rows:
        device = devices.get((row.line, row.unit_id))
        if device is None or row.kind is not OutcomeKind.GOOD:
            continue
        request, answer = row.asked(), row.answered()
        if not isinstance(request, Read) or not isinstance(answer, ReadAnswer):
            continue
        for point, value, data in _points_in(device, request, answer.data):
            if isinstance(value, int):
                powers[device.name, point.name] = value
            if point.exponent and isinstance(value, int | float):
                power = powers.get((device.name, point.exponent))
                is_known = power is not None and -30 <= power <= 30
                value = times_ten_to(value, power or 0) if is_known else NoValue("its exponent is not known")
            if not wanted or f"{device.name}/{point.name}" in wanted:
                yield TapeSample(row.at_us + row.last_us, device.name, point, value, data)


def _points_in(device: Device, request: Read, data: bytes) -> Iterator[tuple[Point, Value, bytes]]:
    """Points whose registers were all read, those first that are powers of ten for others."""
    end = request.address + request.count
    found = [
        point
        for point in device.points
        if point.table is request.table and request.address <= point.address and point.end <= end
    ]
    for point in sorted(found, key=lambda point: bool(point.exponent)):
        at = point.address - request.address
        if point.table.is_bits:
            bit = data[at // 8] >> at % 8 & 1
            yield point, bit, bytes((bit,))
        else:
            payload = data[2 * at : 2 * (at + point.size)]
            yield point, point.codec.decode(payload), payload
