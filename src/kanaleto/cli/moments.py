"""Moments as they are typed: a date, a time of today, or how long ago."""

import re
from datetime import datetime

import click

_AGO = re.compile(r"(\d+(?:\.\d+)?)\s*(s|min|m|h|d)(?:\s+ago)?")
_SECONDS = {"s": 1, "m": 60, "min": 60, "h": 3600, "d": 86400}


def micros_of(context: click.Context, parameter: click.Parameter, text: str | None) -> int | None:
    """A callback of an option: microseconds since 1970. Local time where no zone is told."""
    if text is None:
        return None
    try:
        return round(moment_of(text.strip(), datetime.now().astimezone()).timestamp() * 1e6)
    except (ValueError, OverflowError, OSError):
        raise click.BadParameter(
            f"{text!r} is no time: say 2026-05-17, 2026-05-17T03:12, 03:12 (today), or 2h (ago)"
        ) from None


def moment_of(text: str, now: datetime) -> datetime:
    """Raises ValueError."""
    ago = _AGO.fullmatch(text)
    if ago:
        return datetime.fromtimestamp(now.timestamp() - float(ago[1]) * _SECONDS[ago[2]], now.tzinfo)
    if re.fullmatch(r"\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?", text):
        text = f"{now:%Y-%m-%d}T{text if text[1] != ':' else '0' + text}"
    moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    return moment if moment.tzinfo is not None else moment.astimezone()


def local(at_us: int) -> str:
    """Local time, to the millisecond."""
    return f"{datetime.fromtimestamp(at_us / 1e6).astimezone():%Y-%m-%d %H:%M:%S.%f}"[:-3]


def zone() -> str:
    """The zone of local times."""
    name = f"{datetime.now().astimezone():%z}"
    return f"UTC{name[:3]}:{name[3:]}"
