"""What the journal has of before this program: events for the error log, and how much of it happened while nobody
looked."""

import sqlite3
from collections import Counter
from collections.abc import Collection, Iterator
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from kanaleto.events.log import Ended, Event, EventKind
from kanaleto.files.whole import write_whole
from kanaleto.history.eventtable import write_log
from kanaleto.history.journal import journals_of
from kanaleto.history.journalfile import JournalEvent, NewerFile, add_note, events_of

MOST = 5000
NOTED = " — "  # between what happened and what somebody noted of it
_LOOKED_AT = "looked-at"
_KINDS = {kind.value: kind for kind in EventKind}
_ENDS = {how.value: how for how in Ended}


def earlier_events(folder: Path, before_us: int) -> list[Event]:
    """The newest that began before that moment, the oldest first; their numbers count down from -1. Of a journal that
    cannot be read there are none."""
    found = sorted(_events_in(folder), key=lambda event: event.begun)
    found = [event for event in found if event.begun < before_us][-MOST:]
    return [_as_event(event, number - len(found)) for number, event in enumerate(found)]


def _events_in(folder: Path) -> Iterator[JournalEvent]:
    for path in journals_of(folder):
        with suppress(sqlite3.Error, NewerFile, OSError):
            yield from events_of(path)


def _as_event(event: JournalEvent, number: int) -> Event:
    note = f"{NOTED}{event.note}" if event.note else ""
    ended = event.ended if event.ended is not None else event.last
    how = _ENDS.get(str(event.data.get("end", "")), Ended.OVER if event.ended is not None else Ended.UNKNOWN)
    return Event(
        number, _KINDS.get(event.kind, EventKind.NOTE), event.begun / 1e6, event.line, event.device,
        f"{event.text}{note}", event.count, event.last / 1e6, ended / 1e6, how, event.point,
    )  # fmt: skip


class NotThere(Exception):
    """The journal has no such event, or cannot be written; one sentence."""


def note_on(folder: Path, event: Event, note: str, who: str) -> None:
    """Write a note on an event into the journal that has it. Raises NotThere."""
    begun_us = round(event.wall_s * 1e6)
    for path in reversed(journals_of(folder)):
        try:
            found = next(
                (
                    known.id for known in events_of(path, begun_us, begun_us)
                    if (known.begun, known.kind, known.line, known.device) ==
                    (begun_us, event.kind.value, event.line, event.device)
                ),
                None,
            )  # fmt: skip
            if found is not None and add_note(path, note, who, begun_us, found):
                return
        except (sqlite3.Error, NewerFile, OSError) as error:
            raise NotThere(f"the note cannot be written: {error}") from None
    raise NotThere("the journal does not have that event yet; try again in a moment")


def write_listed(folder: Path, path: Path, form: str, begun_us: Collection[int], site: str) -> int:
    """Those that began then, as the journal has them; how many they were. Raises OSError."""
    events = [event for event in sorted(_events_in(folder), key=lambda event: event.begun) if event.begun in begun_us]
    offset = datetime.now().astimezone().strftime("%z")
    return write_log(path, form, events, site, f"UTC{offset[:3]}:{offset[3:]}")


def looked_at_us(folder: Path) -> int | None:
    """When somebody looked at the error log last; None where that is not known."""
    with suppress(OSError, ValueError):
        return int((folder / _LOOKED_AT).read_text())
    return None


def note_looked(folder: Path, at_us: int) -> None:
    """Somebody looks at it now. A disk that takes nothing costs only that."""
    with suppress(OSError):
        if folder.is_dir():
            write_whole(folder / _LOOKED_AT, f"{at_us}\n")


def while_nobody_looked(folder: Path, before_us: int, kinds: Collection[EventKind]) -> tuple[list[Event], str]:
    """What happened of these kinds since somebody looked last, and that in one line; nothing where nothing did."""
    since_us = looked_at_us(folder)
    if since_us is None:
        return [], ""
    since = [event for event in earlier_events(folder, before_us) if event.wall_s * 1e6 >= since_us]
    missed = [event for event in since if event.kind in kinds]
    if not missed:
        return [], ""
    counts = Counter(event.kind.value for event in missed).most_common(3)
    text = ", ".join(f"{count} × {word}" for word, count in counts)
    last = missed[-1]
    who = last.device or last.line
    return missed, f"while nobody looked: {text}; the last {f'{who}: ' if who else ''}{last.text}. E lists them"
