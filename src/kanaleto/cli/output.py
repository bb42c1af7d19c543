"""What goes to stdout and stderr: lines for people, objects a line each, and times as ISO-8601 in UTC."""

import io
import sys

from kanaleto.values.visible import escaped, visible


def iso(wall_s: float | None = None) -> str:
    """Now, or a wall time in seconds since 1970, to the millisecond."""
    from datetime import UTC, datetime

    moment = datetime.now(UTC) if wall_s is None else datetime.fromtimestamp(wall_s, UTC)
    return moment.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def say(line: str, err: bool = False) -> None:
    """One line for people, whatever is in it. That nobody reads stderr any more is no fault of what goes on."""
    stream = sys.stderr if err else sys.stdout
    try:
        stream.write(visible(line) + "\n")
        stream.flush()
    except BrokenPipeError:
        if not err:
            raise


def bear_any_text() -> None:
    """What an output cannot encode is printed as its number instead of ending the command."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


def emit(record: dict[str, object]) -> None:
    """One object on one line of stdout, at once. Nothing in it acts on a terminal, and every output can encode it."""
    import json

    is_plain = "utf" not in (getattr(sys.stdout, "encoding", None) or "utf-8").lower()
    text = json.dumps(record, ensure_ascii=is_plain, allow_nan=False)
    sys.stdout.write((text if is_plain else escaped(text)) + "\n")
    sys.stdout.flush()
