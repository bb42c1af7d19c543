"""A folder with what a search has found: a site file, a map a unit, a report, and what the search knows, so that it can
go on another day.

Files that somebody has edited since are left as they are: what would have replaced them is written beside, under a name
of its own.
"""

import hashlib
import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from kanaleto.files.sitetext import new_site_text, with_device, with_line, with_line_keys
from kanaleto.files.texts import read_json
from kanaleto.files.whole import write_whole
from kanaleto.lines.stablenames import stable_name
from kanaleto.probing.draftmap import UnitDraft, draft_text
from kanaleto.probing.surveyfile import kept_of
from kanaleto.probing.unitstates import UnitFound, UnitState
from kanaleto.site.links.link import Link
from kanaleto.site.links.parse import parse_link
from kanaleto.unknown.concluding import drafts_of
from kanaleto.unknown.everything import Everything
from kanaleto.unknown.sampling import Samples
from kanaleto.unknown.turns import Turn
from kanaleto.wire.codes import Table

SITE, STATE, REPORT = "site.toml", "find.json", "report.txt"
_HEAD = """\
# Drafted by reading alone: nothing was written, so nobody knows what may be written. Coils and holding registers have
# access r in the maps; A in Live makes a point writable, and so does access rw in its map.
"""
_FORMAT = 1
_MOST_ROUNDS_KEPT = 30
_CLOSES = 5  # times that a host closed the connection while it was searched
_MOST_BYTES = 256 * 1024 * 1024


class WrittenFolder(Struct):
    """Files that were written, those that somebody edited with what was written beside them, and how many points."""

    files: list[Path]
    edited: list[tuple[Path, Path]]
    points: int
    units: int


def keep_state(folder: Path, searches: Sequence[Everything]) -> None:
    """What the searches know now, in case that nothing else can be written any more. Raises OSError."""
    folder.mkdir(parents=True, exist_ok=True)
    kept = {"kanaleto_find": _FORMAT, "written": _written_before(folder), "places": [_kept(one) for one in searches]}
    write_whole(folder / STATE, json.dumps(kept) + "\n")


def why_not_written(folder: Path) -> str:
    """Why nothing could be written there, in words, or nothing."""
    is_new = not folder.exists()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_whole(folder / f".{STATE}", "")
        (folder / f".{STATE}").unlink()
        if is_new:
            folder.rmdir()
    except OSError as error:
        return f"{folder} cannot be written: {error.strerror}"
    return ""


def is_taken(folder: Path) -> str:
    """Why nothing new may be written there, in words, or nothing."""
    if folder.exists() and not folder.is_dir():
        return f"{folder} is a file; name a folder"
    if (folder / STATE).exists():
        return f"{folder} holds an earlier search; --resume goes on with it, or name another folder"
    if (folder / SITE).exists():
        return f"{folder} holds a site already; name another folder"
    return ""


def write_folder(
    folder: Path, searches: Sequence[Everything], report: str, drafts: Sequence[Sequence[UnitDraft]] | None = None,
    changes: Mapping[str, Mapping[str, object]] | None = None,
) -> WrittenFolder:  # fmt: skip
    """Everything as it is known now; each file is written beside its place and renamed. `drafts` are those of each
    search, where somebody made them already; `changes` are keys by device name that go before those of its draft.
    Raises OSError."""
    folder.mkdir(parents=True, exist_ok=True)
    before = _written_before(folder)
    written = WrittenFolder([], [], 0, 0)
    marks: dict[str, str] = {}

    def put(name: str, text: str) -> None:
        path = folder / name
        if path.exists() and before.get(name, "") != _mark(path.read_text(encoding="utf-8", errors="replace")):
            beside = folder / f"{path.stem}-found{path.suffix}"
            write_whole(beside, text)
            written.edited.append((path, beside))
            marks[name] = before.get(name, "-")
            return
        write_whole(path, text)
        written.files.append(path)
        marks[name] = _mark(text)

    text = _HEAD + new_site_text(folder.resolve().name or "Found")
    lines: set[str] = set()
    for number, search in enumerate(searches):
        unit_drafts = drafts[number] if drafts is not None else drafts_of(search)
        if not search.knows_settings or (not unit_drafts and len(searches) > 1):
            continue
        name = _free(_title(search.link), lines)
        text = with_line(text, name, str(search.link))
        text = with_line_keys(text, name, _line_keys(search))
        for draft in unit_drafts:
            map_name = f"unit-{draft.unit_id}.csv" if len(searches) == 1 else f"{_file(name)}-unit-{draft.unit_id}.csv"
            device = f"Unit {draft.unit_id}" if len(searches) == 1 else f"{name} unit {draft.unit_id}"
            keys = {"name": device, "unit_id": draft.unit_id, "map": map_name}
            changed = dict((changes or {}).get(device, {}))
            if "never_read" in changed:
                changed["never_read"] = [*dict(draft.keys).get("never_read", ()), *changed["never_read"]]  # type: ignore
            text = with_device(text, name, {**keys, **dict(draft.keys), **changed})
            put(map_name, draft_text(draft.rows))
            written.points += len(draft.rows)
            written.units += 1
    put(SITE, text)
    put(REPORT, report)
    state = {"kanaleto_find": _FORMAT, "written": marks, "places": [_kept(search) for search in searches]}
    write_whole(folder / STATE, json.dumps(state) + "\n")
    return written


