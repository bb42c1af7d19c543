"""What names a point or a device elsewhere follows when it is renamed: formulas of the site file, passes, and the
column `from` of the maps of composed devices."""

from collections.abc import Callable
from pathlib import Path

import tomlkit

from kanaleto.editing.workingcopy import Draft
from kanaleto.files.maprows import with_changes
from kanaleto.files.sitetext import tables_of

_PASS_KEYS = ("from", "to", "while")


def follow_device(draft: Draft, old: str, new: str) -> None:
    """A device has another name: what names it or its points in the draft does, too."""

    def renamed(text: str) -> str:
        if text.startswith(f"{old}/"):
            return new + text.removeprefix(old)
        return text.replace(f"[{old}/", f"[{new}/")

    _follow(draft, renamed, {f"[{old}/": f"[{new}/"})
    _follow_on_cable(draft, old, new)


def _follow_on_cable(draft: Draft, old: str, new: str) -> None:
    """In the wiring of lines."""
    if not any(old in (*line.wiring.order, *line.wiring.terminators, line.wiring.bias) for line in draft.site.lines):
        return
    document = tomlkit.parse(draft.text())
    for line in tables_of(document, "line"):
        wiring = line.get("wiring")
        if wiring is None:
            continue
        for key in ("order", "terminators"):
            names = wiring.get(key)
            if names is not None and old in names:
                wiring[key] = [new if name == old else name for name in names]
        if wiring.get("bias") == old:
            wiring["bias"] = new
    draft.put(tomlkit.dumps(document))


def follow_point(draft: Draft, map_path: Path, old: str, new: str) -> None:
    """A point of a map has another name, in all devices that have that map."""
    names = [device.name for _, device in draft.site.devices() if device.map_path == map_path]
    places = {f"{device}/{old}": f"{device}/{new}" for device in names}
    in_brackets = {f"[{before}]": f"[{after}]" for before, after in places.items()}

    def renamed(text: str) -> str:
        if text.strip() in places:
            return places[text.strip()]
        return _replaced(text, in_brackets)

    _follow(draft, renamed, in_brackets)


def _follow(draft: Draft, renamed: Callable[[str], str], in_brackets: dict[str, str]) -> None:
    """`renamed` says what becomes of a text that is a name or a formula, `in_brackets` of formulas wherever they stand
    in the site file."""
    text = draft.text()
    if not draft.site.bridges:  # nothing to look for but formulas
        after = _replaced(text, in_brackets)
        if after != text:
            draft.put(after)
        return
    document = tomlkit.parse(text)
    for bridge in tables_of(document, "bridge"):
        for table in tables_of(bridge, "pass"):
            for key in _PASS_KEYS:
                if isinstance(table.get(key), str) and renamed(table[key]) != table[key]:
                    table[key] = renamed(table[key])
        for table in tables_of(bridge, "device"):
            _follow_in_map(draft, draft.path.parent / str(table.get("map", "")), renamed)
    after = _replaced(tomlkit.dumps(document), in_brackets)
    if after != text:
        draft.put(after)


def _follow_in_map(draft: Draft, path: Path, renamed: Callable[[str], str]) -> None:
    if not draft.text(path):
        return
    rows = draft.rows(path)
    sources = {name: rows.cells_of(name).get("from", "") for name in rows.names}
    changes = {name: {"from": renamed(source)} for name, source in sources.items() if renamed(source) != source}
    if changes:
        draft.put(with_changes(draft.text(path), changes), path)


def _replaced(text: str, names: dict[str, str]) -> str:
    for before, after in names.items():
        text = text.replace(before, after)
    return text
