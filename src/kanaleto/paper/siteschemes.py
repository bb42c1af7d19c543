"""The drawing of a site as values: lines, devices along the cable, settings, terminators, bias, bridges."""

from kanaleto.editing.bridgeedit import units_text
from kanaleto.files.origins import origin_of
from kanaleto.paper.sheets import SchemeLine, SchemeSheet, SchemeUnit
from kanaleto.site.bridges import Bridge
from kanaleto.site.links.link import Link, SerialSettings
from kanaleto.site.model import Device, Line, Site
from kanaleto.site.origin import Origin
from kanaleto.site.wiring import MASTER, ordered


def scheme_sheet(site: Site, note: str = "") -> SchemeSheet:
    lines = [_line(line) for line in site.lines]
    count = sum(len(line.devices) for line in site.lines)
    about = f"{count} device{'s' if count != 1 else ''} on {len(lines)} line{'s' if len(lines) != 1 else ''}"
    notes = ["A filled mark on the line is a terminator. A dashed line is a network: its order is none of a cable."]
    notes += [f"Note: {note}"] if note else []
    return SchemeSheet(f"{site.name}: site drawing", about, lines, [_bridge(bridge) for bridge in site.bridges], notes)


def _line(line: Line) -> SchemeLine:
    wiring, is_bus = line.wiring, line.link.is_serial
    devices = {device.name: device for device in line.devices}
    origin = origin_of(line).value
    texts = [link_words(line.link)]
    texts += [f"{wiring.wires} wires"] if wiring.wires is not None else []
    texts += [f"{wiring.length_m:g} m"] if wiring.length_m is not None else []
    texts += [f"origin {origin}"] if origin != Origin.REAL.value else []
    units = [
        SchemeUnit(
            "This machine" if name == MASTER else name, _words(devices.get(name), line),
            name in wiring.terminators, name == wiring.bias,
        )
        for name in ordered(wiring, list(devices))
    ]  # fmt: skip
    return SchemeLine(line.name, " · ".join(texts), units, is_bus, [wiring.note] if wiring.note else [])


def link_words(link: Link) -> str:
    """Its place, and settings of a port; no paths to keys."""
    settings = link.settings
    place = str(link).partition("?")[0]
    return place if settings is None else f"{place} · {_settings(settings)}"


def _settings(settings: SerialSettings) -> str:
    return f"{settings.baud} {settings.data}{settings.parity.value[0].upper()}{settings.stop}"


def _words(device: Device | None, line: Line) -> list[str]:
    if device is None:
        return ["master", line.link.place]
    words = [f"unit ID {device.unit_id} · {len(device.points)} points"]
    words += [device.map_path.name] if device.map_path is not None else ["no map"]
    words += [] if device.is_enabled else ["switched off"]
    return [*words, *([device.note] if device.note else [])]


def _bridge(bridge: Bridge) -> str:
    ways = ", ".join(str(link).partition("?")[0] for link in bridge.listen)
    texts = [
        f"units {units_text(route.units)} to {', '.join(dict.fromkeys(target.line for target in route.targets))}"
        f" ({route.access.value})"
        for route in bridge.routes
    ]
    texts += [f"unit {device.unit_id} composed of {', '.join(device.sources)}" for device in bridge.devices]
    texts += [
        f"{one_pass.device}/{one_pass.point} passed on to {one_pass.title}"
        for one_pass in bridge.passes
        if one_pass.device
    ]
    return f"{bridge.name} at {ways}: {'; '.join(texts)}"
