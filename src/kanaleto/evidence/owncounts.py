"""How the counters that devices have of their own (points with `counts`) grew over a span, beside what failed here, as
far as they were read in it."""

from collections.abc import Iterable

from msgspec import Struct

from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.served import ServedPoints
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Device, Point
from kanaleto.wire.codes import Table

_TABLES = {3: Table.HOLDING, 4: Table.INPUT}


class _Growth(Struct):
    first: float
    last: float
    grown: float = 0.0
    begun_again: int = 0


class OwnCounts:
    """Feed it rows in order. Memory is a few numbers for each such point."""

    def __init__(self, served: ServedPoints | None) -> None:
        self._wanted: dict[tuple[str, int], tuple[Device, list[Point]]] = {}
        for place, device in served.counting() if served is not None else ():
            self._wanted[place] = device, [point for point in device.points if point.counts]
        self._growths: dict[tuple[str, str], _Growth] = {}
        self._failed: dict[str, int] = {}

    def add(self, row: ExchangeRow) -> None:
        found = self._wanted.get((row.line, row.unit_id))
        if found is None:
            return
        device, points = found
        if row.kind is not OutcomeKind.GOOD:
            self._failed[device.name] = self._failed.get(device.name, 0) + 1
            return
        pdu = row.pdu
        table = _TABLES.get(pdu[0]) if len(pdu) == 5 else None
        if table is None:
            return
        first, data = int.from_bytes(pdu[1:3]), row.answer_pdu[2:]
        for point in points:
            begin = 2 * (point.address - first)
            raw = data[begin : begin + 2 * point.size] if begin >= 0 else b""
            if point.table is table and len(raw) == 2 * point.size and point.size:
                value = point.codec.decode(raw)
                if isinstance(value, int | float):
                    self._note((device.name, point.name), float(value))

    def _note(self, identity: tuple[str, str], value: float) -> None:
        growth = self._growths.get(identity)
        if growth is None:
            self._growths[identity] = _Growth(value, value)
            return
        step = value - growth.last
        growth.grown += step if step >= 0 else value
        growth.begun_again += step < 0
        growth.last = value

    def sentences(self) -> Iterable[str]:
        """A sentence for each that grew, or stood still while exchanges failed here."""
        for (device, name), growth in self._growths.items():
            failed = self._failed.get(device, 0)
            if growth.grown:
                times = "once" if growth.begun_again == 1 else f"{growth.begun_again} times"
                again = f", began again {times}" if growth.begun_again else ""
                what = f"went from {growth.first:g} to {growth.last:g} (+{growth.grown:g}{again})"
                yield f"{device}: its own {name} {what}, while {failed} of its exchanges failed here."
            elif failed:
                lost = f"{failed} of its exchanges failed here: requests came whole, or not at all"
                yield f"{device}: its own {name} stood still at {growth.last:g}, while {lost}."
