"""Clones as a site that can be served: a site file, a map a device beside it. What somebody has edited since is left as
it is."""

import hashlib
import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit
from msgspec import Struct
from msgspec.structs import replace

from kanaleto.bench.cloning import Copied, differs
from kanaleto.bench.freeplaces import at_link, file_name, near
from kanaleto.bench.servedunits import Units
from kanaleto.bench.server import is_as_serial
from kanaleto.files.loading import load_site
from kanaleto.files.sitetext import new_site_text, with_device, with_line, with_line_keys
from kanaleto.files.whole import locked, write_together
from kanaleto.site.counting import Numbering
from kanaleto.site.links.link import Link
from kanaleto.site.model import DeviceLimits, Line
from kanaleto.tables.maps import as_csv

_MARK = "# kanaleto clone 1 "


class EditedSince(Exception):
    """One sentence: what would be written over."""


class ClonedLine(Struct):
    """A line with the devices that were copied on it, and where it is to be served."""

    line: Line
    link: Link
    copies: list[Copied]


def why_not_written(out: Path) -> str:
    """Why nothing may be written there, in words, or nothing: what a clone has written and nobody has edited may be
    written over."""
    if out.suffix != ".toml":
        return f"a site file ends in .toml: {out.name}.toml"
    if not out.parent.is_dir():
        return f"there is no folder {out.parent}"
    if not out.exists():
        return ""
    try:
        text = out.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return f"{out} is there already, and is no clone"
    body, found, mark = text.rpartition(_MARK)
    if not found:
        return f"{out} is there already, and is no clone; name another file"
    try:
        marks = json.loads(mark)
        whole = marks.pop("site") == _hash(body)
        edited = [name for name, mark in marks.items() if _hash(_read(out.parent / name)) != mark]
    except (ValueError, KeyError, AttributeError, TypeError):
        whole, edited = False, []
    if not whole:
        return f"{out} was edited since it was cloned; name another file"
    return f"{out.parent / edited[0]} was edited since it was cloned; name another file" if edited else ""


def _read(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return ""


def _hash(text: str) -> str:
    return hashlib.sha1(text.encode(), usedforsecurity=False).hexdigest()


def write_clone(out: Path, name: str, lines: Sequence[ClonedLine]) -> None:
    """Site and maps, all of them or none. Raises EditedSince, OSError."""
    why = why_not_written(out)
    if why:
        raise EditedSince(why)
    texts: dict[Path, str] = {}
    text = new_site_text(name)
    taken: set[str] = set()
    for cloned in lines:
        line = cloned.line
        text = with_line(text, line.name, str(cloned.link))
        keys: dict[str, object] = {"timeout_s": line.timeout_s}
        if line.gap_s:
            keys["gap_s"] = line.gap_s
        text = with_line_keys(text, line.name, keys)
        for copy in cloned.copies:
            map_name = _free(f"{out.stem}-{file_name(copy.device.name)}", taken) + ".csv"
            is_own = not isinstance(copy.device.numbering, Numbering)
            device = replace(copy.device, numbering=Numbering.PROTOCOL) if is_own else copy.device
            texts[out.parent / map_name] = as_csv(device)
            text = with_device(text, line.name, _device_keys(copy, map_name))
    body = text.rstrip() + "\n\n"
    marks = {"site": _hash(body), **{path.name: _hash(text) for path, text in texts.items()}}
    texts[out] = f"{body}{_MARK}{json.dumps(marks)}\n"
    with locked(out):
        write_together(out, texts)


def placed(lines: Sequence[ClonedLine], at: str | None = None) -> list[ClonedLine]:
    """Where each is to be served: there, or at a place of this machine. Raises ValueError."""
    if at is None:
        return [
            ClonedLine(cloned.line, near(cloned.line, number), cloned.copies) for number, cloned in enumerate(lines)
        ]
    if len(lines) != 1:
        raise ValueError(f"--at is the place of one line, and {len(lines)} were cloned")
    return [ClonedLine(lines[0].line, at_link(lines[0].line, at), lines[0].copies)]


def count_differences(out: Path, lines: Sequence[ClonedLine]) -> dict[tuple[str, str], int]:
    """By line and device: how many of the requests that were asked the clone answers otherwise."""
    site, _ = load_site(out)
    counts: dict[tuple[str, str], int] = {}
    for cloned in lines:
        line = next(line for line in site.lines if line.name == cloned.line.name)
        units = Units(line, is_as_serial(line))
        for simulated in units.devices:
            copy = next(copy for copy in cloned.copies if copy.device.name == simulated.device.name)
            moved = {
                (point.table, address)
                for point in copy.device.points
                if point.name in copy.moved
                for address in range(point.address, point.end)
            }
            counts[line.name, copy.device.name] = differs(copy.asked, simulated.answer, moved)
    return counts


def _device_keys(copy: Copied, map_name: str) -> dict[str, object]:
    device, plain = copy.device, DeviceLimits()
    keys: dict[str, object] = {"name": device.name, "unit_id": device.unit_id, "map": map_name}
    if isinstance(device.numbering, Numbering) and device.numbering is not Numbering.PROTOCOL:
        keys["numbering"] = device.numbering.value
    if device.order is not None:
        keys["order"] = device.order.value
    keys["period_s"] = device.period_s
    limits = device.limits
    for key in ("max_registers", "max_bits", "max_write_registers", "max_write_bits", "max_gap"):
        if getattr(limits, key) != getattr(plain, key):
            keys[key] = getattr(limits, key)
    if limits.write_with != plain.write_with:
        keys["write_with"] = limits.write_with
    if limits.functions is not None:
        keys["functions"] = list(limits.functions)
    if limits.never_read:
        keys["never_read"] = [
            f"{table.value} {first}" + (f"-{last}" if last > first else "") for table, first, last in limits.never_read
        ]
    if device.watchdog_s is not None:
        keys["watchdog_s"] = device.watchdog_s
    if device.note:
        keys["note"] = device.note
    keys |= _without_usual(copy.keys)
    if copy.moves:
        moves = tomlkit.table()
        for name, move in copy.moves.items():
            inline = tomlkit.inline_table()
            inline.update(move)
            moves[name] = inline
        keys["moves"] = moves
    return keys


def _without_usual(keys: Mapping[str, Any]) -> dict[str, object]:
    """What was found, but for what is so by itself."""
    return {
        key: value for key, value in keys.items() if (key, value) not in (("max_registers", 125), ("max_bits", 2000))
    }


def _free(name: str, taken: set[str]) -> str:
    free, number = name, 1
    while free in taken:
        number += 1
        free = f"{name}-{number}"
    taken.add(free)
    return free
