"""The files of one site while they are edited. Every change is written at once, beside and renamed, and can be undone and redone.

A site that was never saved lives in the user's data folder as files like any other, so nothing is lost on quitting; saving it copies it to
where the user wants it. A file that somebody else changed since is not overwritten by an undo: that is refused in one sentence.
"""

import shutil
from dataclasses import dataclass
from pathlib import Path
from threading import RLock

from kanaleto.site.edit import new_site_text, write_whole
from kanaleto.site.faults import FaultyFile
from kanaleto.site.model import Site
from kanaleto.site.sitefile import load_site

_MOST_STEPS = 500
NEW_NAME = "New site"


class CannotEdit(Exception):  # noqa: N818 - it reads as what it says
    """One sentence: why the files were left as they are."""


@dataclass(frozen=True, slots=True)
class Step:
    """One change: what it was, and the text of each file before and after (None where there was no file)."""

    what: str
    before: dict[Path, str | None]
    after: dict[Path, str | None]


class Workspace:
    """`path` is the site file; `is_unsaved` while it lives in the data folder. The file comes into being with the first change."""

    def __init__(self, path: Path, is_unsaved: bool = False) -> None:
        self.path = path
        self.is_unsaved = is_unsaved
        self.undone: list[Step] = []
        self.steps: list[Step] = []
        self._lock = RLock()  # one edit after the other, whichever thread it comes from

    def text(self, path: Path | None = None) -> str:
        """A file of the site as it is on disk; the site file without an argument. A new site has its name and no more."""
        path = path or self.path
        try:
            return path.read_bytes().decode("utf-8-sig")
        except FileNotFoundError:
            return new_site_text(NEW_NAME) if path == self.path else ""
        except (OSError, UnicodeDecodeError) as error:
            raise CannotEdit(f"{path} cannot be read: {error}") from None

    def change(self, what: str, texts: dict[Path, str]) -> Site:
        """Write the texts; gives the site as it is then. Raises CannotEdit, with the files as they were, when they make no sound site."""
        with self._lock:
            before = {path: self.text(path) if path.exists() else None for path in texts}
            step = Step(what, before, dict(texts))
            site = self._apply(step.after, step.before)
            self.steps.append(step)
            del self.steps[:-_MOST_STEPS]
            self.undone.clear()
            return site

    def undo(self) -> tuple[str, Site]:
        """Take the last change back; what it was, and the site then. Raises CannotEdit."""
        if not self.steps:
            raise CannotEdit("nothing was edited that could be undone")
        step = self.steps[-1]
        self._check_untouched(step.after, f"undo: {step.what}")
        site = self._apply(step.before, step.after)
        self.undone.append(self.steps.pop())
        return step.what, site

    def redo(self) -> tuple[str, Site]:
        """Do again what was undone last. Raises CannotEdit."""
        if not self.undone:
            raise CannotEdit("nothing was undone that could be done again")
        step = self.undone[-1]
        self._check_untouched(step.before, f"redo: {step.what}")
        site = self._apply(step.after, step.before)
        self.steps.append(self.undone.pop())
        return step.what, site

    def _check_untouched(self, texts: dict[Path, str | None], what: str) -> None:
        for path, text in texts.items():
            now = self.text(path) if path.exists() else None
            if now != text:
                raise CannotEdit(f"{path.name} was edited by somebody else since, so it is left as it is ({what})")

    def _apply(self, texts: dict[Path, str | None], instead: dict[Path, str | None]) -> Site:
        try:
            self._write(texts)
            if not self.path.exists():
                return Site(NEW_NAME, (), None)
            site, _ = load_site(self.path)
        except OSError as error:
            self._write_back(instead)
            raise CannotEdit(f"{error.filename or self.path} cannot be written: {error.strerror}") from None
        except FaultyFile as faulty:
            self._write_back(instead)
            fault = faulty.faults[0]
            raise CannotEdit(f"not taken: {fault.text} ({fault.file.name}, line {fault.line})") from None
        return site

    def _write(self, texts: dict[Path, str | None]) -> None:
        for path, text in sorted(texts.items(), key=lambda item: item[0] == self.path):  # maps first: the site file names them
            if text is None:
                path.unlink(missing_ok=True)
            else:
                path.parent.mkdir(parents=True, exist_ok=True)
                write_whole(path, text)

    def _write_back(self, texts: dict[Path, str | None]) -> None:
        try:
            self._write(texts)
        except OSError:
            return  # a disk that takes no more cannot be helped; each file is whole all the same

    def save_as(self, path: Path) -> Site:
        """Copy the site file and its maps to `path` and go on there. Raises CannotEdit."""
        if path.exists():
            raise CannotEdit(f"{path} is there already; name another file")
        if path.suffix != ".toml":
            raise CannotEdit(f"a site file ends in .toml; save it as {path.name}.toml")
        source = self.path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            site = load_site(source)[0] if source.exists() else None
            maps = {device.map_path for _, device in site.devices() if device.map_path} if site is not None else set()
            for own in sorted(maps):
                if own.is_relative_to(source.parent):
                    target = path.parent / own.relative_to(source.parent)
                    if target.exists():
                        raise CannotEdit(f"{target} is there already; save the site in a folder of its own")
            for own in sorted(maps):
                if own.is_relative_to(source.parent):
                    target = path.parent / own.relative_to(source.parent)
                    target.parent.mkdir(parents=True, exist_ok=True)
                    shutil.copyfile(own, target)
            text = self.text()
            write_whole(path, text.replace(f'name = "{NEW_NAME}"', f'name = "{_title(path)}"', 1))
        except OSError as error:
            raise CannotEdit(f"{error.filename or path} cannot be written: {error.strerror}") from None
        if self.is_unsaved:
            shutil.rmtree(source.parent, ignore_errors=True)
        self.path, self.is_unsaved = path, False
        self.steps.clear()
        self.undone.clear()
        return load_site(path)[0]


def _title(path: Path) -> str:
    return path.stem.replace("-", " ").replace("_", " ").capitalize()
