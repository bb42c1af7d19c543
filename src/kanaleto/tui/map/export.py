"""What goes out of a map: rows for the clipboard, and files for others."""

from collections.abc import Collection, Iterable
from pathlib import Path

from kanaleto.board.snapshot import Snapshot
from kanaleto.planning.plan import Place
from kanaleto.site.links.link import Link
from kanaleto.site.model import Device
from kanaleto.tables.maps import as_csv, as_json, as_workbook
from kanaleto.tables.things import as_thing
from kanaleto.tui.shared.readings import value_text


def rows_as_text(snapshot: Snapshot, places: Iterable[Place], marked: Collection[str]) -> str:
    """The points that are marked, or all, as a table with their words and values."""
    lines = ["name\ttable\taddress\ttype\twords\tvalue"]
    for place in places:
        point = place.point
        if marked and point.name not in marked:
            continue
        reading = snapshot.reading(place)
        words = reading.data.hex(" ", 2).upper()
        lines.append(
            "\t".join(
                (point.name, point.table.value, str(point.address), str(point.codec), words, value_text(point, reading))
            )
        )
    return "\n".join(lines) + "\n"


def as_file(path: Path, device: Device, link: Link) -> bytes:
    """The map in the form that the file's name tells. Raises ValueError."""
    name = path.name.lower()
    if name.endswith(".td.json"):
        return as_thing(device, link).encode()
    if name.endswith(".csv"):
        return as_csv(device).encode()
    if name.endswith(".json"):
        return as_json(device).encode()
    if name.endswith(".xlsx"):
        return as_workbook(device)
    raise ValueError(f"{path.name} does not tell its form; end it in .csv, .xlsx, .json or .td.json")
