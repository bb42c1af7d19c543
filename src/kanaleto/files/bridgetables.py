"""Bridges of a site file: what stands there as `site.bridges`, and what is wrong with it."""

import re
from collections.abc import Callable, Sequence
from ipaddress import ip_network
from pathlib import Path

from kanaleto.files import siteschema as schema
from kanaleto.site.bridges import Bridge, BridgeTarget, Composed, ComposedRow, Pass, Route, RouteAccess, TlsServing
from kanaleto.site.counting import Numbering
from kanaleto.site.expression import references
from kanaleto.site.filefaults import suggestion
from kanaleto.site.links.link import FramingKind, Link, is_loopback, is_same_place
from kanaleto.site.links.parse import parse_link
from kanaleto.site.model import Derived, Line, Point, Writing
from kanaleto.site.ranges import parse_range
from kanaleto.wire.codes import Table

_MOST_UNIT = 255

ReadPoints = Callable[["Where", schema.ComposedTable], Sequence[Point]]
"""The points of a composed device's map; the place is for faults."""
Where = tuple[str | int, ...]
TellFault = Callable[..., None]
"""The place, as keys from the top, what is wrong there, and whether that is only a warning."""


def read_bridges(
    tables: Sequence[schema.BridgeTable], lines: Sequence[Line], folder: Path, fault: TellFault,
    tls_serving: Callable[[int, schema.BridgeTable], TlsServing | None], read_points: ReadPoints,
) -> tuple[tuple[Bridge, ...], tuple[Derived, ...]]:  # fmt: skip
    """The bridges, and the expressions of their composed devices as derived points. `fault` receives what is wrong."""
    derived: list[Derived] = []
    bridges = tuple(
        _bridge(("bridge", index), table, lines, folder, fault, tls_serving(index, table), read_points, derived)
        for index, table in enumerate(tables)
    )
    names: set[str] = set()
    ways: list[tuple[Link, str]] = []
    for index, bridge in enumerate(bridges):
        where = ("bridge", index)
        if bridge.name in names:
            fault((*where, "name"), f"two bridges are named {bridge.name!r}; give each its own name")
        names.add(bridge.name)
        for link in bridge.listen:
            other = next((name for known, name in ways if is_same_place(known, link)), None)
            if other is not None:
                fault((*where, "listen"), f"{link.place} is a way in of bridge {other!r} already")
            ways.append((link, bridge.name))
    for line in lines:
        for link, name in ways:
            if is_same_place(line.link, link):
                index = next(at for at, bridge in enumerate(bridges) if bridge.name == name)
                fault(
                    ("bridge", index, "listen"),
                    f"{link.place} is where line {line.name!r} of this site leads: what came in there would go round"
                    " in a circle; listen at another place",
                )
    _check_passes(bridges, fault)
    return bridges, tuple(derived)


def _check_passes(bridges: Sequence[Bridge], fault: TellFault) -> None:
    """Two to one point, and circles."""
    by_target: dict[tuple[str, str], tuple[Where, Pass]] = {}
    for index, bridge in enumerate(bridges):
        for number, pass_ in enumerate(bridge.passes):
            place: Where = ("bridge", index, "pass", number, "to")
            target = (pass_.to_device, pass_.to_point)
            if target in by_target:
                fault(place, f"two passes write to {pass_.title}: a point has one that writes it")
            by_target[target] = (place, pass_)
    for place, pass_ in by_target.values():
        seen, at = {(pass_.to_device, pass_.to_point)}, (pass_.device, pass_.point)
        while at in by_target and at not in seen:
            seen.add(at)
            at = (by_target[at][1].device, by_target[at][1].point)
        if at in seen:
            fault(place, f"the pass to {pass_.title} goes in a circle: its value comes from where it is written")
            return


