"""What Wire lists: the exchanges of the open site, or of a capture that somebody opened; all, or those that fit."""

from collections.abc import Callable, Sequence
from pathlib import Path

from kanaleto.capture.filter import FAILED, ExchangeFilter, parse_filter
from kanaleto.capture.ranked import RankedRows
from kanaleto.capture.reel import Reel, Search
from kanaleto.capture.seam import Seam
from kanaleto.events.filtering import FilterFault
from kanaleto.tui.shared.context import Context
from kanaleto.tui.wire_view.listed import Listed
from kanaleto.tui.wire_view.rows import KnownPlaces


class Source:
    """For the interface's thread. `on_news` is called on another one."""

    def __init__(self, context: Context, on_news: Callable[[], None]) -> None:
        self._context, self._on_news = context, on_news
        self.capture: Path | None = context.capture
        self.places = KnownPlaces(context.snapshot.site)
        self.fault = ""
        """Why what was typed is no filter."""
        self.text = ""
        self.only_failed = False
        self.shown_rows = ""
        """What is said of the few rows that are listed, where they were chosen by a finding."""
        self._chosen: tuple[str, frozenset[int]] = ("", frozenset())
        self._version = -1
        self._reel: Reel | None = None
        self._of: tuple[Path | None, Path | None] | None = None
        self._search: Search | None = None

    @property
    def reel(self) -> Reel:
        """Of what is open now."""
        folder = self._context.keeping.seam.folder
        of = (self.capture, folder)
        if self._reel is None or of != self._of:
            if self._reel is not None:
                self._reel.close()
            self._of = of
            engine, keeping = self._context.engine, self._context.keeping
            if self.capture is not None:
                self._reel = Reel(self.capture, None, self._on_news)
            else:
                self._reel = Reel(
                    folder, lambda: (_seam(keeping.seam, folder), [*engine.session.exchanges]), self._on_news
                )
            self._begin_search()
        return self._reel

    def follow_site(self) -> bool:
        """The site as it stands now says who and where; whether it is another one than a moment ago."""
        snapshot = self._context.snapshot
        if snapshot.version == self._version:
            return False
        self._version = snapshot.version
        self.places = KnownPlaces(snapshot.site)
        return True

    @property
    def kept_at(self) -> Path | None:
        """The capture, or the folder of the tape; None where nothing is on disk."""
        return self.capture if self.capture is not None else self._context.keeping.seam.folder

    @property
    def ranked(self) -> RankedRows:
        reel = self.reel
        return self._search.ranked if self._search is not None else reel.newest

    @property
    def listed(self) -> Listed:
        return Listed(self.reel, self.ranked)

    @property
    def is_narrowed(self) -> bool:
        """Whether only some are listed."""
        return self._search is not None

    @property
    def notice(self) -> str:
        """What is under way."""
        search, reel = self._search, self.reel
        if reel.trouble:
            return reel.trouble
        if reel.is_opening and self.capture is not None:
            return f"reading, {reel.copied:,} exchanges so far"
        if search is not None and not search.is_over and search.of:
            return f"looked at {100 * search.looked_at // search.of} %"
        return ""

    @property
    def damage(self) -> str:
        """What of a capture could not be read, in one sentence."""
        damaged = self.reel.damaged
        more = f"; and {len(damaged) - 1} more of the kind: kanaleto wire tells them" if len(damaged) > 1 else ""
        return f"{damaged[0]}{more}" if damaged else ""

    def look_for(self, text: str, only_failed: bool) -> None:
        """List what fits; where the text is no filter, `fault` says why and the list stays."""
        if (text, only_failed) == (self.text, self.only_failed) and not self.fault and not self.shown_rows:
            return
        self.shown_rows, self._chosen = "", ("", frozenset())
        counts_as_wire, places = self._context.counts_as_wire, self.places
        try:
            parse_filter(text, places.served.names_of, lambda row: places.text_of(row, counts_as_wire))
            self.fault = ""
        except FilterFault as fault:
            self.fault = str(fault)
            return
        self.text, self.only_failed = text, only_failed
        self._begin_search()

    @property
    def wanted(self) -> ExchangeFilter:
        """What fits the filter, and only what failed where that is on."""
        counts_as_wire, places = self._context.counts_as_wire, self.places
        wanted = parse_filter(self.text, places.served.names_of, lambda row: places.text_of(row, counts_as_wire))
        wanted = wanted.narrowed(FAILED) if self.only_failed else wanted
        line, rows = self._chosen
        return wanted.narrowed(None, min(rows), max(rows) + 1, lambda row: row.line == line and row.at_us in rows) if (
            rows) else wanted  # fmt: skip

    def show_rows(self, text: str, line: str, rows: Sequence[int]) -> None:
        """List those that began then, and no others; all again where there are none."""
        self.text, self.only_failed, self.fault = "", False, ""
        self.shown_rows, self._chosen = text, (line, frozenset(rows))
        self._begin_search()

    def _begin_search(self) -> None:
        if self._reel is None:
            return
        wanted = self.wanted
        if wanted.is_open:
            self._search = None
            self._reel.end_search()
        else:
            self._search = self._reel.search(wanted)

    def open(self, capture: Path | None) -> None:
        """A capture, or the open site again."""
        self.capture = capture
        self._context.reading_from = capture.name if capture is not None else ""

    def close(self) -> None:
        if self._reel is not None:
            self._reel.close()


def _seam(seam: Seam, folder: Path | None) -> Seam:
    """That of the folder that is read; another site's says nothing of it."""
    return seam if seam.folder == folder else Seam(number=1 << 62, folder=folder)
