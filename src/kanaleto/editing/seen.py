"""What the files said when they were read last, for whoever begins to edit: rows of points, keys of devices. For the
interface's thread, from texts that are replaced whole."""

from pathlib import Path

from kanaleto.files.devicetext import Said, said_of
from kanaleto.files.loading import LoadedSite
from kanaleto.files.maprows import MapText
from kanaleto.site.model import Device

_MOST_MAPS = 8


class Seen:
    """Remembers what it took apart, as long as the text is the same."""

    def __init__(self) -> None:
        self._rows: dict[Path, tuple[str, MapText]] = {}
        self._said: tuple[str, dict[str, Said]] = ("", {})

    def cells_of(self, loaded: LoadedSite, device: Device, name: str) -> dict[str, str]:
        """What the row of a point said; nothing where there is none."""
        path = device.map_path
        text = loaded.texts.get(path) if path is not None else None
        if path is None or text is None:
            return {}
        known = self._rows.get(path)
        if known is None or known[0] is not text:
            if len(self._rows) >= _MOST_MAPS:
                self._rows.clear()
            known = self._rows[path] = (text, MapText(text))
        try:
            return known[1].cells_of(name)
        except KeyError:
            return {}

    def said_of(self, loaded: LoadedSite, path: Path, device: str) -> Said | None:
        """What the site file said of a device, of its line and of the site."""
        text = loaded.texts.get(path, "")
        if self._said[0] is not text:
            self._said = (text, said_of(text))
        return self._said[1].get(device)
