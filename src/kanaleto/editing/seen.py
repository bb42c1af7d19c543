"""What the files said when they were read last, for whoever begins to edit: rows of points, keys of devices. For the
interface's thread, from texts that are replaced whole."""

from pathlib import Path

from kanaleto.files.devicetext import Said, said_of
from kanaleto.files.loading import LoadedSite
from kanaleto.files.maprows import MapTexts
from kanaleto.site.model import Device


class SeenFiles:
    """Remembers what it took apart, as long as the text is the same."""

    def __init__(self, map_texts: MapTexts) -> None:
        self._map_texts = map_texts
        self._said: tuple[str, dict[str, Said]] = ("", {})

    def cells_of(self, loaded: LoadedSite, device: Device, name: str) -> dict[str, str]:
        """What the row of a point said; nothing where there is none."""
        path = device.map_path
        text = loaded.texts.get(path) if path is not None else None
        if path is None or text is None:
            return {}
        try:
            return self._map_texts.of(path, text).cells_of(name)
        except KeyError:
            return {}

    def said_of(self, loaded: LoadedSite, path: Path, device: str) -> Said | None:
        """What the site file said of a device, of its line and of the site."""
        text = loaded.texts.get(path, "")
        if self._said[0] is not text:
            self._said = (text, said_of(text))
        return self._said[1].get(device)
