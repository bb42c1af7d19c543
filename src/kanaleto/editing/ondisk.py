"""The files of the open site as they are on disk, or as they would be after an edit."""

import os
from pathlib import Path

from kanaleto.editing.steps import Texts
from kanaleto.editing.workingcopy import CannotEdit
from kanaleto.files.loading import LoadedSite
from kanaleto.files.sitefile import MapCache, read_site
from kanaleto.files.texts import CannotRead, SiteTexts, Stamp, read_bounded, stamp
from kanaleto.site.filefaults import FaultyFile

_AGAIN = 20  # times that files are read again which somebody writes meanwhile


class SiteReader:
    """Reads a site again and again; maps that have not changed are not read again. `faulty` has the stamps of files
    that were not sound when they were read last."""

    def __init__(self, cache: MapCache) -> None:
        self._cache = dict(cache)
        self.faulty: dict[Path, Stamp | None] = {}

    def read(self, path: Path, overlay: Texts | None = None) -> LoadedSite:
        """Raises FaultyFile."""
        for left in reversed(range(_AGAIN)):
            texts = SiteTexts(overlay)
            try:
                site, _ = read_site(path, texts, self._cache)
            except FaultyFile:
                if left and texts.are_torn():
                    continue
                if overlay is None:
                    self.faulty = texts.stamps
                raise
            if not left or not texts.are_torn():
                break
        used = set(texts.texts)
        self._cache = {key: value for key, value in self._cache.items() if key[0] in used}
        return LoadedSite(site, texts=texts.texts, stamps=texts.stamps)


def differ(stamps: dict[Path, Stamp | None]) -> bool:
    return any(stamp(path) != seen for path, seen in stamps.items())


def text_or_none(now: LoadedSite, path: Path) -> str | None:
    text = now.texts.get(path)
    return text if text is not None else on_disk(path)


def text_of(now: LoadedSite, path: Path) -> str:
    return text_or_none(now, path) or ""


def on_disk(path: Path) -> str | None:
    """A file of the site that is not part of it yet; None where there is none."""
    try:
        return read_bounded(path).decode("utf-8-sig") if os.path.lexists(path) else None
    except CannotRead as error:
        raise CannotEdit(f"{path} {error}") from None
    except UnicodeDecodeError:
        raise CannotEdit(f"{path} is not UTF-8 text") from None


def first_fault(faulty: FaultyFile, names_only: bool = False) -> str:
    fault = faulty.faults[0]
    more = f", and {len(faulty.faults) - 1} more" if len(faulty.faults) > 1 else ""
    return f"{fault.text} ({fault.file.name}, line {fault.line})" if names_only else f"{fault}{more}"


def title_of(path: Path) -> str:
    """What a site is called by its file."""
    return path.stem.replace("-", " ").replace("_", " ").capitalize()
