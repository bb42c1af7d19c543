"""Changes to a site file that keep everything else of it: comments, order, keys that nobody here knows. Written beside, then renamed."""

import os
import tempfile
from pathlib import Path

import tomlkit
from tomlkit.items import AoT, Table


def set_device_keys(path: Path, changes: dict[str, dict[str, object]]) -> list[str]:
    """Set keys of devices, by device name; a list is added to the list that stands there. Gives the names that were found."""
    document = tomlkit.parse(path.read_text(encoding="utf-8"))
    found: list[str] = []
    for line in _tables(document, "line"):
        for device in _tables(line, "device"):
            name = str(device.get("name"))
            for key, value in changes.get(name, {}).items():
                if isinstance(value, list):
                    now = [str(one) for one in device.get(key, [])]
                    device[key] = now + [one for one in value if one not in now]
                else:
                    device[key] = value
            if name in changes:
                found.append(name)
    if found:
        write_whole(path, tomlkit.dumps(document))
    return found


def _tables(parent: tomlkit.TOMLDocument | Table, key: str) -> list[Table]:
    array = parent.get(key)
    return list(array) if isinstance(array, AoT) else []


def write_whole(path: Path, text: str) -> None:
    """Write a file beside its place and rename it, so that it is there whole or as it was."""
    descriptor, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(descriptor, "w", encoding="utf-8") as file:
            file.write(text)
        if path.exists():
            os.chmod(name, path.stat().st_mode)
        os.replace(name, path)
    except BaseException:
        os.unlink(name)
        raise
