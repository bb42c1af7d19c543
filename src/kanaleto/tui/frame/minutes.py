"""The lanes by the minute: what lines were like in the hours and days before, from memory and from the record."""

from threading import Thread

from kanaleto.board.health import MinuteLevel
from kanaleto.board.snapshot import Snapshot
from kanaleto.files.beside import folder_beside
from kanaleto.tui.shared.context import Context
from kanaleto.tui.shared.words import clock_text

_MINUTE_S = 60.0
_DAY = 1440
_ASK_MORE = 720
RECORD = "record.db"


class LaneMinutes:
    """`last` is the last minute shown (of wall time), None while lanes show the last minute by half seconds."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self.last: int | None = None
        self.marked: int | None = None
        """The minute that all views are at."""
        self._recorded: dict[str, dict[int, MinuteLevel]] = {}
        self._asked: tuple[str, int, int] | None = None

    def step(self, step: int, width: int, now: float) -> str:
        """Earlier (-1) or later (1) by half a screen; what is to be reported of it."""
        this = int(now // _MINUTE_S)
        if self.last is None:
            if step > 0:
                return "the lanes show the last minute; < shows them by the minute"
            self.last = this
        else:
            self.last += step * max(width // 2, 1)
            if self.last >= this + max(width // 2, 1):
                self.go_live()
                return "the lanes show the last minute again"
            self.last = min(self.last, this)
        return ""

    def look_at(self, moment: float, width: int, now: float) -> None:
        self.marked = int(moment // _MINUTE_S)
        self.last = min(self.marked + width // 2, int(now // _MINUTE_S))

    def go_live(self) -> None:
        self.last = self.marked = None

    def levels(self, snapshot: Snapshot, line: str, count: int) -> list[MinuteLevel | None]:
        """The last `count` minutes up to `last`, oldest first; None where nothing is known."""
        assert self.last is not None
        session = self._context.engine.session
        of_session = session.minutes_of(line)
        first = self.last - count + 1
        recorded = self._recorded.get(line, {})
        if not of_session or first < min(of_session):
            self._ask(snapshot, first)
        return [of_session.get(minute) or recorded.get(minute) for minute in range(first, self.last + 1)]

    def text(self, count: int) -> str:
        assert self.last is not None
        begin, end = (self.last - count + 1) * _MINUTE_S, (self.last + 1) * _MINUTE_S
        return f"{clock_text(begin)[:5]} … {clock_text(end)[:5]}, by the minute"

    def _ask(self, snapshot: Snapshot, first: int) -> None:
        path = snapshot.site.path
        if path is None:
            return
        store = str(folder_beside(path) / RECORD)
        if self._asked is not None and self._asked[0] == store and self._asked[1] <= first <= self._asked[2]:
            return
        begin, end = first - _ASK_MORE, first + _DAY
        self._asked = (store, begin, end)
        Thread(target=self._read, args=(store, snapshot.site.name, begin, end), name="minutes", daemon=True).start()

    def _read(self, store: str, site: str, begin: int, end: int) -> None:
        from kanaleto.history.minutelevels import recorded_minutes  # a database is not needed at the start

        found = recorded_minutes(store, site, begin * _MINUTE_S, (end + 1) * _MINUTE_S)

        def take() -> None:
            self._recorded = found

        self._context.later(take)