def _title(link: Link) -> str:
    return link.title


def _file(name: str) -> str:
    return "".join(letter if letter.isalnum() or letter in "-_." else "-" for letter in name).strip("-.") or "line"


def _free(name: str, taken: set[str]) -> str:
    free, number = name, 1
    while free in taken:
        number += 1
        free = f"{name} {number}"
    taken.add(free)
    return free


def _line_keys(search: Everything) -> dict[str, object]:
    keys: dict[str, object] = {}
    if search.rest_s:
        keys["gap_s"] = search.rest_s
    if search.gently.closed >= _CLOSES:  # a connection for each request is never the one that is closed
        keys["connection"] = "request"
    stable = stable_name(search.link.local_port) if search.link.local_port else ""
    if stable:
        keys["prefer_port"] = stable
    return keys


def _mark(text: str) -> str:
    return hashlib.sha1(text.encode(), usedforsecurity=False).hexdigest()


def _written_before(folder: Path) -> dict[str, str]:
    try:
        kept: Any = read_json(folder / STATE, _MOST_BYTES)
        marks = kept.get("written", {})
        return {str(name): str(mark) for name, mark in marks.items()}
    except (OSError, ValueError, AttributeError):
        return {}


# What a search knows


def _kept(search: Everything) -> dict[str, Any]:
    turns = search.turns.units if search.turns is not None else {}
    return {
        "link": str(search.link),
        "knows_settings": search.knows_settings,
        "settings_turns": search.settings_turns,
        "rest_s": search.rest_s,
        "closed": search.gently.closed,
        "asked_units": sorted(search.asked_units),
        "units": [
            {"unit_id": found.unit_id, "state": found.state.value, "took_s": found.took_s, "answer": found.answer.hex(),
             "text": found.text, "says": search.says.get(found.unit_id, "")}
            for found in search.found.values()
        ],
        "registers": [
            {**kept_of(turn.survey), "samples": _kept_samples(turn.samples), "sample_s": _kept_times(turn.samples),
             "left_alone": _why_left(turn)}
            for turn in turns.values()
        ],
    }  # fmt: skip


def _why_left(turn: Turn) -> str:
    return turn.trouble if turn.is_left_alone else ""


def _kept_samples(samples: Samples) -> list[Any]:
    return [
        [[table.value, first, list(words)] for (table, first), words in round_.words.items()]
        for round_ in samples.rounds[-_MOST_ROUNDS_KEPT:]
    ]


def _kept_times(samples: Samples) -> list[float]:
    """When each was read, in seconds since the first of them."""
    rounds = samples.rounds[-_MOST_ROUNDS_KEPT:]
    return [round(round_.at_s - rounds[0].at_s, 3) for round_ in rounds]


def load_folder(folder: Path, make: Any) -> list[Everything]:
    """The searches of an earlier time, to be gone on with; `make` makes one for a link and whether its settings are
    known. Raises ValueError with one sentence."""
    path = folder / STATE
    if not path.exists():
        raise ValueError(f"{folder} holds no search to go on with; leave --resume away to begin one")
    broken = f"{path}: is no search that can be gone on with; name another folder"
    try:
        kept: Any = read_json(path, _MOST_BYTES)
    except OSError as error:
        raise ValueError(f"{path} cannot be read: {error.strerror}") from None
    if not isinstance(kept, dict) or not isinstance(kept.get("kanaleto_find"), int):
        raise ValueError(broken)
    if kept["kanaleto_find"] > _FORMAT:
        raise ValueError(f"{path}: was written by a newer Kanaleto; begin again in another folder")
    try:
        return [_restored(place, make) for place in kept["places"]]
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, ArithmeticError):
        raise ValueError(broken) from None


def copy_of(search: Everything) -> Everything:
    """What it knows now, to be concluded from on another thread while it goes on."""
    return _restored(
        json.loads(json.dumps(_kept(search))),
        lambda link, knows_settings: Everything(link, knows_settings, search.within_s, search.never),
    )


def _unit_id(text: Any) -> int:
    unit_id = int(text)
    if not 0 <= unit_id <= 255:
        raise ValueError
    return unit_id


def _restored(place: Any, make: Any) -> Everything:
    search: Everything = make(parse_link(place["link"]), bool(place["knows_settings"]))
    search.settings_turns = max(int(place.get("settings_turns", 0)), 0)
    search.rest_s = min(max(float(place.get("rest_s", 0.0)), 0.0), 1.0)
    search.gently.closed = max(int(place.get("closed", 0)), 0)
    search.asked_units = {_unit_id(unit) for unit in place["asked_units"]}
    for unit in place["units"]:
        unit_id = _unit_id(unit["unit_id"])
        state = UnitState(unit["state"])
        answer = bytes.fromhex(unit["answer"])
        search.found[unit_id] = UnitFound(unit_id, state, float(unit["took_s"]), answer, str(unit["text"]))
        search.says[unit_id] = str(unit["says"])
    for kept in place["registers"]:
        samples = Samples()
        times = [float(at_s) for at_s in kept.get("sample_s", ())]
        for number, round_ in enumerate(kept["samples"]):
            words = {(Table(table), int(first)): tuple(map(int, found)) for table, first, found in round_}
            samples.add(times[number] if number < len(times) else 0.0, words, 0.0)
        search.go_on_with(_unit_id(kept["unit_id"]), kept, samples, str(kept["left_alone"]))
    return search