def _bridge(
    where: Where, table: schema.BridgeTable, lines: Sequence[Line], folder: Path, fault: TellFault,
    serving: TlsServing | None, read_points: ReadPoints, derived: list[Derived],
) -> Bridge:  # fmt: skip
    listen = _ways_in(where, table, folder, fault)
    for link in listen:
        if getattr(link, "tls", None) is not None and serving is None:
            fault((*where, "listen"), f"{link.place} is served over TLS, which needs serve_cert and serve_key")
    for at, client in enumerate(table.clients):
        try:
            ip_network(client.strip(), strict=False)
        except ValueError:
            fault((*where, "clients", at), f"{client!r} is no address and no network, as 192.0.2.7 or 198.51.100.0/24")
    routes = []
    units: dict[int, int] = {}
    for number, route_table in enumerate(table.route):
        route = _route((*where, "route", number), route_table, lines, fault)
        if route is None:
            continue
        routes.append(route)
        for unit in route.units:
            if unit in units:
                fault(
                    (*where, "route", number, "units"),
                    f"unit ID {unit} has a route in bridge {table.name!r} already; one way for each",
                )
            units[unit] = number
        serial = [link for link in listen if link.framing is not FramingKind.TCP]
        outside = [unit for unit in route.units if not 1 <= unit <= 247]
        if serial and outside:
            fault(
                (*where, "route", number, "units"), f"unit ID {outside[0]} is not in 1…247, as {serial[0].place} needs"
            )
    devices = []
    for number, composed_table in enumerate(table.device):
        if composed_table.unit_id in units:
            fault(
                (*where, "device", number, "unit_id"),
                f"unit ID {composed_table.unit_id} of bridge {table.name!r} is taken already",
            )
        units[composed_table.unit_id] = number
        composed = _composed((*where, "device", number), composed_table, table.name, lines, fault, read_points, derived)
        devices += [composed] if composed is not None else []
    passes = []
    for number, each in enumerate(table.passes):
        passed = _pass((*where, "pass", number), each, f"{table.name} pass {number + 1}", lines, fault, derived)
        passes += [passed] if passed is not None else []
    if not table.route and not table.device and not table.passes:
        fault((*where, "name"), f"bridge {table.name!r} has no [[bridge.route]]: nothing goes through it", True)
    is_open = any(_is_open(link) for link in listen) and not table.clients
    is_open = is_open and not (serving is not None and serving.ca is not None)
    if is_open and any(route.access is RouteAccess.WRITE for route in routes):
        fault(
            (*where, "listen"),
            f"bridge {table.name!r} can be reached from other machines, and names no clients and no serve_ca: it only"
            " reads, whatever its routes say",
            True,
        )
    return Bridge(
        table.name, listen, tuple(routes), tuple(table.clients), table.patience_s, table.waiting, table.share_s,
        table.broadcast, serving, tuple(devices), tuple(passes),
    )  # fmt: skip


def _pass(
    where: Where, table: schema.PassTable, title: str, lines: Sequence[Line], fault: TellFault, derived: list[Derived]
) -> Pass | None:
    known = {f"{device.name}/{point.name}": (device, point) for line in lines for device in line.devices
             for point in device.points}  # fmt: skip
    device, point = "", title
    source = table.source.strip()
    if source.startswith("="):
        derived.append(Derived(title, source[1:].strip()))
    elif source in known:
        device, point = known[source][0].name, known[source][1].name
    else:
        near = suggestion(source, list(known))
        fault(
            (*where, "from"), f"{source!r} is no point of this site{near}; write Device/Point, or = and an expression"
        )
        return None
    if table.to not in known:
        fault((*where, "to"), f"{table.to!r} is no point of this site{suggestion(table.to, list(known))}")
        return None
    to_device, to_point = known[table.to]
    if not to_point.access.is_written:
        fault((*where, "to"), f"{table.to} may only be read: its map says access r")
    if to_device.writing is not Writing.UNLOCK:
        what = f'{to_device.name} has writing = "{to_device.writing.value}"'
        fault((*where, "to"), f"{what}: nothing is passed to it", True)
    if (table.every_s is None) is not table.change:
        fault((*where, "every_s"), "a pass has every_s, or change = true: one of both")
    condition = ""
    if table.condition:
        condition = f"{title} while"
        derived.append(Derived(condition, table.condition))
    return Pass(
        device, point, to_device.name, to_point.name, None if table.change else table.every_s, condition, table.stale
    )


def _composed(
    where: Where, table: schema.ComposedTable, bridge: str, lines: Sequence[Line], fault: TellFault,
    read_points: ReadPoints, derived: list[Derived],
) -> Composed | None:  # fmt: skip
    known = {f"{device.name}/{point.name}": (device, point) for line in lines for device in line.devices
             for point in device.points}  # fmt: skip
    rows: list[ComposedRow] = []
    taken: dict[tuple[Table, int], str] = {}
    for point in read_points(where, table):
        text = f"{point.name} of unit {table.unit_id}"
        for address in range(point.address, point.end):
            other = taken.setdefault((point.table, address), point.name)
            if other != point.name:
                fault((*where, "map"), f"{text} stands where {other} stands: each register has one value")
        source = point.source.strip()
        if not source:
            fault((*where, "map"), f"{text} has nothing in column from: Device/Point, or = and an expression", True)
            continue
        if source.startswith("="):
            name = f"{bridge} {table.unit_id}: {point.name}"
            formula = source[1:].strip()
            derived.append(Derived(name, formula))
            own_devices = {device.name for line in lines for device in line.devices}
            names = [found.partition("/")[0] for found in references(formula)]
            sources = tuple(dict.fromkeys(one for one in names if one in own_devices))
            if point.access.is_written:
                fault((*where, "map"), f"{text} is an expression, and is never written: access r", True)
            rows.append(_row(point, "", name, sources, False))
            continue
        if source not in known:
            near = suggestion(source, list(known))
            fault(
                (*where, "map"),
                f"{text}: {source!r} is no point of this site{near}; write Device/Point. Its registers are answered 0B",
                True,
            )
            of_device, _, named = source.partition("/")
            own_devices = {device.name for line in lines for device in line.devices}
            rows.append(
                _row(point, of_device, named, (of_device,) if of_device in own_devices else (), is_written=False)
            )
            continue
        device, source_point = known[source]
        if point.access.is_written and not source_point.access.is_written:
            fault((*where, "map"), f"{text} is written, and {source} may only be read: its map says access r", True)
        rows.append(
            _row(
                point,
                device.name,
                source_point.name,
                (device.name,),
                point.access.is_written and source_point.access.is_written,
            )
        )
    status = None
    if table.status:
        try:
            of, first, _ = parse_range(table.status, Numbering(table.numbering), "status")
        except ValueError as error:
            fault((*where, "status"), str(error))
            return None
        status = (of, first)
        count = len({device for row in rows for device in row.sources})
        for address in range(first, first + 2 * count):
            if (of, address) in taken:
                fault(
                    (*where, "status"), f"status words of unit {table.unit_id} stand where {taken[of, address]} stands"
                )
                break
        if of.is_bits:
            fault((*where, "status"), "status words stand in registers: holding or input")
    return Composed(table.unit_id, tuple(rows), table.stale, table.stale_after_s, status, Numbering(table.numbering))


