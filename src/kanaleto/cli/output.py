"""What goes to stdout: objects, a line each, and times as ISO-8601 in UTC."""

import json
import sys
from datetime import UTC, datetime


def iso(wall_s: float | None = None) -> str:
    """Now, or a wall time in seconds since 1970, to the millisecond."""
    moment = datetime.now(UTC) if wall_s is None else datetime.fromtimestamp(wall_s, UTC)
    return moment.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def emit(record: dict[str, object]) -> None:
    """One object on one line of stdout, at once."""
    sys.stdout.write(json.dumps(record, ensure_ascii=False, allow_nan=False) + "\n")
    sys.stdout.flush()
