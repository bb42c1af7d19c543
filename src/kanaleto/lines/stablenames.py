"""Names of serial adapters that stay the same when they change places."""

import os
from pathlib import Path

_BY_ID = Path("/dev/serial/by-id")


def stable_names() -> dict[str, str]:
    """By the real path of the port, where the system has such names."""
    try:
        return {os.path.realpath(link): str(link) for link in _BY_ID.iterdir()}
    except OSError:
        return {}


def stable_name(port: str) -> str:
    """Of a port as a site names it; nothing where it has none."""
    return stable_names().get(os.path.realpath(port), "") if "/" in port else ""


def port_now(port: str, preferred: str) -> str:
    """Where the adapter of that stable name is now; the port itself where none is named, or it is not there."""
    if not preferred or "/" not in port:
        return port
    place = Path(preferred) if "/" in preferred else _BY_ID / preferred
    return os.path.realpath(place) if place.exists() else port
