"""What views ask of each other, by way of the context."""

from pathlib import Path

from msgspec import Struct

from kanaleto.site.link import Link


class ShowView(Struct, frozen=True):
    """Go to a view, by its digit."""

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


Request = ShowView | OpenSite | LookAtDevice | ImportFor
