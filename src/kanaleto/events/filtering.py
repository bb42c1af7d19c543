"""The filter: words that must occur, and `key:value`; `-` before a part excludes, quotes hold blanks. Its parts, for
exchanges (`capture.filter`), and all of it for events."""

import re
from collections.abc import Callable, Iterator, Sequence
from difflib import get_close_matches
from fnmatch import fnmatchcase
from typing import NamedTuple

from kanaleto.events.log import Event
from kanaleto.events.moments import micros_at

EVENT_KEYS = ("line", "device", "point", "kind", "from", "to")
_OF_EXCHANGES = ("unit", "function", "address", "outcome", "took_ms", "bytes", "origin")
_PART = re.compile(r'\s*(-?)(?:([A-Za-z_]+):)?("(?:[^"]*)"?|[^\s"]+)')

EventFits = Callable[[Event], bool]


class FilterFault(ValueError):
    """One sentence: what is wrong with a filter; `place` counts its characters from 1."""

    def __init__(self, text: str, place: int) -> None:
        super().__init__(f"at {place}: {text}")
        self.place = place


class FilterPart(NamedTuple):
    """`key` is empty for a word that must occur."""

    key: str
    value: str
    is_not: bool
    place: int


def parts_of(text: str, keys: Sequence[str]) -> Iterator[FilterPart]:
    """Raises FilterFault."""
    place = 0
    while place < len(text.rstrip()):
        part = _PART.match(text, place)
        if part is None:
            raise FilterFault("this says nothing", place + 1)
        key, value = part[2], part[3]
        begins = part.start(2) if key else part.start(3)
        if part.end() < len(text) and not text[part.end()].isspace():
            raise FilterFault("a quote begins or ends within a word; put it round the whole value", part.end() + 1)
        if value.startswith('"'):
            if len(value) < 2 or not value.endswith('"'):
                raise FilterFault("this quote has no end", part.start(3) + 1)
            value = value[1:-1]
        if key is not None and key.lower() not in keys:
            if not value.startswith("//"):  # a link is a word
                close = get_close_matches(key.lower(), keys, 1, 0.6)
                meant = f" (did you mean {close[0]!r}?)" if close else ""
                raise FilterFault(f"{key!r} is no key{meant}; a filter knows {', '.join(keys)}", begins + 1)
            key, value = None, f"{key}:{value}"
        if key is None and value[:-1].lower() in keys and value.endswith(":") and not part[3].startswith('"'):
            key, value, begins = value[:-1], "", part.start(3)
        if key is not None and not value:
            raise FilterFault(f"{key}: has no value", begins + 1)
        yield FilterPart((key or "").lower(), value, bool(part[1]), begins + 1)
        place = part.end()


def fits_name(value: str) -> Callable[[str], bool]:
    """A whole name, or whole words that stand side by side in it; `*` stands for anything."""
    wanted = value.lower()
    if "*" in wanted:
        return lambda name: fnmatchcase(name.lower(), wanted)
    words = wanted.split()
    return lambda name: name.lower() == wanted or _stands_in(words, name.lower().split())


def _stands_in(words: list[str], name: list[str]) -> bool:
    count = len(words)
    return count > 0 and any(name[at : at + count] == words for at in range(len(name) - count + 1))


def parse_event_filter(text: str) -> EventFits:
    """For the error log. Raises FilterFault."""
    tests: list[EventFits] = []
    for part in parts_of(text, (*EVENT_KEYS, *_OF_EXCHANGES)):
        if part.key in _OF_EXCHANGES:
            raise FilterFault(f"{part.key}: is of exchanges; y goes to them", part.place)
        try:
            test = _event_test(part.key, part.value)
        except ValueError as error:
            raise FilterFault(str(error), part.place) from None
        tests.append(_opposite(test) if part.is_not else test)
    return lambda event: all(test(event) for test in tests)


def _opposite(test: EventFits) -> EventFits:
    return lambda event: not test(event)


def _event_test(key: str, value: str) -> EventFits:
    wanted = value.lower()
    match key:
        case "from" | "to":
            at_s = micros_at(value) / 1e6
            return (lambda event: event.wall_s >= at_s) if key == "from" else (lambda event: event.wall_s < at_s)
        case "line":
            of_line = fits_name(value)
            return lambda event: of_line(event.line)
        case "device":
            of_device = fits_name(value)
            return lambda event: of_device(event.device)
        case "point":
            of_point = fits_name(value)
            return lambda event: of_point(event.point) or of_point(f"{event.device}/{event.point}")
        case "kind":
            of_kind = fits_name(value)
            return lambda event: of_kind(event.kind.value)
    return lambda event: wanted in _text(event).lower()


def _text(event: Event) -> str:
    return f"{event.kind.value} {event.line} {event.device} {event.point} {event.text}"
