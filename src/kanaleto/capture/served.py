"""Which points of a site an exchange served: those whose registers or bits its request reads or writes."""

from collections.abc import Iterator

from kanaleto.capture.row import ExchangeRow
from kanaleto.site.model import Device, Line, Point, Site
from kanaleto.wire.codes import Table
from kanaleto.wire.reach import read_by, written_by


class ServedPoints:
    """Looks devices up by line and unit ID, and by name where the line is called otherwise today."""

    def __init__(self, site: Site) -> None:
        self._places = {(line.name, device.unit_id): (line, device) for line, device in site.devices()}
        self._names = {device.name: (line, device) for line, device in site.devices()}

    @property
    def timeouts_us(self) -> dict[tuple[str, int], int]:
        """By line and unit ID."""
        return {place: round(1e6 * device.timeout_s) for place, (_, device) in self._places.items()}

    def counting(self) -> Iterator[tuple[tuple[str, int], Device]]:
        """Devices that have counters of errors of their own, by line and unit ID."""
        for place, (_, device) in self._places.items():
            if any(point.counts for point in device.points):
                yield place, device

    def place_of(self, row: ExchangeRow) -> tuple[Line, Device] | None:
        """The device that was asked, where the site has it."""
        return self._places.get((row.line, row.unit_id)) or self._names.get(row.device)

    def device_of(self, row: ExchangeRow) -> Device | None:
        place = self.place_of(row)
        return place[1] if place is not None else None

    def points_of(self, row: ExchangeRow) -> list[Point]:
        """In the order of the map."""
        device, pdu = self.device_of(row), row.pdu
        if device is None or not pdu:
            return []
        items = (*read_by(pdu), *(written_by(pdu) or ()))
        return [
            point
            for point in device.points
            if any(one.table is point.table and one.first < point.end and point.address < one.end for one in items)
        ]

    def names_of(self, row: ExchangeRow) -> list[str]:
        """As Device/Point."""
        device = self.device_of(row)
        return [f"{device.name}/{point.name}" for point in self.points_of(row)] if device is not None else []


def point_at(device: Device, table: Table, address: int) -> Point | None:
    """The point that has this register or bit; the first of them where several share it."""
    return next(
        (point for point in device.points if point.table is table and point.address <= address < point.end), None
    )
