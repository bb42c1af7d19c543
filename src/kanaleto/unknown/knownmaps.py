"""Maps of the library that know a device by what it says of itself: where they have registers is looked at first."""

import re
from collections.abc import Iterable
from pathlib import Path

from kanaleto.editing.userfiles import Places
from kanaleto.files.mapfaults import MapDefaults
from kanaleto.files.mapfile import read_map
from kanaleto.files.texts import read_text
from kanaleto.site.filefaults import FaultyFile
from kanaleto.wire.codes import Table

KnownSpan = tuple[Table, int, int]
"""Table, first and last address."""

_LEAST_WORD = 3
_MOST_MAPS = 500


class KnownMaps:
    """The maps of a library, by the words of their names; read when a device first says something that fits."""

    def __init__(self, places: Places | None = None) -> None:
        self._places = places or Places.of_user()
        self._spans: dict[str, list[KnownSpan]] = {}

    def fitting(self, says: str) -> str:
        """The map whose name a device says, or nothing; of several the one with the longest name."""
        said = set(_words(says))
        names = [name for name in self._names() if (words := _words(name)) and said.issuperset(words)]
        return max(names, key=len, default="")

    def _names(self) -> list[str]:
        try:
            return self._places.maps()[:_MOST_MAPS]
        except OSError:
            return []

    def spans(self, says: str) -> list[KnownSpan]:
        """Where that map has registers; nothing where there is none, or it cannot be read."""
        name = self.fitting(says) if says else ""
        if name and name not in self._spans:
            self._spans[name] = _spans_of(self._places.map_path(name))
        return self._spans.get(name, [])


def _words(text: str) -> list[str]:
    return [word for word in re.split(r"[^0-9a-z]+", text.casefold()) if len(word) >= _LEAST_WORD]


def _spans_of(path: Path) -> list[KnownSpan]:
    try:
        points, _ = read_map(path, read_text(path), MapDefaults())
    except FaultyFile:
        return []
    return joined((point.table, point.address, point.end - 1) for point in points)


def joined(spans: Iterable[KnownSpan]) -> list[KnownSpan]:
    """Spans that follow each other as one."""
    found: list[KnownSpan] = []
    for table, first, last in sorted(spans, key=lambda span: (span[0].value, span[1], span[2])):
        if found and found[-1][0] is table and first <= found[-1][2] + 1:
            found[-1] = (table, found[-1][1], max(found[-1][2], last))
        else:
            found.append((table, first, last))
    return found
