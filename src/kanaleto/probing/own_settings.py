"""What a device says of its own port, from registers that its map marks as holding unit ID, baud, parity or stop
bits."""

import re

from msgspec import Struct

from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.question import Ask
from kanaleto.site.links.link import Parity
from kanaleto.site.model import Device, Line, Point, PortSetting
from kanaleto.values.codec import NoValue
from kanaleto.wire.pdu import Read, ReadAnswer

_LEAST_BAUD = 300
_TITLES = {
    PortSetting.UNIT_ID: "unit ID",
    PortSetting.BAUD: "baud",
    PortSetting.PARITY: "parity",
    PortSetting.STOP: "stop bits",
}


class OwnSetting(Struct, frozen=True):
    """One register: the code in it, what it means (None where nobody knows), whether the line agrees (None where it
    cannot), in words."""

    point: Point
    code: int | None
    meaning: str | None
    agrees: bool | None
    text: str


async def read_own_settings(ask: Ask, line: Line, device: Device) -> list[OwnSetting]:
    """Read every marked register of `device` and compare it with `line`. Nothing is written."""
    found = []
    for point in device.points:
        if point.setting is None or not point.access.is_read:
            continue
        if device.limits.forbids_reading(point.table, point.address, point.end - 1):
            found.append(OwnSetting(point, None, None, None, f"{point.name} may never be read"))
            continue
        outcome = await ask(device.unit_id, Read(point.table, point.address, point.size), device.timeout_s)
        if outcome.kind is not OutcomeKind.GOOD or not isinstance(outcome.content, ReadAnswer):
            found.append(OwnSetting(point, None, None, None, f"{point.name} could not be read: {outcome.reason}"))
            continue
        value = point.codec.decode(outcome.content.data)
        found.append(judge(point, value if not isinstance(value, NoValue) else None, line, device))
    return found


def judge(point: Point, value: object, line: Line, device: Device) -> OwnSetting:
    """What one code means, and whether it agrees with the line and the unit ID that are in use."""
    assert point.setting is not None
    title = _TITLES[point.setting]
    if not isinstance(value, int | float) or value != int(value):
        return OwnSetting(point, None, None, None, f"{title}: {point.name} holds no whole number")
    code = int(value)
    meaning = meaning_of(point, code)
    if meaning is None:
        message = "the map has no labels for its codes" if not point.labels else "which the map's labels do not name"
        return OwnSetting(point, code, None, None, f"{title}: code {code}, {message}")
    used = in_use(point.setting, line, device)
    said = meaning if meaning == str(code) else f"code {code}, {meaning}"
    if used is None:
        return OwnSetting(point, code, meaning, None, f"{title}: {said}; this line has none to compare with")
    if meaning == used:
        return OwnSetting(point, code, meaning, True, f"{title}: {said}, as in use")
    text = f"{title}: {said}, and {used} is in use: it takes the new one after a restart, or a gateway stands between"
    return OwnSetting(point, code, meaning, False, text)


def meaning_of(point: Point, code: int) -> str | None:
    """What a code in a register marked as a setting means: a number, or the word of a parity; None where nobody
    knows."""
    label = point.labels.get(code)
    if point.setting is PortSetting.UNIT_ID:
        return str(code)
    if point.setting is PortSetting.PARITY:
        words = {"n": Parity.NONE.value, "e": Parity.EVEN.value, "o": Parity.ODD.value}
        return words.get(label.strip()[:1].lower()) if label else None
    if label is not None:
        digits = re.sub(r"[\s.,']", "", label)
        match = re.search(r"\d+", digits)
        return match[0] if match else None
    if point.labels:
        return None
    if point.setting is PortSetting.STOP:
        return str(code) if code in (1, 2) else None
    if code >= _LEAST_BAUD:
        return str(code)
    return (
        str(100 * code)
        if 100 * code >= _LEAST_BAUD and 100 * code in (300, 600, 1200, 2400, 4800, 9600, 19200)
        else None
    )


def in_use(setting: PortSetting, line: Line, device: Device) -> str | None:
    """What the site says of it, as `meaning_of` does; None where it says nothing."""
    if setting is PortSetting.UNIT_ID:
        return str(device.unit_id)
    settings = line.link.settings
    if settings is None:
        return None
    return {
        PortSetting.BAUD: str(settings.baud),
        PortSetting.PARITY: settings.parity.value,
        PortSetting.STOP: str(settings.stop),
    }[setting]