def _row(point: Point, device: str, name: str, sources: tuple[str, ...], is_written: bool) -> ComposedRow:
    return ComposedRow(
        point.name,
        point.table,
        point.address,
        point.end,
        point.codec,
        point.decimals,
        device,
        name,
        sources,
        is_written,
    )


def _ways_in(where: Where, table: schema.BridgeTable, folder: Path, fault: TellFault) -> tuple[Link, ...]:
    found: list[Link] = []
    for text in [table.listen] if isinstance(table.listen, str) else table.listen:
        try:
            found.append(parse_link(text).beside(folder))
        except ValueError as error:
            fault((*where, "listen"), str(error))
    if not found and not isinstance(table.listen, str) and not table.listen:
        fault((*where, "listen"), f"bridge {table.name!r} listens nowhere: name a link, as tcp://127.0.0.1:15502")
    return tuple(found)


def _is_open(link: Link) -> bool:
    """Whether other machines may reach it."""
    host = getattr(link, "host", None)
    return host is not None and not is_loopback(host)


def is_open(bridge: Bridge) -> bool:
    """Whether anybody on the network may ask it: it only reads then."""
    has_authority = bridge.tls_serving is not None and bridge.tls_serving.ca is not None
    return any(_is_open(link) for link in bridge.listen) and not bridge.clients and not has_authority


def _route(where: Where, table: schema.RouteTable, lines: Sequence[Line], fault: TellFault) -> Route | None:
    try:
        units = units_of(table.units)
        there = units_of(table.there) if table.there is not None else units
    except ValueError as error:
        fault((*where, "units"), str(error))
        return None
    names = [table.to] * len(units) if isinstance(table.to, str) else table.to
    if len(names) != len(units):
        fault((*where, "to"), f"to names {len(names)} lines for {len(units)} unit IDs: one for all, or one for each")
        return None
    if len(there) != len(units):
        fault((*where, "there"), f"there names {len(there)} unit IDs for {len(units)}: one for each")
        return None
    known = {line.name: line for line in lines}
    for name, unit in zip(names, there, strict=True):
        line = known.get(name)
        if line is None:
            fault((*where, "to"), f"{name!r} is no line of this site{suggestion(name, list(known))}")
            return None
        if line.link.framing is not FramingKind.TCP and not 1 <= unit <= 247:
            key = "there" if table.there is not None else "units"
            fault((*where, key), f"unit ID {unit} is not in 1…247, as line {name!r} needs")
            return None
    targets = tuple(BridgeTarget(name, unit) for name, unit in zip(names, there, strict=True))
    functions = tuple(table.functions) if table.functions is not None else None
    addresses: list[tuple[Table, int, int]] = []
    for at, text in enumerate(table.addresses):
        try:
            addresses.append(parse_range(text, Numbering.PROTOCOL, "addresses"))
        except ValueError as error:
            fault((*where, "addresses", at), str(error))
    return Route(units, targets, RouteAccess(table.access), functions, tuple(addresses), table.retries, table.probe_s)


def units_of(said: int | str) -> tuple[int, ...]:
    """Unit IDs of `40-43` or `1, 1, 3, 9`. Raises ValueError."""
    if isinstance(said, int):
        return (said,)
    units: list[int] = []
    for part in said.split(","):
        match = re.fullmatch(r"\s*(\d{1,3})\s*(?:[-–…]\s*(\d{1,3}))?\s*", part)
        low, high = (int(match[1]), int(match[2] or match[1])) if match is not None else (1, 0)
        if not 0 <= low <= high <= _MOST_UNIT:
            raise ValueError(f"{part.strip()!r} is no unit ID and no range of them, as 40 or 40-43")
        units += range(low, high + 1)
    return tuple(units)
