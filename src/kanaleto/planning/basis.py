"""What the requests of a device depend on beside its points: equal bases and equal points have equal requests."""

from collections.abc import Collection

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.planning.lessons import Lessons
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device, Line
from kanaleto.wire.codes import Table

_TABLES = tuple(Table)


class Basis(Struct, frozen=True):
    """The line without its devices, the device without its points, and what was learned of it; names of points that are
    switched off. Blocks hold on to these two, not to a map that has changed since."""

    line: Line
    device: Device
    most: tuple[int, ...]
    """How many items one request may ask, by table."""
    breaks: tuple[frozenset[int], ...]
    """Addresses at which a request must begin, by table."""
    holes: dict[str, str]
    """Names of points that the device does not give, and why."""
    switched_off: frozenset[str]

    @property
    def source(self) -> tuple[Link, int]:
        """Whose words are read: the same link and unit."""
        return self.line.link, self.device.unit_id

    def most_of(self, table: Table) -> int:
        return self.most[_TABLES.index(table)]

    def breaks_of(self, table: Table) -> frozenset[int]:
        return self.breaks[_TABLES.index(table)]


def basis_of(
    line: Line,
    device: Device,
    lessons: Lessons | None = None,
    switched_off: Collection[str] = (),
    before: Basis | None = None,
) -> Basis:
    """Line and device are the very ones of the basis `before` where they are equal."""
    bare_line, bare_device = replace(line, devices=()), replace(device, points=())
    if before is not None and before.line == bare_line and before.device == bare_device:
        bare_line, bare_device = before.line, before.device
    limits = device.limits
    if lessons is None:
        most, breaks = tuple([limits.most_read(table) for table in _TABLES]), (frozenset[int](),) * len(_TABLES)
    else:
        most = tuple([min(lessons.most(table), limits.most_read(table)) for table in _TABLES])
        breaks = tuple([lessons.breaks(table) for table in _TABLES])
    holes = dict(lessons.holes) if lessons is not None else {}
    return Basis(bare_line, bare_device, most, breaks, holes, frozenset(switched_off))
