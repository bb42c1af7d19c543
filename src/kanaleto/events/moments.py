"""Moments as people type them: a date, a time of the clock when it last was, or how long ago."""

import re
from datetime import UTC, datetime, timedelta

HOW = "2026-05-17, 2026-05-17T03:12, 03:12 (when it last was), or 2h (ago)"
_AGO = re.compile(r"(\d+(?:\.\d+)?)\s*(s|min|m|h|d)(?:\s+ago)?")
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_SECONDS = {"s": 1, "m": 60, "min": 60, "h": 3600, "d": 86400}


def moment_of(text: str, now: datetime) -> datetime:
    """Local time where no zone is given. Raises ValueError."""
    ago = _AGO.fullmatch(text)
    if ago:
        return datetime.fromtimestamp(now.timestamp() - float(ago[1]) * _SECONDS[ago[2]], now.tzinfo)
    if re.fullmatch(r"\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?", text):
        clock = text if text[1] != ":" else "0" + text
        today, before = (f"{day:%Y-%m-%d}T{clock}" for day in (now, now - timedelta(days=1)))
        at = datetime.fromisoformat(today).astimezone()
        return at if at <= now else datetime.fromisoformat(before).astimezone()
    moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    return moment if moment.tzinfo is not None else moment.astimezone()


def micros_at(text: str) -> int:
    """Microseconds since 1970. Raises ValueError."""
    try:
        return (moment_of(text.strip(), datetime.now().astimezone()) - _EPOCH) // timedelta(microseconds=1)
    except (ValueError, OverflowError, OSError):
        raise ValueError(f"{text!r} is no time: say {HOW}") from None
