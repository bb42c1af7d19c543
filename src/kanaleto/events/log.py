"""What happened: a bounded ring of events, reported once and not every cycle. What goes on is counted on the event that
it began with, and has an end.

A spell is what comes now and then: it goes on while the same comes again within a minute, and ended when it came last.
"""

import threading
from collections import deque
from collections.abc import Callable
from enum import Enum

from msgspec import Struct

SPELL_S = 60.0
_KEPT = 1000
_MOST_GOING_ON = 10_000


class EventKind(Enum):
    """The value is the word used in files and on screens."""

    RUN = "run"
    SITE = "site"
    EDIT = "edit"
    RENAME = "rename"
    NOTE = "note"
    CLOCK = "clock"
    RECORDING = "recording"
    KEEPING = "keeping"
    ASIDE = "laid aside"
    LINE_DOWN = "line down"
    DEVICE_LOST = "device lost"
    DEVICE_SLOW = "device slow"
    UNANSWERED = "unanswered"
    LEARNED = "learned"
    EXCEPTION = "exception"
    GARBLED = "garbled"
    STRANGE = "unexpected"
    LATE = "late"
    OVERRUN = "overrun"
    GATEWAY = "gateway"
    WATCHDOG = "watchdog"
    CLIENT = "client refused"
    LIMIT = "limit"
    SEEN = "limit seen"
    WRITE = "write"
    LOCK = "lock"
    KEPT_ALIVE = "kept alive"
    PULSE = "pulse"
    OWED = "owed"
    ROUTINE = "routine"
    KNOWN = "device known"
    BRIDGED = "bridged write"
    FAULT = "fault"


class Ended(Enum):
    """How what went on came to its end."""

    OVER = "over"
    NO_MORE = "no more"  # its device, line or point was taken out of the site
    QUIT = "quit"  # it went on when the program ended
    UNKNOWN = "unknown"  # the program ended without a word


class Event(Struct):
    """`device` is empty for what is about a whole line, `point` for what is about a whole device. Times are wall times;
    `count` is how often until `last_wall_s`. What goes on has no end yet; what happened at a moment ended there."""

    number: int
    kind: EventKind
    wall_s: float
    line: str
    device: str
    text: str
    count: int = 1
    last_wall_s: float = 0.0
    ended_wall_s: float | None = None
    how: Ended = Ended.OVER
    point: str = ""
    data: dict[str, object] | None = None
    is_spell: bool = False
    is_queued: bool = False
    """Whether somebody has yet to write it down; for the one who does."""

    @property
    def lasted_s(self) -> float:
        """How long it went on; 0 for what happened at a moment, and for what goes on still."""
        return max((self.ended_wall_s or 0.0) - self.wall_s, 0.0)


