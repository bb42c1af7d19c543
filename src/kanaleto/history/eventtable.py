"""Events for others: as objects, as a table of text, and as text for a message."""

import csv
import json
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from kanaleto.events.log import EventKind, length_text
from kanaleto.files.harmless import guarded
from kanaleto.files.whole import writing_whole
from kanaleto.history.journalfile import JournalEvent

COLUMNS = ("at", "ended", "length_s", "end", "line", "device", "point", "kind", "text", "count", "last", "who", "note")
LOG_FORMS = {".csv": "csv", ".jsonl": "jsonl", ".json": "jsonl", ".txt": "text"}
_QUIET = frozenset((EventKind.RUN.value, EventKind.SITE.value))


def iso_ms(at_us: int) -> str:
    """UTC, to the millisecond."""
    moment = datetime.fromtimestamp(at_us / 1e6, UTC)
    return moment.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def as_object(event: JournalEvent) -> dict[str, Any]:
    """An event as JSON has it: `ended` and `length_s` are null while it goes on; `end` says how it ended, and that it
    is unknown where the program ended without a word: `ended` is when it was seen last then."""
    length_s = round((event.ended - event.begun) / 1e6, 3) if event.ended is not None else None
    return {
        "at": iso_ms(event.begun),
        "ended": iso_ms(event.ended) if event.ended is not None else None,
        "length_s": length_s,
        "end": event.data.get("end", "over") if event.ended is not None else None,
        "line": event.line,
        "device": event.device,
        "point": event.point,
        "kind": event.kind,
        "text": event.text,
        "count": event.count,
        "last": iso_ms(event.last),
        "who": event.who,
        "note": event.note,
        "id": event.id,
        "run": event.run,
        "data": {key: value for key, value in event.data.items() if key != "end"},
    }


def how_long(event: JournalEvent) -> str:
    """How long it went on, in words; empty for what happened at a moment."""
    if event.ended is None:
        return "goes on"
    length = length_text((event.ended - event.begun) / 1e6)
    if event.end_is_unknown:
        return f"{length} at least"
    return length if event.ended > event.begun else ""


def sentence(event: JournalEvent) -> str:
    """Who, what, how often."""
    who = " · ".join(part for part in (event.line, event.device, event.point) if part)
    times = f" ({event.count} times)" if event.count > 1 else ""
    note = f" — {event.note}" if event.note else ""
    return f"{f'{who}: ' if who else ''}{event.text}{times}{note}"


def as_message(events: Iterable[JournalEvent], site: str, zone: str) -> str:
    """Text that can be read in a message: a line an event, days as headings, in local time."""
    lines, day = [f"{site}: what happened (times are local, {zone})"], ""
    for event in events:
        if event.kind in _QUIET:
            continue
        moment = datetime.fromtimestamp(event.begun / 1e6).astimezone()
        if f"{moment:%A %Y-%m-%d}" != day:
            day = f"{moment:%A %Y-%m-%d}"
            lines += ["", day]
        long = how_long(event)
        lines.append(f"  {moment:%H:%M:%S}  {sentence(event)}{f', {long}' if long else ''}")
    return "\n".join([*lines, "" if len(lines) > 1 else "  nothing", ""])


def write_log(path: Path, form: str, events: Sequence[JournalEvent], site: str, zone: str) -> int:
    """How many they were. Written whole or not at all. Raises OSError."""
    with writing_whole(path) as file:
        if form == "text":
            file.write(as_message(events, site, zone))
        elif form == "jsonl":
            file.writelines(json.dumps(as_object(event), ensure_ascii=False) + "\n" for event in events)
        else:
            writer = csv.DictWriter(file, COLUMNS, extrasaction="ignore", lineterminator="\n")
            writer.writeheader()
            writer.writerows({key: guarded(cell) for key, cell in as_object(event).items()} for event in events)
    return len(events)
