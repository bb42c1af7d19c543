"""What views ask of each other, by way of the context."""

from pathlib import Path

from msgspec import Struct

from kanaleto.finding.scratch import ScratchQuestion
from kanaleto.site.links.link import Link


class ShowView(Struct, frozen=True):
    """Go to a view, by its digit; an empty one is the view that one was in last."""

    digit: str


class OpenSite(Struct, frozen=True):
    """Open a site file; no path is the demo."""

    path: Path | None


class LookAtDevice(Struct, frozen=True):
    """Look at the map of a device."""

    link: Link
    unit_id: int


class ImportFor(Struct, frozen=True):
    """Import a table for a unit at a place."""

    link: Link
    unit_id: int


class ShowMoment(Struct, frozen=True):
    """Put all views at a moment (wall, seconds), look at a point there where one is named, and go to a view."""

    wall_s: float
    identity: tuple[str, str] | None
    digit: str


class ShowExchange(Struct, frozen=True):
    """The last exchange that brought a block: of a device, by function code and address."""

    device: str
    function: int
    address: int
    count: int


class ShowPoint(Struct, frozen=True):
    """The cursor on a point in Live."""

    identity: tuple[str, str]


class ReadAgain(Struct, frozen=True):
    """Ask the same again by a scratch reading, to be changed before it goes."""

    link: Link
    question: ScratchQuestion


class PointsToBridge(Struct, frozen=True):
    """Points into registers of a composed device, in Bridge."""

    points: tuple[tuple[str, str], ...]


Request = ShowView | OpenSite | LookAtDevice | ImportFor | ShowExchange | ShowPoint | ReadAgain | PointsToBridge
