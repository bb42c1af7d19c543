"""A point's words, or those beside it, asked once between what is polled."""

from kanaleto.planning.plan import Place
from kanaleto.polling.session import Session
from kanaleto.wire.pdu import Read, ReadAnswer


async def read_once(session: Session, place: Place, step: int) -> tuple[bytes | None, str]:
    """A point's words `step` addresses away, asked once; or None and why. What must never be read is not."""
    point, device = place.point, place.device
    first = point.address + step
    if not 0 <= first <= 0x10000 - point.size:
        return None, "there is no such address"
    if device.limits.forbids_reading(point.table, first, first + point.size - 1):
        return None, "never_read covers it"
    last = first + point.size - 1
    unread = [point for point in session.plan.points_of(place.device.name) if not point.access.is_read]
    if any(
        each_point.table is point.table and each_point.address <= last and each_point.end > first
        for each_point in unread
    ):
        return None, "a point there is only written"
    try:
        asked = session.named(place.line.name).ask(
            device.unit_id, Read(point.table, first, point.size), device.timeout_s, device
        )
    except (KeyError, OverflowError) as error:
        return None, str(error.args[0])
    outcome = await asked
    content = outcome.content
    return (content.data, "") if isinstance(content, ReadAnswer) else (None, outcome.reason)
