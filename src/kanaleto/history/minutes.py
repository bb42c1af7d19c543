"""How devices did, minute by minute: what came of what was asked, and how long good answers took. Counted at each
exchange, so it must cost next to nothing; reported when the minute is over."""

from typing import Any

from msgspec import Struct, field

from kanaleto.board.listener import Exchange
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.model import Device, Line

MINUTE_US = 60_000_000
_MOST_TIMES = 2048
_GOOD = OutcomeKind.GOOD


class _Counts(Struct, eq=False):
    line: Line
    device: Device | None
    good: int = 0
    kinds: dict[OutcomeKind, int] = field(default_factory=dict)
    codes: dict[int, int] = field(default_factory=dict)
    times: list[float] = field(default_factory=list)
    busy_s: float = 0.0


class Minutes:
    """Minutes of wall time. A minute is reported with what was of it: the first and the last may be part of one."""

    def __init__(self) -> None:
        self._counts: dict[tuple[str, str], _Counts] = {}
        """By the names of line and device; of the line itself, without one."""
        self._begun_us: int | None = None
        self._since_us = 0
        """Since when it is counted."""

    def add(self, exchange: Exchange) -> None:
        """Another exchange; one in so many good answers is timed where there are very many."""
        line, device, outcome = exchange.line, exchange.device, exchange.outcome
        key = (line.name, device.name if device is not None else "")
        counts = self._counts.get(key)
        if counts is None:
            counts = self._counts[key] = _Counts(line, device)
        done_at = outcome.done_at
        counts.busy_s += done_at - outcome.asked_at
        if outcome.kind is _GOOD:
            number = counts.good
            counts.good = number + 1
            if number < _MOST_TIMES:
                counts.times.append(done_at - outcome.sent_at)
            elif number % 16 == 0:
                counts.times[number // 16 % _MOST_TIMES] = done_at - outcome.sent_at
            return
        kind, code = outcome.kind, outcome.code
        counts.kinds[kind] = counts.kinds.get(kind, 0) + 1
        if code is not None:
            counts.codes[code] = counts.codes.get(code, 0) + 1

    def due(self, wall_us: int, late: dict[tuple[str, str], int], is_over: bool = False) -> list[dict[str, Any]]:
        """What is to be reported now: the minute before, where another has begun. `late` counts late answers by line
        and device (empty for all of a line), since the last time."""
        begun_us = wall_us - wall_us % MINUTE_US
        if self._begun_us is None:
            self._begun_us, self._since_us = begun_us, wall_us
        if begun_us == self._begun_us and not is_over:
            return []
        at_us, self._begun_us = self._begun_us, begun_us
        counted_s = max((wall_us - self._since_us) / 1e6, 0.001)
        self._since_us = wall_us
        counts, self._counts = self._counts, {}
        busy: dict[str, float] = {}
        entries = []
        lines: dict[str, Line] = {}
        for line_counts in counts.values():
            name = line_counts.line.name
            busy[name] = busy.get(name, 0.0) + line_counts.busy_s
            lines[name] = line_counts.line
            if line_counts.device is not None:
                entries.append(
                    {
                        **_entry(at_us, line_counts.device.name, line_counts),
                        "late": late.get((name, line_counts.device.name), 0),
                    }
                )
        for name, busy_s in busy.items():
            whole = _Counts(lines[name], None)
            entries.append(
                {**_entry(at_us, "", whole), "late": late.get((name, ""), 0), "busy": min(busy_s / counted_s, 1.0)}
            )
        return entries


def _entry(at_us: int, device: str, counts: _Counts) -> dict[str, Any]:
    kinds, times = counts.kinds, sorted(counts.times)
    return {
        "at": at_us,
        "line": counts.line,
        "device": device,
        "asked": counts.good + sum(kinds.values()),
        "good": counts.good,
        "silent": kinds.get(OutcomeKind.TIMEOUT, 0),
        "garbled": kinds.get(OutcomeKind.GARBLED, 0),
        "strange": kinds.get(OutcomeKind.UNEXPECTED, 0),
        "unreachable": kinds.get(OutcomeKind.UNREACHABLE, 0),
        "late": 0,
        "exceptions": counts.codes,
        "median_us": round(1e6 * times[len(times) // 2]) if times else None,
        "most_us": round(1e6 * times[min(len(times) * 95 // 100, len(times) - 1)]) if times else None,
        "busy": None,
    }
