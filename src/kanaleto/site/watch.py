"""Notices that a site file, or a map that it names, was edited on disk."""

from pathlib import Path

from kanaleto.site.model import Site
from kanaleto.site.sitefile import load_site

_Stamp = tuple[int, int]


class SiteFiles:
    """The files of a site, as they were when it was read."""

    def __init__(self, site: Site) -> None:
        self._path = site.path
        self._seen = _stamps(site)

    def have_changed(self) -> bool:
        """Whether a file is another than when this was asked last."""
        now = {path: _stamp(path) for path in self._seen}
        changed, self._seen = now != self._seen, now
        return changed

    def load(self) -> Site:
        """The site as it is on disk now. Raises FaultyFile."""
        assert self._path is not None
        site, _ = load_site(self._path)
        self._seen = _stamps(site)
        return site


def _stamps(site: Site) -> dict[Path, _Stamp | None]:
    if site.path is None:
        return {}
    maps = {device.map_path for _, device in site.devices() if device.map_path is not None}
    return {path: _stamp(path) for path in (site.path, *maps)}


def _stamp(path: Path) -> _Stamp | None:
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_mtime_ns, status.st_size
