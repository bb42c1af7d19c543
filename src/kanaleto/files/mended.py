"""A site file with faults, mended as far as it takes to find the rest of them: all are reported at once. What comes of
it is never used."""

import re
import tomllib
from collections.abc import Iterator
from typing import Any

from msgspec import inspect as types

from kanaleto.files import siteschema as schema
from kanaleto.files.shape import Where
from kanaleto.files.toml_lines import loads_bounded

_KEY_VALUE = re.compile(r"\s*([A-Za-z0-9_-]+)\s*=\s*(.*?)\s*(?:#.*)?$")
_MOST_SYNTAX = 50
_PLACE = re.compile(r"\(at line (\d+), column \d+\)")


def place_of(error: tomllib.TOMLDecodeError, text: str) -> tuple[int, str]:
    """Line and reason of what is no TOML."""
    place = _PLACE.search(str(error))
    reason = re.sub(r"\s*\(at .*\)$", "", str(error))
    return int(place[1]) if place else len(text.splitlines()) or 1, f"{reason[:1].lower()}{reason[1:]}"


class Syntax:
    """Of a text that is no TOML: `faults` by line, the `tree` of the rest where only values of keys are wrong, and the
    `keys` that were left out for that."""

    def __init__(self, text: str) -> None:
        self.faults: list[tuple[int, str]] = []
        self.keys: set[str] = set()
        self.tree: dict[str, Any] | None = None
        lines = text.splitlines()
        while len(self.faults) < _MOST_SYNTAX:
            try:
                self.tree = loads_bounded("\n".join(lines))
                return
            except tomllib.TOMLDecodeError as error:
                line, reason = place_of(error, text)
            except (ValueError, RecursionError):
                return
            found = _KEY_VALUE.match(lines[line - 1]) if line <= len(lines) else None
            if found is None or _is_toml(lines[line - 1]):  # it is how the lines stand together
                self.faults = self.faults or [(line, f"is not TOML here: {reason}")]
                return
            key, value = found[1], found[2]
            self.faults.append((line, f"is not TOML here: {_said_of(key, value)}"))
            self.keys.add(key)
            lines[line - 1] = ""


def _said_of(key: str, value: str) -> str:
    if not value:
        return f"nothing stands behind {key} ="
    if value[0] in "\"'":
        return f"{key} = {value} is no text that begins and ends with one quote"
    return f"{key} = {value} is no number, no text in quotes, not true or false"


def _is_toml(line: str) -> bool:
    try:
        tomllib.loads(line)
    except ValueError:
        return False
    return True


def mend(tree: dict[str, Any], wheres: list[Where]) -> None:
    """Take what is wrong out of a tree, and put something sound where something must stand."""
    numbers = _Free(tree)
    for where in wheres:
        holder: Any = tree
        for part in where[:-1]:
            try:
                holder = holder[part]
            except (KeyError, IndexError, TypeError):
                holder = None
                break
        if isinstance(holder, dict) and where:
            holder.pop(where[-1], None)
    for table, kind in _tables(tree, types.type_info(schema.SiteFile)):
        for field in kind.fields:
            if field.required and field.name not in table:
                table[field.name] = numbers.something(field.name)


class _Free:
    """Sound values that nothing else in the file has."""

    def __init__(self, tree: dict[str, Any]) -> None:
        lines = tree.get("line")
        tables = [line for line in lines if isinstance(line, dict)] if isinstance(lines, list) else []
        devices = [one for line in tables for one in line.get("device") or () if isinstance(one, dict)]
        taken = {one.get("unit_id") for one in devices if isinstance(one.get("unit_id"), int)}
        self._units = iter([unit for unit in range(247, 0, -1) if unit not in taken] * 100)
        self._count = 0

    def something(self, name: str) -> Any:
        self._count += 1
        if name == "unit_id":
            return next(self._units, 1)
        if name == "site":
            return {"name": "site"}
        return f"tcp://127.0.0.1:{self._count}" if name == "link" else f"{name} {self._count}"


def _tables(value: Any, kind: types.Type) -> Iterator[tuple[dict[str, Any], types.StructType]]:
    """Every table of a tree with the kind that it is to be, the outer ones first."""
    if isinstance(kind, types.UnionType):
        kind = next((one for one in kind.types if isinstance(one, types.StructType | types.ListType)), kind)
    if isinstance(kind, types.StructType) and isinstance(value, dict):
        yield value, kind
        for field in kind.fields:
            if field.name in value:
                yield from _tables(value[field.name], field.type)
    elif isinstance(kind, types.ListType) and isinstance(value, list):
        for one in value:
            yield from _tables(one, kind.item_type)
    elif isinstance(kind, types.DictType) and isinstance(value, dict):
        for one in value.values():
            yield from _tables(one, kind.value_type)
