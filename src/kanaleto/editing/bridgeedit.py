"""Edits of bridges: a route or a pass, as one line of `key=value`, changed, added or taken away; a first bridge with
its first route."""

from collections.abc import Callable, Mapping
from typing import Literal

import tomlkit

from kanaleto.editing.workingcopy import CannotEdit, Draft, Edit
from kanaleto.files.maprows import assignments, split_assignments
from kanaleto.files.sitetext import tables_of, with_appended
from kanaleto.site.bridges import Bridge, Pass, Route, RouteAccess
from kanaleto.site.filefaults import suggestion

PartKind = Literal["route", "pass"]
"""What a bridge has several of; the word is the key of the site file."""


def _whole(text: str) -> object:
    return int(text)


def _seconds(text: str) -> object:
    return float(text.removesuffix("s").strip())


def _names(text: str) -> object:
    names = [part.strip() for part in text.split(";") if part.strip()]
    return names[0] if len(names) == 1 else names


def _codes(text: str) -> object:
    return [int(word) for word in text.replace(",", " ").split()]


def _ranges(text: str) -> object:
    return [part.strip() for part in text.split(";") if part.strip()]


def _yes(text: str) -> object:
    if text.lower() not in ("yes", "no"):
        raise ValueError(text)
    return text.lower() == "yes"


def _stale(text: str) -> object:
    return text if text == "hold" else float(text)


ROUTE_SETTINGS: dict[str, tuple[Callable[[str], object], str]] = {
    "units": (str, "unit IDs as masters ask for them: 40-43 or 1, 3"),
    "to": (_names, "the name of a line for all of them, or one for each with ; between"),
    "there": (str, "the unit IDs on that line, one for each; the same without it"),
    "access": (str, "read or write"),
    "functions": (_codes, "function codes, as in 3 4 6"),
    "addresses": (_ranges, "ranges, as in holding 100-119; input 3"),
    "retries": (_whole, "how often a read is asked again"),
    "probe_s": (_seconds, "how often a silent target is tried"),
}
PASS_SETTINGS: dict[str, tuple[Callable[[str], object], str]] = {
    "from": (str, "whose value: Device/Point, or = and an expression"),
    "to": (str, "the point that it is written to: Device/Point"),
    "every_s": (_seconds, "how often it is written; or change=yes"),
    "change": (_yes, "yes: when it changes by more than the deadband of its target"),
    "while": (str, "a condition, as in [Crane winch/Run state] != 'Stopped'"),
    "stale": (_stale, "hold: nothing is written while its source is not good; or a number that is written once"),
}
BRIDGE_SETTINGS: dict[str, tuple[Callable[[str], object], str]] = {
    "name": (str, "what the bridge is called"),
    "listen": (str, "where masters are heard, as tcp://127.0.0.1:15502"),
    **ROUTE_SETTINGS,
}
"""Of a first bridge: with its first route."""


def units_text(units: tuple[int, ...]) -> str:
    """`40-43, 50`, as the file has it."""
    spans: list[list[int]] = []
    for unit in units:
        if spans and unit == spans[-1][1] + 1:
            spans[-1][1] = unit
        else:
            spans.append([unit, unit])
    return ", ".join(str(low) if low == high else f"{low}-{high}" for low, high in spans)


def route_text(route: Route) -> str:
    """A route as it is typed."""
    lines = [target.line for target in route.targets]
    there = tuple(target.unit_id for target in route.targets)
    typed = {"units": units_text(route.units), "to": lines[0] if len(set(lines)) == 1 else "; ".join(lines)}
    if there != route.units:
        typed["there"] = units_text(there)
    if route.access is not RouteAccess.READ:
        typed["access"] = route.access.value
    if route.functions is not None:
        typed["functions"] = " ".join(map(str, route.functions))
    if route.addresses:
        typed["addresses"] = "; ".join(f"{table.value} {first}-{last}" for table, first, last in route.addresses)
    if route.retries:
        typed["retries"] = str(route.retries)
    if route.probe_s != Route((), ()).probe_s:
        typed["probe_s"] = f"{route.probe_s:g}"
    return assignments(typed)


def pass_text(pass_: Pass, formulas: Mapping[str, str]) -> str:
    """A pass as it is typed; `formulas` has the expressions of its bridge by name."""
    typed = {
        "from": f"{pass_.device}/{pass_.point}" if pass_.device else f"= {formulas.get(pass_.point, '')}",
        "to": pass_.title,
    }
    typed |= {"change": "yes"} if pass_.every_s is None else {"every_s": f"{pass_.every_s:g}"}
    if pass_.condition:
        typed["while"] = formulas.get(pass_.condition, "")
    if pass_.stale != Pass("", "", "", "").stale:
        typed["stale"] = str(pass_.stale)
    return assignments(typed)


