"""How busy lines were and what went wrong on them, minute by minute, out of a record."""

import json
from pathlib import Path

from kanaleto.board.health import MinuteLevel, Worst
from kanaleto.history.query import History
from kanaleto.history.store import StoreError
from kanaleto.history.store_error import CannotRecord


def recorded_minutes(store: str, site: str, begin: float, end: float) -> dict[str, dict[int, MinuteLevel]]:
    """By line and by minute (of wall time, since 1970); nothing where nothing was recorded, or cannot be read."""
    if not Path(store).is_file():
        return {}
    try:
        history = History(store)
    except CannotRecord:
        return {}
    found: dict[str, dict[int, MinuteLevel]] = {}
    try:
        for row in history.minutes(round(begin * 1e6), round(end * 1e6)):
            if row["site"] != site:
                continue
            levels = found.setdefault(str(row["name"]), {})
            minute = int(row["at"]) // 60_000_000  # type: ignore[call-overload]
            busy, worst = levels.get(minute, MinuteLevel(0.0, Worst.NOTHING))
            if row["device"]:
                levels[minute] = MinuteLevel(busy, max(worst, _worst(row)))
            else:
                levels[minute] = MinuteLevel(float(row["busy"] or 0.0), worst)  # type: ignore[arg-type]
    except (StoreError, CannotRecord):
        return found
    finally:
        history.close()
    return found


def _worst(row: dict[str, object]) -> Worst:
    if row["silent"] or row["unreachable"]:
        return Worst.SILENT
    if row["garbled"] or row["strange"]:
        return Worst.GARBLED
    if json.loads(str(row["exceptions"] or "{}")):
        return Worst.EXCEPTION
    return Worst.GOOD if row["good"] else Worst.NOTHING
