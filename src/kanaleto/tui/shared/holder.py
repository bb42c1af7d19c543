"""The site file that is open, the ones that could be, and the demo while it runs."""

import re
from pathlib import Path

from kanaleto.demo.start import CannotStart, Demo
from kanaleto.site.model import Site
from kanaleto.site.places import Places
from kanaleto.site.sitefile import load_site
from kanaleto.site.workspace import CannotEdit, Workspace


class SiteHolder:
    """`site` is what is open at the start; without a path it lives in the data folder from its first edit on."""

    def __init__(self, site: Site, places: Places | None = None) -> None:
        self.demo: Demo | None = None
        self._places = places or Places.of_user()
        self._workspace = self._workspace_of(site.path)
        self._recent = self._places.recent()
        self._unsaved = self._places.unsaved()

    def _workspace_of(self, path: Path | None) -> Workspace:
        if path is None:
            return Workspace(self._places.new_unsaved(), is_unsaved=True)
        is_unsaved = path.parent.parent == self._places.data / "unsaved"
        if not is_unsaved and not self._is_demo(path):
            self._places.note_recent(path)
        return Workspace(path, is_unsaved)

    def _is_demo(self, path: Path) -> bool:
        return path.parent.name.startswith("kanaleto-demo-")

    def workspace(self) -> Workspace:
        return self._workspace

    @property
    def is_unsaved(self) -> bool:
        return self._workspace.is_unsaved

    @property
    def is_demo(self) -> bool:
        """Whether the demo is what is open."""
        return self._is_demo(self._workspace.path)

    def headings(self) -> dict[str, str]:
        return self._places.headings()

    def remember_heading(self, heading: str, name: str) -> None:
        self._places.note_heading(heading, name)

    def map_path(self, text: str) -> Path:
        """A file that was typed; a bare name is one of the library."""
        if re.fullmatch(r"[^/\\.~]+", text.strip()):
            return self._places.map_path(text)
        return Path(text.strip()).expanduser()

    def library(self) -> list[str]:
        return self._places.maps()

    def recent(self) -> list[Path]:
        return self._recent

    def unsaved(self) -> list[Path]:
        return self._unsaved

    def open(self, path: Path | None) -> Site:
        """A site file, or the demo, its devices started. Raises FaultyFile, CannotStart."""
        if path is None:
            self.demo = Demo()
            try:
                self.demo.__enter__()
            except CannotStart:
                self.demo = None
                raise
            path = self.demo.site_path
        site, _ = load_site(path)
        self._workspace = self._workspace_of(path)
        return site

    def new(self) -> Site:
        """Nothing open; the one before stays as it is."""
        self._workspace = self._workspace_of(None)
        self._unsaved = self._places.unsaved()
        return Site("New site", ())

    def save_as(self, text: str) -> Site:
        """Raises CannotEdit."""
        if not text.strip():
            raise CannotEdit("name a file, as in ~/sites/pump-house.toml")
        path = Path(text.strip()).expanduser().absolute()
        if not path.suffix:
            path = path.with_suffix(".toml")
        site = self._workspace.save_as(path)
        self._places.note_recent(path)
        return site

    def close(self) -> None:
        if self.demo is not None:
            self.demo.__exit__(None, None, None)
            self.demo = None
