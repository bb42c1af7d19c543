"""The sites that could be opened, the library of maps, and the demo while it runs."""

import re
from pathlib import Path

from kanaleto.demo.start import CannotStart, Demo, is_demo
from kanaleto.editing.presence import others_at
from kanaleto.editing.userfiles import Places
from kanaleto.editing.workingcopy import CannotEdit


class SiteHolder:
    """What is open itself stands behind the door."""

    def __init__(self, places: Places | None = None) -> None:
        self.demo: Demo | None = None
        self.places = places or Places.of_user()
        self._recent: list[Path] = []
        self._unsaved: list[tuple[Path, str]] = []
        self.refresh()

    def refresh(self) -> None:
        """Look at what there is to open."""
        self._recent = self.places.recent()
        unsaved = []
        for path in self.places.unsaved():
            others = others_at(path)
            unsaved.append((path, f"open elsewhere: {others[0]}" if others else ""))
        self._unsaved = unsaved

    def where_new(self) -> Path:
        """Where a new site may live until it is saved."""
        return self.places.new_unsaved()

    def is_unsaved(self, path: Path) -> bool:
        return path.parent.parent == self.places.data / "unsaved"

    def note_opened(self, path: Path) -> None:
        """Remember what was opened, but for what is never saved."""
        if not self.is_unsaved(path) and not is_demo(path):
            self.places.note_recent(path)

    def headings(self) -> dict[str, str]:
        return self.places.headings()

    def remember_heading(self, heading: str, name: str) -> None:
        self.places.note_heading(heading, name)

    def map_path(self, text: str) -> Path:
        """A file that was typed; a bare name is one of the library. Raises ValueError."""
        if re.fullmatch(r"[^/\\.~]+", text.strip()):
            return self.places.map_path(text)
        return expanded(text)

    def beside(self, text: str, site: Path | None) -> Path | None:
        """A file that was typed as it stands beside the site, or in its folder of maps; None where there is none."""
        name = text.strip()
        if site is None or not name or name.startswith(("~", "/")):
            return None
        try:
            return next((path for path in (site.parent / name, site.parent / "maps" / name) if path.is_file()), None)
        except (OSError, ValueError):
            return None

    def library(self) -> list[str]:
        return self.places.maps()

    def recent(self) -> list[Path]:
        return self._recent

    def unsaved(self) -> list[tuple[Path, str]]:
        """Site files that were never saved, the newest first, each with who else has it open."""
        return self._unsaved

    def start_demo(self) -> Path:
        """Start the demo's devices; gives its site file. Raises CannotStart."""
        if self.demo is not None:
            return self.demo.site_path
        self.demo = Demo()
        try:
            self.demo.__enter__()
        except CannotStart:
            self.demo = None
            raise
        return self.demo.site_path

    def save_path(self, text: str) -> Path:
        """Where a site is to be saved, from what was typed. Raises CannotEdit."""
        if not text.strip():
            raise CannotEdit("name a file, as in ~/sites/pump-house.toml")
        try:
            path = expanded(text).absolute()
        except ValueError as error:
            raise CannotEdit(str(error)) from None
        return path if path.suffix else path.with_suffix(".toml")

    def close(self) -> None:
        if self.demo is not None:
            self.demo.__exit__(None, None, None)
            self.demo = None


def expanded(text: str) -> Path:
    """A path that was typed, ~ and ~NAME included. Raises ValueError."""
    try:
        return Path(text.strip()).expanduser()
    except RuntimeError:
        raise ValueError(f"{text.strip()}: there is no home folder of that name") from None
