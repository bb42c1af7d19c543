"""What views ask of each other, by way of the context."""

from dataclasses import dataclass
from pathlib import Path

from kanaleto.site.link import Link


@dataclass(frozen=True, slots=True)
class ShowView:
    """Go to a view, by its digit."""

    digit: str


@dataclass(frozen=True, slots=True)
class OpenSite:
    """Open a site file; no path is the demo."""

    path: Path | None


@dataclass(frozen=True, slots=True)
class LookAtDevice:
    """Look at the map of a device."""

    link: Link
    unit_id: int


@dataclass(frozen=True, slots=True)
class ImportFor:
    """Import a table for a unit at a place."""

    link: Link
    unit_id: int


Request = ShowView | OpenSite | LookAtDevice | ImportFor
