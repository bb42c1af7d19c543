"""What an edit works on: the site as it is on disk now, and the texts that it makes of it. Nothing is written here."""

from collections.abc import Callable
from pathlib import Path

from kanaleto.files.maprows import MapText, map_text
from kanaleto.files.sitetext import new_site_text
from kanaleto.site.model import Device, Line, Site

NEW_NAME = "New site"


class CannotEdit(Exception):
    """One sentence: why the files were left as they are."""


class Clash(CannotEdit):
    """Somebody else changed the same meanwhile. The edit may be asked for again with `anyway`."""


class Draft:
    """`site` is what the files said before this edit, `path` the site file. `text` reads, `put` changes. `anyway` when
    the user was warned of a clash and wants the edit all the same."""

    def __init__(self, path: Path, site: Site, read: Callable[[Path], str], anyway: bool = False) -> None:
        self.path = path
        self.site = site
        self.anyway = anyway
        self.changed: dict[Path, str] = {}
        self._read = read

    def text(self, path: Path | None = None) -> str:
        """A file of the site with what this edit has changed so far; a new site has its name and no more, a new map
        nothing."""
        path = path or self.path
        if path in self.changed:
            return self.changed[path]
        text = self._read(path)
        return text or (new_site_text(NEW_NAME) if path == self.path else "")

    def put(self, text: str, path: Path | None = None) -> None:
        self.changed[path or self.path] = text

    def rows(self, path: Path) -> MapText:
        """A map as its rows."""
        return map_text(self.text(path))

    def device(self, name: str) -> Device:
        """Raises CannotEdit."""
        for _, device in self.site.devices():
            if device.name == name:
                return device
        raise CannotEdit(f"there is no device {name!r} any more, so nothing was changed")

    def line(self, name: str) -> Line:
        """Raises CannotEdit."""
        for line in self.site.lines:
            if line.name == name:
                return line
        raise CannotEdit(f"there is no line {name!r} any more, so nothing was changed")

    def map_of(self, device_name: str) -> Path:
        """Raises CannotEdit."""
        path = self.device(device_name).map_path
        if path is None:
            raise CannotEdit(f"{device_name} has no map yet")
        return path


Edit = Callable[[Draft], str]
"""Changes a draft, and says in a few words what it did. Raises CannotEdit or ValueError with one sentence."""
