"""Where Kanaleto keeps what is not part of a site: the sites opened lately, and those that were never saved."""

import json
import os
from datetime import datetime
from pathlib import Path

from msgspec import Struct
from platformdirs import user_data_path, user_state_path

from kanaleto.files.texts import read_json
from kanaleto.files.whole import write_whole

_MOST_RECENT = 12
_MOST_HEADINGS = 500
_SITE_FILE = "site.toml"


class Places(Struct, frozen=True):
    """`data` holds unsaved sites, `state` the list of recent ones."""

    data: Path
    state: Path

    @classmethod
    def of_user(cls) -> "Places":
        return cls(user_data_path("kanaleto"), user_state_path("kanaleto"))

    def recent(self) -> list[Path]:
        """Site files opened lately that are still there, the last one first."""
        kept = read_json(self.state / "recent.json")
        texts = [text for text in kept if isinstance(text, str)] if isinstance(kept, list) else []
        return [Path(text) for text in texts if os.path.isfile(text)]

    def note_recent(self, path: Path) -> None:
        """Put a site file first; a folder that cannot be written is no reason to fail."""
        path = path.absolute()
        paths = [path, *(other for other in self.recent() if other != path)][:_MOST_RECENT]
        try:
            self.state.mkdir(parents=True, exist_ok=True)
            write_whole(self.state / "recent.json", json.dumps([str(one) for one in paths]) + "\n")
        except OSError:
            return

    def maps(self) -> list[str]:
        """Names in the library of maps."""
        return sorted(path.stem for path in (self.data / "maps").glob("*.csv"))

    def map_path(self, name: str) -> Path:
        """Where the library has, or will have, a map of that name."""
        return self.data / "maps" / f"{name.strip()}.csv"

    def headings(self) -> dict[str, str]:
        """Fields by heading, as they were corrected by hand."""
        kept = read_json(self.state / "headings.json")
        return {str(key): str(value) for key, value in kept.items()} if isinstance(kept, dict) else {}

    def note_heading(self, heading: str, name: str) -> None:
        """Remember one; a folder that cannot be written is no reason to fail."""
        kept = dict(list((self.headings() | {heading: name}).items())[-_MOST_HEADINGS:])
        try:
            self.state.mkdir(parents=True, exist_ok=True)
            write_whole(self.state / "headings.json", json.dumps(kept, ensure_ascii=False) + "\n")
        except OSError:
            return

    def unsaved(self) -> list[Path]:
        """Site files that were never saved, the newest first."""
        try:
            return sorted(
                (path for path in (self.data / "unsaved").glob(f"*/{_SITE_FILE}") if path.is_file()), reverse=True
            )
        except OSError:
            return []

    def new_unsaved(self) -> Path:
        """Where a new site may live until it is saved; nothing is made there yet."""
        name = f"{datetime.now():%Y%m%d-%H%M%S-%f}"
        return self.data / "unsaved" / name / _SITE_FILE