def length_text(seconds: float) -> str:
    """How long something lasted, in its two largest units."""
    if seconds < 60:
        return f"{seconds:.1f} s" if seconds < 20 else f"{seconds:.0f} s"
    minutes, rest = divmod(round(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    days, hours = divmod(hours, 24)
    if days:
        return f"{days} d {hours} h"
    return f"{hours} h {minutes} min" if hours else f"{minutes} min {rest} s"


def stands_for(event: Event, word: str) -> bool:
    """Whether an event is of that kind; the outage of a line stands for the loss of its devices too."""
    if event.kind.value == word:
        return True
    is_lost = event.kind is EventKind.LINE_DOWN and word == EventKind.DEVICE_LOST.value
    return is_lost and bool((event.data or {}).get("devices"))


OnEvent = Callable[[Event], None]
_Key = tuple[str, str, object]


class EventLog:
    """The ring, and whoever listens. `listeners` hear of an event when it begins, `followers` at its beginning, at each
    time that it is counted, and at its end."""

    def __init__(self, wall: Callable[[], float]) -> None:
        self.ring: deque[Event] = deque(maxlen=_KEPT)
        self.listeners: list[OnEvent] = []
        self.followers: tuple[OnEvent, ...] = ()
        self._changing = threading.Lock()
        self.total = 0
        self._wall = wall
        self.begun_wall_s = wall()
        self._going_on: dict[_Key, Event] = {}

    def follow(self, follower: OnEvent) -> None:
        """From any thread."""
        with self._changing:
            self.followers = (*self.followers, follower)

    def leave(self, follower: OnEvent) -> None:
        """From any thread."""
        with self._changing:
            self.followers = tuple(other for other in self.followers if other != follower)

    @property
    def going_on(self) -> list[Event]:
        """What has not ended yet."""
        return list(self._going_on.values())

    def note(
        self, kind: EventKind, line: str, device: str, text: str, going_on: object = None, is_spell: bool = False,
        point: str = "", data: dict[str, object] | None = None, wall_s: float | None = None,
    ) -> Event:  # fmt: skip
        """Something happened (at `wall_s`, where that is not now). With `going_on`, the same of the same device only
        counts up until `end` is called for it; of a spell until it has not come for a minute."""
        now = self._wall() if wall_s is None else wall_s
        key = (line, device, going_on)
        event = self._going_on.get(key) if going_on is not None else None
        if event is not None:
            event.count += 1
            event.last_wall_s = now
            self._tell(event)
            return event
        self.total += 1
        ends = None if going_on is not None else now
        event = Event(
            self.total, kind, now, line, device, text, 1, now, ends, point=point, data=data, is_spell=is_spell
        )
        if going_on is not None:
            if len(self._going_on) >= _MOST_GOING_ON:  # the oldest of so many is dropped, not memory
                self._close(next(iter(self._going_on)), now, Ended.UNKNOWN)
            self._going_on[key] = event
        self.ring.append(event)
        for listener in self.listeners:
            listener(event)
        self._tell(event)
        return event

    def end(
        self, line: str, device: str, going_on: object, how: Ended = Ended.OVER, more: str = "",
        is_since_last: bool = False,
    ) -> Event | None:  # fmt: skip
        """What went on is over, now or (`is_since_last`) since it came last; the next time is an event of its own.
        `more` is added to its text."""
        key = (line, device, going_on)
        event = self._going_on.get(key)
        if event is None:
            return None
        if more:
            event.text = f"{event.text}; {more}"
        return self._close(key, event.last_wall_s if is_since_last else self._wall(), how)

    def change(self, line: str, device: str, going_on: object, text: str) -> None:
        """More is known of what goes on."""
        event = self._going_on.get((line, device, going_on))
        if event is not None:
            event.text = text
            self._tell(event)

    def widen(
        self, line: str, device: str, going_on: object, widened: object, text: str, data: dict[str, object],
        wall_s: float,
    ) -> None:  # fmt: skip
        """What began as a device's outage is its whole line's, since `wall_s`."""
        event = self._going_on.pop((line, device, going_on), None)
        if event is None:
            self.note(EventKind.LINE_DOWN, line, "", text, widened, data=data, wall_s=wall_s)
            return
        event.kind, event.device, event.text, event.data = EventKind.LINE_DOWN, "", text, data
        event.wall_s = min(event.wall_s, wall_s)
        self._going_on[line, "", widened] = event
        for listener in self.listeners:
            listener(event)
        self._tell(event)

    def sweep(self) -> None:
        """Spells that have not come again for a minute are over: since they came last."""
        now = self._wall()
        for key, event in list(self._going_on.items()):
            if event.is_spell and not 0 <= now - event.last_wall_s < SPELL_S:
                self._close(key, event.last_wall_s, Ended.OVER)

    def rename(self, line: str, old: str, new: str) -> None:
        """A device is called otherwise: what goes on of it goes on under its new name."""
        for key, event in list(self._going_on.items()):
            if key[:2] == (line, old):
                del self._going_on[key]
                self._going_on[line, new, key[2]] = event
                event.device = new

    def end_all(self, how: Ended, stays: Callable[[str, str], bool] = lambda line, device: False) -> None:
        """Everything ends, but for what is about a line and a device that stay."""
        now = self._wall()
        for key, event in list(self._going_on.items()):
            if not stays(event.line, event.device):
                self._close(key, now, how)

    def _close(self, key: _Key, ended: float, how: Ended) -> Event:
        event = self._going_on.pop(key)
        event.ended_wall_s, event.how = ended, how
        self._tell(event)
        return event

    def _tell(self, event: Event) -> None:
        for follower in self.followers:
            follower(event)
