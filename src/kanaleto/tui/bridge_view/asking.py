"""What is typed about bridges: routes, passes, and runs of points that get registers of a composed device."""

from collections.abc import Mapping, Sequence
from concurrent.futures import Future

from kanaleto.editing.bridgeedit import (
    BRIDGE_SETTINGS,
    PASS_SETTINGS,
    ROUTE_SETTINGS,
    PartKind,
    add_bridge,
    add_part,
    change_part,
    parse_keys,
    pass_text,
    route_text,
)
from kanaleto.editing.composedit import (
    NEW_SETTINGS,
    RUN_SETTINGS,
    assign_run,
    next_free,
    parse_run,
    points_named,
    unit_of,
)
from kanaleto.editing.news import Done
from kanaleto.files.maprows import assignments
from kanaleto.planning.plan import Identity
from kanaleto.site.bridges import Bridge, Composed
from kanaleto.tui.shared.context import Context

_SETTINGS = {"route": (ROUTE_SETTINGS, ("units", "to")), "pass": (PASS_SETTINGS, ("from", "to"))}


def ask_change(context: Context, bridge: Bridge, kind: PartKind, number: int) -> None:
    """Other keys of a route or a pass."""
    settings, needed = _SETTINGS[kind]
    if kind == "route":
        shown = route_text(bridge.routes[number])
    else:
        formulas = {derived.name: derived.formula for derived in context.snapshot.site.composing}
        shown = pass_text(bridge.passes[number], formulas)

    def take(text: str) -> "Future[Done] | str | None":
        try:
            typed, before = parse_keys(text, settings, needed), parse_keys(shown, settings, needed)
        except ValueError as error:
            return str(error)
        changes = {key: value for key, value in typed.items() if before.get(key) != value}
        if kind == "pass":
            changes = _with_one_turn(changes)
        return context.edit(change_part(bridge, kind, number, changes)) if changes else None

    listed = tuple((key, what) for key, (_, what) in settings.items())
    context.ask(f"{kind} of {bridge.name}", shown, take, is_added_to=True, listed=listed)


def _with_one_turn(changes: dict[str, object]) -> dict[str, object]:
    """every_s takes the place of change, and the other way about."""
    if changes.get("every_s") is not None and "change" not in changes:
        changes["change"] = None
    if changes.get("change") and "every_s" not in changes:
        changes["every_s"] = None
    return changes


def ask_route(context: Context, name: str) -> None:
    """One more route of that bridge; without a name a first bridge with one."""
    site = context.snapshot.site
    settings = ROUTE_SETTINGS if name else BRIDGE_SETTINGS
    needed = ("units", "to") if name else ("name", "listen", "units", "to")
    line = site.lines[0].name if site.lines else ""
    shown = assignments({"to": line})
    if not name:
        shown = assignments({"name": "Bridge", "listen": "tcp://127.0.0.1:15502", "units": "1-247", "to": line})

    def take(text: str) -> "Future[Done] | str | None":
        try:
            keys = parse_keys(text, settings, needed, is_new=True)
        except ValueError as error:
            return str(error)
        return context.edit(add_part(name, "route", keys) if name else add_bridge(keys))

    listed = tuple((key, what) for key, (_, what) in settings.items())
    title = f"one more route of {name}, with units=" if name else "the first bridge of this site, with a route"
    context.ask(title, shown, take, is_added_to=True, listed=listed)


def ask_pass(context: Context, bridge: Bridge) -> None:
    """A value that is passed on by itself."""

    def take(text: str) -> "Future[Done] | str | None":
        try:
            keys = parse_keys(text, PASS_SETTINGS, ("from", "to"), is_new=True)
        except ValueError as error:
            return str(error)
        if keys.get("change"):
            keys["every_s"] = None
        return context.edit(add_part(bridge.name, "pass", keys))

    listed = tuple((key, what) for key, (_, what) in PASS_SETTINGS.items())
    title = f"a value that {bridge.name} passes on, with from= and to="
    context.ask(title, "every_s=1", take, is_added_to=True, listed=listed)


def ask_run(context: Context, bridge: Bridge, composed: Composed | None, chosen: Sequence[Identity] = ()) -> None:
    """Points into registers of a composed device, which is a new one where there is none; `chosen` are marked ones."""
    shown: dict[str, str] = {}
    if composed is None:
        taken = {unit for route in bridge.routes for unit in route.units}
        taken |= {device.unit_id for device in bridge.devices}
        shown["unit_id"] = str(next((unit for unit in range(1, 248) if unit not in taken), 1))
    if chosen:
        shown["from"] = "; ".join("/".join(identity) for identity in chosen)
    shown["at"] = next_free(composed)
    settings: Mapping[str, str] = RUN_SETTINGS if composed is not None else NEW_SETTINGS

    def take(text: str) -> "Future[Done] | str | None":
        try:
            typed = parse_run(text, settings)
            unit_id = composed.unit_id if composed is not None else unit_of(typed["unit_id"])
            points_named(context.snapshot.site, typed["from"])
        except ValueError as error:
            return str(error)
        return context.edit(assign_run(bridge, unit_id, typed["from"], typed["at"]))

    where = f"unit {composed.unit_id}" if composed is not None else f"a new device of {bridge.name}"
    title = f"points into registers of {where}" if chosen else f"points into registers of {where}, with from="
    context.ask(title, assignments(shown), take, is_added_to=True, listed=tuple(settings.items()))
