"""A device's own counters of its serial line (application protocol 1.1b3, 6.8: diagnostics sub-functions 0B to 12),
asked once, between what is polled; and how they and ours have grown since they were asked before. Nothing changes."""

from msgspec import Struct

from kanaleto.board.health import Tally
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.polling.session import Session
from kanaleto.site.model import Device, Line
from kanaleto.wire.diagnostics import DIAGNOSTIC_WORDS, Diagnose, Diagnostic

_ASKED = (
    Diagnostic.BUS_MESSAGES, Diagnostic.BUS_COMMUNICATION_ERRORS, Diagnostic.BUS_EXCEPTION_ERRORS,
    Diagnostic.SERVER_MESSAGES, Diagnostic.SERVER_NO_RESPONSES, Diagnostic.SERVER_NAKS, Diagnostic.SERVER_BUSY,
    Diagnostic.BUS_CHARACTER_OVERRUNS,
)  # fmt: skip
_ROUND = 0x10000


class OwnCounters(Struct, frozen=True):
    """By sub-function, each of 16 bits; `ours` is what this program counted until then. `refused` says why there are
    none."""

    counts: dict[Diagnostic, int]
    ours: Tally
    refused: str = ""
    points: dict[str, float] = {}
    """Points of its map that count errors (column `counts`), as they were read last."""


async def own_counters(
    session: Session, line: Line, device: Device, ours: Tally, points: dict[str, float] | None = None
) -> OwnCounters:
    """For the loop. Raises KeyError where the line is no more, and OverflowError where too much waits for it."""
    counts: dict[Diagnostic, int] = {}
    refused = ""
    for sub_function in _ASKED:
        outcome = await session.named(line.name).ask(device.unit_id, Diagnose(sub_function), device.timeout_s, device)
        if outcome.kind is OutcomeKind.GOOD and isinstance(outcome.content, Diagnose):
            counts[sub_function] = outcome.content.word
            continue
        refused = refused or outcome.reason
        if not counts:  # whoever refuses the first one knows none of them
            break
    return OwnCounters(counts, ours, "" if counts else refused, points or {})


def counters_text(now: OwnCounters, before: OwnCounters | None) -> str:
    """The counters in words, and how both sides grew since."""
    if not now.counts and not now.points:
        return f"it has no counters of its own that can be asked for (function 08): {now.refused}"
    parts = []
    for name, value in now.points.items():
        earlier = before.points.get(name) if before is not None else None
        parts.append(f"{name} {value:g}{f' (+{value - earlier:g})' if earlier is not None else ''}")
    for sub_function, count in now.counts.items():
        word = DIAGNOSTIC_WORDS[sub_function].removesuffix(" count")
        old = before.counts.get(sub_function) if before is not None else None
        grown = f" (+{(count - old) % _ROUND})" if old is not None else ""
        if count or grown:
            parts.append(f"{word} {count}{grown}")
    text = "; ".join(parts) or "all of its counters are 0"
    if before is None:
        return f"it counts {text}. Ours: {now.ours.good} good, {now.ours.failed} failed. Again says how both grew"
    good, failed = now.ours.good - before.ours.good, now.ours.failed - before.ours.failed
    return f"it counts {text}. Ours since: {good} good, {failed} failed"