def parse_keys(
    text: str, settings: Mapping[str, tuple[Callable[[str], object], str]] = ROUTE_SETTINGS,
    needed: tuple[str, ...] = ("units", "to"), is_new: bool = False,
) -> dict[str, object]:  # fmt: skip
    """What was typed, None for a key that is to go (`functions=`). Raises ValueError with one sentence."""
    found: dict[str, object] = {}
    for word, key, value in split_assignments(text):
        if key not in settings:
            close = suggestion(key or word, list(settings))
            what = "pass" if settings is PASS_SETTINGS else "route"
            raise ValueError(f"{key or word} is no setting of a {what}{close}; ? lists them all")
        parse, what = settings[key]
        if not value.strip() and key in needed:
            raise ValueError(f"{key} is needed; type it, or escape leaves it as it is")
        try:
            found[key] = parse(value.strip()) if value.strip() else None
        except (ValueError, OverflowError):
            raise ValueError(f"{key} {value!r} must be: {what}") from None
    missing = [key for key in needed if is_new and not found.get(key)]
    if missing:
        raise ValueError(f"{missing[0]} is needed: {settings[missing[0]][1]}")
    return found


def change_part(bridge: Bridge, kind: PartKind, number: int, changes: Mapping[str, object]) -> Edit:
    """Other keys of the route or pass of that number; None takes one away."""

    def edit(draft: Draft) -> str:
        document = tomlkit.parse(draft.text())
        part = _part(document, draft, bridge, kind, number)
        for key, value in changes.items():
            if value is None:
                part.pop(key, None)
            else:
                part[key] = value
        draft.put(tomlkit.dumps(document))
        return f"a {kind} of {bridge.name}"

    return edit


def delete_part(bridge: Bridge, kind: PartKind, number: int) -> Edit:
    def edit(draft: Draft) -> str:
        document = tomlkit.parse(draft.text())
        _part(document, draft, bridge, kind, number)
        tables = bridge_table(document, bridge.name)
        del tables[kind][number]
        draft.put(tomlkit.dumps(document))
        return f"a {kind} of {bridge.name} less"

    return edit


def add_part(name: str, kind: PartKind, keys: Mapping[str, object]) -> Edit:
    """One more route or pass, at the end of a bridge."""

    def edit(draft: Draft) -> str:
        document = tomlkit.parse(draft.text())
        with_appended(bridge_table(document, name), kind, _table(keys))
        draft.put(tomlkit.dumps(document))
        return f"a {kind} of {name} more"

    return edit


def add_bridge(keys: Mapping[str, object]) -> Edit:
    """A bridge with its first route."""

    def edit(draft: Draft) -> str:
        document = tomlkit.parse(draft.text())
        bridge = _table({key: keys[key] for key in ("name", "listen")})
        with_appended(bridge, "route", _table({key: keys[key] for key in ROUTE_SETTINGS if key in keys}))
        with_appended(document, "bridge", bridge)
        draft.put(tomlkit.dumps(document))
        return f"the bridge {keys['name']}"

    return edit


def _table(keys: Mapping[str, object]) -> "tomlkit.items.Table":
    table = tomlkit.table()
    for key, value in keys.items():
        if value is not None:
            table[key] = value
    return table


def bridge_table(document: tomlkit.TOMLDocument, name: str) -> "tomlkit.items.Table":
    """The bridge of that name. Raises CannotEdit."""
    for bridge in tables_of(document, "bridge"):
        if bridge.get("name") == name:
            return bridge
    raise CannotEdit(f"there is no bridge {name!r} any more, so nothing was changed")


def _part(
    document: tomlkit.TOMLDocument, draft: Draft, bridge: Bridge, kind: PartKind, number: int
) -> "tomlkit.items.Table":
    """The route or pass, where it stands as it was seen."""
    now = next((each for each in draft.site.bridges if each.name == bridge.name), None)
    tables = tables_of(bridge_table(document, bridge.name), kind)
    seen = _parts_of(bridge, kind)
    parts = _parts_of(now, kind) if now is not None else ()
    if number >= min(len(parts), len(tables)) or parts[number] != seen[number]:
        raise CannotEdit(f"that {kind} of {bridge.name} was changed meanwhile: look again")
    return tables[number]


def _parts_of(bridge: Bridge, kind: PartKind) -> tuple[object, ...]:
    return bridge.routes if kind == "route" else bridge.passes
