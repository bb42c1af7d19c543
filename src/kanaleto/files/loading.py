"""A site read from disk, whole: an edit that was cut short is completed first, and files that somebody writes meanwhile
are read again."""

from pathlib import Path

from msgspec import Struct, field

from kanaleto.files.sitefile import MapCache, read_site
from kanaleto.files.texts import SiteTexts, Stamp
from kanaleto.files.whole import complete
from kanaleto.site.filefaults import Fault, FaultyFile
from kanaleto.site.model import Site

_AGAIN = 5  # times that files are read again which somebody writes meanwhile


class LoadedSite(Struct, frozen=True):
    """A site with the texts that it was read from, their stamps, its maps as they were read, and warnings."""

    site: Site
    warnings: tuple[Fault, ...] = ()
    texts: dict[Path, str] = field(default_factory=dict)
    stamps: dict[Path, Stamp | None] = field(default_factory=dict)
    cache: MapCache = field(default_factory=dict)


def load_site(path: Path) -> tuple[Site, list[Fault]]:
    """The site in `path`, and warnings. An edit that was cut short is completed first. Raises FaultyFile with all that
    is wrong."""
    loaded = load_whole(path)
    return loaded.site, list(loaded.warnings)


def load_whole(path: Path) -> LoadedSite:
    """As `load_site`, with what it was read from."""
    for left in reversed(range(_AGAIN)):
        complete(path)
        texts, cache = SiteTexts(), MapCache()
        try:
            site, warnings = read_site(path, texts, cache)
        except FaultyFile:
            if not left or not texts.are_torn():
                raise
        else:
            if not left or not texts.are_torn():
                return LoadedSite(site, tuple(warnings), texts.texts, texts.stamps, cache)
    raise AssertionError("the last attempt gives back or raises")
