"""Makes the sheets of exchanges: one in both framings, or a stretch of a line."""

import time
from collections.abc import Sequence

from kanaleto.capture.row import ExchangeRow, framing_name, link_of
from kanaleto.capture.words import OUTCOMES, asked_words, outcome_words
from kanaleto.evidence.damage import damage_of
from kanaleto.paper.casedocument import moment
from kanaleto.paper.look import zone_words
from kanaleto.paper.sheets import ExchangeSheet, PaperBar, PaperBox, PaperFrame, TimingSheet
from kanaleto.site.origin import Origin
from kanaleto.wire.explain import explain_frame
from kanaleto.wire.frames import Role
from kanaleto.wire.pdu import Read
from kanaleto.wire.rtu import Rtu
from kanaleto.wire.tcp import Tcp

MOST_BARS = 200


def exchange_sheet(row: ExchangeRow, exact_ms: float | None) -> ExchangeSheet:
    """As it went over its line, and the same PDUs in the other framing; `exact_ms` None says nothing of exactness."""
    asked_in = framing_name(row.link)
    other = "rtu" if asked_in == "tcp" else "tcp"
    names = {"rtu": "serial line (RTU)", "ascii": "serial line (ASCII)", "tcp": "network"}
    frames = [_frame(row, asked_in, Role.REQUESTS, row.request, f"Request, as it went: {names[asked_in]}")]
    if row.answer:
        after = f"Answer, after {row.took_us / 1000:.1f} ms"
        frames.append(_frame(row, asked_in, Role.ANSWERS, row.answer, f"{after}: {names[asked_in]}"))
    for word, role, pdu in (("Request", Role.REQUESTS, row.pdu), ("Answer", Role.ANSWERS, row.answer_pdu)):
        if pdu and damage_of(row) is None:
            framing = Rtu() if other == "rtu" else Tcp()
            raw = framing.encode(row.unit_id, pdu, 1)
            frames.append(_frame(row, other, role, raw, f"The same {word.lower()} on a {names[other]}"))
    damage = damage_of(row)
    notes = [_times_note(exact_ms), *_origin_notes([row])]
    if damage is not None:
        notes.insert(0, f"Of the answer: {damage.text}.")
    who = row.device or f"unit {row.unit_id}"
    about = f"{moment(row.at_us)} · {row.line} · {asked_words(row)} · {outcome_words(row)}"
    return ExchangeSheet(f"{who}: one exchange", about, [frame for frame in frames if frame.boxes], notes)


def _frame(row: ExchangeRow, framing: str, role: Role, raw: bytes, heading: str) -> PaperFrame:
    request = row.asked()
    first = request.address if isinstance(request, Read) else None
    fields = explain_frame(framing, role, raw, first) if raw else []
    damage = damage_of(row) if role is Role.ANSWERS and raw == row.answer else None
    boxes = [
        PaperBox(
            raw[field.start : field.end].hex(" ").upper(), field.name, field.meaning,
            field.is_right is False
            or (damage is not None and damage.start < field.end and field.start < damage.end),
        )
        for field in fields
    ]  # fmt: skip
    return PaperFrame(f"{heading}, {len(raw)} bytes", boxes)


def _times_note(exact_ms: float | None) -> str:
    zone = zone_words(time.time())
    return f"Times in {zone}." if exact_ms is None else f"Times ± {exact_ms:g} ms; {zone}."


def timing_sheet(rows: Sequence[ExchangeRow], title: str, exact_ms: float | None) -> TimingSheet:
    """At most 200 exchanges, a lane a device."""
    shown = sorted(rows, key=lambda row: row.at_us)[:MOST_BARS]
    begin_us = shown[0].at_us
    lanes = list(dict.fromkeys(row.device or f"unit {row.unit_id}" for row in shown))
    bars = [_bar(row, lanes, begin_us) for row in shown]
    more = f", the first {MOST_BARS} of {len(rows)}" if len(rows) > MOST_BARS else ""
    about = f"{len(shown)} exchanges{more} from {moment(begin_us)} · ms after that · {zone_words(time.time())}"
    notes = [] if exact_ms is None else [f"Times ± {exact_ms:g} ms."]
    return TimingSheet(title, about, begin_us / 1e6, lanes, bars, [*notes, *_origin_notes(shown)])


def _bar(row: ExchangeRow, lanes: list[str], begin_us: int) -> PaperBar:
    """On a serial line bytes began as much before their last as they take."""
    character_us = 1e6 * link_of(row.link).character_s
    asked_us = max(row.sent_us - len(row.request) * character_us, 0) if character_us else 0
    first_us = max(row.last_us - len(row.answer) * character_us, row.sent_us) if character_us else row.first_us
    return PaperBar(
        lanes.index(row.device or f"unit {row.unit_id}"), _after(row, asked_us, begin_us),
        _after(row, row.sent_us, begin_us), _after(row, first_us, begin_us) if row.answer else 0.0,
        _after(row, row.last_us, begin_us), OUTCOMES[row.kind],
    )  # fmt: skip


def _after(row: ExchangeRow, us: float, begin_us: int) -> float:
    return (row.at_us + us - begin_us) / 1000


def _origin_notes(rows: Sequence[ExchangeRow]) -> list[str]:
    unreal = sorted({f"{row.line} ({row.origin})" for row in rows if row.origin != Origin.REAL.value})
    return [f"Not answered by real devices: {', '.join(unreal)}."] if unreal else []
