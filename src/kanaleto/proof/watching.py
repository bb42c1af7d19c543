"""Evidence that takes its time: a cable that is pulled and put back, a limit that is crossed, a set point that is
followed."""

import asyncio

from msgspec import Struct

from kanaleto.history.definition import fingerprint_of
from kanaleto.polling.session import Session
from kanaleto.proof.claims import allowed, span_of
from kanaleto.proof.sheet import ClaimKey, SheetLine, new_id
from kanaleto.proof.taking import NoEvidence, SeenNow, iso_of, read_now
from kanaleto.site.model import Device, Line, Point
from kanaleto.site.proving import Tolerance, ToleranceOf

_LOOK_S, _FOLLOW_S, _FOLLOW_EACH_S = 0.05, 30.0, 0.5
_OF_SPAN = 1.0  # per cent that a feedback may be off where nothing is said


class Lost(Struct, frozen=True):
    """A device that was away: how long after its last answer that was noticed, and how long it was away, in seconds."""

    noticed_s: float
    away_s: float
    at: str

    def __str__(self) -> str:
        return f"noticed after {self.noticed_s:.1f} s, away {self.away_s:.1f} s"


async def watch_loss(session: Session, line: Line, device: Device, most_s: float) -> Lost:
    """Wait until it falls silent and answers again. Raises NoEvidence where it does not within `most_s`."""
    loop = asyncio.get_running_loop()
    end_s = loop.time() + most_s
    poller = session.named(line.name)
    state = poller.states[device.name]
    last_s = state.last_answer_s
    if last_s is None or state.is_silent or poller.connection.why_unreachable:
        raise NoEvidence(f"{device.name} does not answer now: it must answer before its cable is pulled")
    noticed_at_s: float | None = None
    while loop.time() < end_s:
        await asyncio.sleep(_LOOK_S)
        poller = session.named(line.name)
        state = poller.states[device.name]
        is_away = state.is_silent or bool(poller.connection.why_unreachable)
        answered_s = state.last_answer_s if state.last_answer_s is not None else last_s
        if noticed_at_s is None:
            if is_away:
                noticed_at_s = loop.time()
            last_s = answered_s
        elif not is_away and answered_s >= noticed_at_s:
            return Lost(noticed_at_s - last_s, answered_s - last_s, iso_of(session.clock.at(answered_s)))
    what = "answered all the time" if noticed_at_s is None else "has not come back"
    raise NoEvidence(f"{device.name} {what} within {most_s:.0f} s")


def loss_line(device: Device, lost: Lost, line: Line, who: str, origin: str, replaces: list[str]) -> SheetLine:
    """The line of the sheet."""
    return SheetLine(
        new_id(), "loss", device.name, "", "passed", lost.at, expected="back by itself", seen=str(lost), who=who,
        origin=origin, replaces=replaces or None, unit_id=device.unit_id,
        exchange={"at": lost.at, "line": line.name, "request": "", "answer": ""},
    )  # fmt: skip


def limit_line(key: ClaimKey, point: Point, seen: SeenNow, who: str, replaces: list[str]) -> SheetLine:
    """A limit that is past with that reading. Raises NoEvidence where it is not."""
    limit = getattr(point.limits, key.level, None)
    is_past = False
    expected: float | str
    if isinstance(limit, int | float):
        expected = float(limit)
        is_low = key.level.endswith("low")
        is_past = isinstance(seen.value, int | float) and (seen.value <= limit if is_low else seen.value >= limit)
    else:
        states = [point.labels.get(value, str(value)) for value in limit or ()]
        expected = ", ".join(states)
        is_past = str(seen.value) in states or any(state in str(seen.value).split(" · ") for state in states)
    if not is_past:
        raise NoEvidence(f"{point.name} is {seen.value}, not past {key.level} {expected}: bring it there, then enter")
    return SheetLine(
        new_id(), "limit", key.device, key.point, "passed", seen.at, fingerprint_of(point), key.level, key.when,
        expected, None, "unit", seen.value, seen.words, seen.exchange, "", who, seen.origin, replaces or None,
        seen.unit_id,
    )  # fmt: skip


def tolerance_of_feedback(written: Point, feedback: Point) -> Tolerance:
    """How far a feedback may be from what was written."""
    tolerance = feedback.proving.tolerance or written.proving.tolerance
    if tolerance is not None:
        return tolerance
    return (
        Tolerance(_OF_SPAN, ToleranceOf.SPAN)
        if span_of(feedback) is not None
        else Tolerance(_OF_SPAN, ToleranceOf.VALUE)
    )


async def watch_feedback(
    session: Session, line: Line, device: Device, written: Point, value: float | str, most_s: float = _FOLLOW_S
) -> tuple[SeenNow, bool]:
    """What shows that a write has come about: its feedback, or the point itself. Whether it did within `most_s`. Raises
    NoEvidence."""
    loop = asyncio.get_running_loop()
    shows = next((point for point in device.points if point.name == written.writing.feedback), written)
    end_s = loop.time() + (most_s if shows is not written else 0.0)
    while True:
        seen = await read_now(session, line, device, shows)
        if isinstance(value, int | float) and isinstance(seen.value, int | float):
            is_there = abs(seen.value - value) <= allowed(shows, value, tolerance_of_feedback(written, shows)) + 1e-9
        else:
            is_there = str(seen.value) == str(value)
        if is_there or loop.time() >= end_s:
            return seen, is_there
        await asyncio.sleep(_FOLLOW_EACH_S)


def write_line(
    key: ClaimKey, point: Point, value: float | str, seen: SeenNow, is_well: bool, who: str, replaces: list[str]
) -> SheetLine:
    """What was written, and what showed it."""
    shown = f"as {point.writing.feedback}" if point.writing.feedback else ""
    return SheetLine(
        new_id(), "write", key.device, key.point, "passed" if is_well else "failed", seen.at, fingerprint_of(point),
        key.level, key.when, value, None, "unit", seen.value, seen.words, seen.exchange, shown, who, seen.origin,
        replaces or None, seen.unit_id,
    )  # fmt: skip
