"""Devices in the text of a site file: what each says of itself, and how that is changed, moved, copied or taken away,
with everything else of the text kept."""

from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import tomlkit
from msgspec import Struct
from tomlkit.items import AoT

from kanaleto.files.sitetext import line_table, tables_of, with_appended
from kanaleto.files.toml_lines import loads_bounded


class Said(Struct, frozen=True):
    """Keys as they stand in the file: of the device itself, of its line, of the site."""

    device: Mapping[str, Any]
    line: Mapping[str, Any]
    site: Mapping[str, Any]

    def source(self, key: str) -> str:
        """Where a device's setting comes from: `own`, `line`, `site` or `default`."""
        for name, keys in (("own", self.device), ("line", self.line), ("site", self.site)):
            if key in keys and (name == "own" or key in _INHERITED[name]):
                return name
        return "default"


_INHERITED = {"line": ("timeout_s", "retries"), "site": ("period_s",)}


@lru_cache(maxsize=4)
def said_of(text: str) -> dict[str, Said]:
    """What the file says, by device name; nothing where it cannot be read. The few texts that were looked at last are
    remembered."""
    try:
        tree = loads_bounded(text)
        site = tree.get("site", {})
        return {
            str(device["name"]): Said(device, line, site)
            for line in tree.get("line", [])
            for device in line.get("device", [])
            if "name" in device
        }
    except (ValueError, RecursionError, AttributeError, TypeError):
        return {}


def with_device_changed(text: str, name: str, changes: Mapping[str, object], line: str = "") -> str:
    """Other keys for a device, None for one that goes; on another line, where one is named. Raises KeyError."""
    document = tomlkit.parse(text)
    array, at = _place(document, name)
    device = array[at]
    for key, value in changes.items():
        if value is None:
            device.pop(key, None)
        else:
            device[key] = value
    if line:
        moved = tomlkit.table()
        for key, value in device.items():
            moved[key] = value
        _take_away(document, name)
        with_appended(line_table(document, line), "device", moved)
    return tomlkit.dumps(document)


def with_device_copied(text: str, name: str, changes: Mapping[str, object]) -> str:
    """The device once more, at the end of its line, with some other keys. Raises KeyError."""
    document = tomlkit.parse(text)
    array, at = _place(document, name)
    copy = tomlkit.table()
    for key, value in {**array[at], **changes}.items():
        copy[key] = value
    array.append(copy)
    return tomlkit.dumps(document)


def without_device(text: str, name: str) -> str:
    """Raises KeyError."""
    document = tomlkit.parse(text)
    _take_away(document, name)
    return tomlkit.dumps(document)


def _place(document: tomlkit.TOMLDocument, name: str) -> tuple[AoT, int]:
    for line in tables_of(document, "line"):
        array = line.get("device")
        if isinstance(array, AoT):
            for at, device in enumerate(array):
                if device.get("name") == name:
                    return array, at
    raise KeyError(name)


def _take_away(document: tomlkit.TOMLDocument, name: str) -> None:
    array, at = _place(document, name)
    owner = next(line for line in tables_of(document, "line") if line.get("device") is array)
    del array[at]
    if not len(array):
        del owner["device"]
