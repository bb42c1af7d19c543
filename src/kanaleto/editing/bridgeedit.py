"""Edits of bridges: a route, as one line of `key=value`, changed, added or taken away; a first bridge with its first
route."""

from collections.abc import Callable, Mapping

import tomlkit

from kanaleto.editing.draft import CannotEdit, Draft, Edit
from kanaleto.files.maprows import assignments, split_assignments
from kanaleto.files.sitetext import tables_of, with_appended
from kanaleto.site.bridges import Bridge, Route, RouteAccess
from kanaleto.site.faults import suggestion


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
    told = {"units": units_text(route.units), "to": lines[0] if len(set(lines)) == 1 else "; ".join(lines)}
    if there != route.units:
        told["there"] = units_text(there)
    if route.access is not RouteAccess.READ:
        told["access"] = route.access.value
    if route.functions is not None:
        told["functions"] = " ".join(map(str, route.functions))
    if route.addresses:
        told["addresses"] = "; ".join(f"{table.value} {first}-{last}" for table, first, last in route.addresses)
    if route.retries:
        told["retries"] = str(route.retries)
    if route.probe_s != Route((), ()).probe_s:
        told["probe_s"] = f"{route.probe_s:g}"
    return assignments(told)


def parse_route(
    text: str, settings: Mapping[str, tuple[Callable[[str], object], str]] = ROUTE_SETTINGS,
    needed: tuple[str, ...] = ("units", "to"), is_new: bool = False,
) -> dict[str, object]:  # fmt: skip
    """What was typed, None for a key that is to go (`functions=`). Raises ValueError with one sentence."""
    found: dict[str, object] = {}
    for word, key, value in split_assignments(text):
        if key not in settings:
            close = suggestion(key or word, list(settings)) or ", as units=40-43 is one"
            raise ValueError(f"{key or word} is no setting of a route{close}; ? lists them all")
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


def change_route(bridge: Bridge, number: int, changes: Mapping[str, object]) -> Edit:
    """Other keys of the route of that number; None takes one away."""

    def edit(draft: Draft) -> str:
        document = tomlkit.parse(draft.text())
        route = _route(document, draft, bridge, number)
        for key, value in changes.items():
            if value is None:
                route.pop(key, None)
            else:
                route[key] = value
        draft.put(tomlkit.dumps(document))
        return f"a route of {bridge.name}"

    return edit


def delete_route(bridge: Bridge, number: int) -> Edit:
    def edit(draft: Draft) -> str:
        document = tomlkit.parse(draft.text())
        _route(document, draft, bridge, number)
        tables = _bridge(document, bridge.name)
        del tables["route"][number]
        draft.put(tomlkit.dumps(document))
        return f"a route of {bridge.name} less"

    return edit


def add_route(name: str, keys: Mapping[str, object]) -> Edit:
    """One more route, at the end of a bridge."""

    def edit(draft: Draft) -> str:
        document = tomlkit.parse(draft.text())
        with_appended(_bridge(document, name), "route", _table(keys))
        draft.put(tomlkit.dumps(document))
        return f"a route of {name} more"

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


def _bridge(document: tomlkit.TOMLDocument, name: str) -> "tomlkit.items.Table":
    for bridge in tables_of(document, "bridge"):
        if bridge.get("name") == name:
            return bridge
    raise CannotEdit(f"there is no bridge {name!r} any more, so nothing was changed")


def _route(document: tomlkit.TOMLDocument, draft: Draft, bridge: Bridge, number: int) -> "tomlkit.items.Table":
    """The route, where it stands as it was seen."""
    now = next((own for own in draft.site.bridges if own.name == bridge.name), None)
    routes = tables_of(_bridge(document, bridge.name), "route")
    if now is None or number >= len(now.routes) or now.routes[number] != bridge.routes[number]:
        raise CannotEdit(f"that route of {bridge.name} was changed meanwhile: look again")
    return routes[number]
