"""What happened: a bounded ring of events, told once and not every cycle. What goes on is counted on the event that it
began with."""

from collections import deque
from collections.abc import Callable
from enum import Enum

from msgspec import Struct

_KEPT = 1000


class EventKind(Enum):
    DEVICE_LOST = "device lost"
    DEVICE_BACK = "device back"
    DEVICE_SLOW = "device slow"
    LINE_DOWN = "line down"
    LINE_UP = "line up"
    LEARNED = "learned"
    EXCEPTION = "exception"
    GATEWAY = "gateway"
    WATCHDOG = "watchdog"
    SITE = "site"


class Event(Struct):
    """`device` is empty for what is about a whole line. Times are wall times; `count` is how often until
    `last_wall_s`."""

    kind: EventKind
    wall_s: float
    line: str
    device: str
    text: str
    count: int = 1
    last_wall_s: float = 0.0


OnEvent = Callable[[Event], None]


class EventLog:
    """The ring, and whoever listens. A listener hears of an event when it begins."""

    def __init__(self, wall: Callable[[], float]) -> None:
        self.ring: deque[Event] = deque(maxlen=_KEPT)
        self.listeners: list[OnEvent] = []
        self.total = 0
        self._wall = wall
        self._going_on: dict[tuple[str, str, object], Event] = {}

    def note(self, kind: EventKind, line: str, device: str, text: str, going_on: object = None) -> Event:
        """Something happened. With `going_on`, the same of the same device only counts up until `end` is called for
        it."""
        now = self._wall()
        key = (line, device, going_on)
        if going_on is not None and key in self._going_on:
            event = self._going_on[key]
            event.count += 1
            event.last_wall_s = now
            return event
        event = Event(kind, now, line, device, text, 1, now)
        if going_on is not None:
            self._going_on[key] = event
        self.ring.append(event)
        self.total += 1
        for listener in self.listeners:
            listener(event)
        return event

    def end(self, line: str, device: str, going_on: object) -> None:
        """What went on is over; the next time is an event of its own."""
        self._going_on.pop((line, device, going_on), None)
