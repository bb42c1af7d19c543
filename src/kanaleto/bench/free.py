"""Whether simulated devices may answer on a port that exists: nobody who is real may answer there under their unit IDs.

First the port is only listened to. Where another master talks, its answers decide, and not a byte is sent. Where nobody
does, each unit is asked for one register that the map has and that may be read; the first answer ends it.
"""

from msgspec import Struct

from kanaleto.lines.outcome import OutcomeKind
from kanaleto.probing.listening import LineListener
from kanaleto.probing.question import Opener, is_forbidden, survey_exchanger, untouchable
from kanaleto.serving.portlink import PortLink
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.model import Device, Line
from kanaleto.wire.pdu import Read

LEAST_HEAR_S = 2.0
_TIMEOUT_S = 0.3


class PortFound(Struct):
    """What was found: `why_not` is why nobody may stand in there; `unsure` are devices that could not be asked."""

    why_not: str = ""
    was_heard: bool = False
    unsure: tuple[str, ...] = ()


def needs_hearing(line: Line) -> bool:
    """Whether it is a port that was there before us."""
    link = line.link
    if not isinstance(link, SerialLink):
        return False
    return link.is_remote or "/" not in link.port or PortLink(link.port, line.name).is_port_of_others()


async def look_at(line: Line, hear_s: float = LEAST_HEAR_S, opener: Opener = survey_exchanger) -> PortFound:
    """Listen, and ask where nobody is heard. Raises Unreachable, SurveyStopped."""
    listener = LineListener(line.link, True, opener)
    heard = await listener.run(max(hear_s, LEAST_HEAR_S))
    if heard.frames or heard.bytes:
        answering = sorted({one.unit_id for one in heard.asked.values() if one.answered or one.refused})
        taken = [device for device in line.devices if device.unit_id in answering]
        if not taken:
            return PortFound(was_heard=True)
        who = ", ".join(f"unit {device.unit_id}" for device in taken)
        return PortFound(f"another master asks {who} there, and is answered; nothing was sent", True)
    exchanger = opener(line.link)
    await exchanger.open()
    unsure: list[str] = []
    try:
        for device in line.devices:
            question = _question(device)
            if question is None:
                unsure.append(device.name)
                continue
            outcome = await exchanger.ask(device.unit_id, question, _TIMEOUT_S)
            if outcome.kind not in (OutcomeKind.TIMEOUT, OutcomeKind.UNREACHABLE):
                return PortFound(f"unit {device.unit_id} answers there already: {outcome.kind.value}")
    finally:
        exchanger.close()
    return PortFound(unsure=tuple(unsure))


def _question(device: Device) -> Read | None:
    """One register of the map that may be read."""
    never = untouchable(device)
    for point in device.points:
        if point.access.is_read and not is_forbidden(never, point.table, point.address, point.address):
            return Read(point.table, point.address, 1)
    return None
