"""When does it fail? For each device and kind of failure with eight cases or more: hour, period, length of the answer,
whose exchange came just before, load, and what changed in the seconds before, each against the good exchanges of the
same device.

Something is said only where chance, over all that was looked at, is below 1 %. Failures that follow each other count as
one there: an outage of a minute is no sixty cases. What is reported are all of them.
"""

import subprocess
import sys
from array import array
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from pathlib import Path

import msgspec
import numpy as np
from msgspec import Struct, field

from kanaleto.capture.jsonlines import NoCapture
from kanaleto.capture.reading import Capture
from kanaleto.capture.row import ExchangeRow
from kanaleto.capture.served import ServedPoints, point_at
from kanaleto.capture.words import OUTCOMES
from kanaleto.evidence.chance import at_least
from kanaleto.files.loading import load_site
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.filefaults import FaultyFile
from kanaleto.values.text import shown
from kanaleto.wire.codes import TABLE_READ_BY, Table

LEAST, _CHANCE = 8, 0.01
_LONGEST_S = 120.0
_WINDOWS_S = (2.0, 5.0)
_MOST_VALUES, _MOST_CHANGES, _MOST_KEYS, _MOST_CASES = 8, 3000, 3000, 400_000
_LOAD_US = 1_000_000
_LONGEST_PERIOD_S, _LEAST_PERIOD_S, _BINS = 1800.0, 3.0, 8

Ints = np.ndarray[tuple[int], np.dtype[np.int64]]
Flags = np.ndarray[tuple[int], np.dtype[np.bool_]]
Rows = Callable[[], Iterable[ExchangeRow]]


class WhenFound(Struct, frozen=True):
    """It fails `count` times of `of` where the cause is given, `against` of `against_of` otherwise."""

    device: str
    outcome: str
    cause: str
    count: int
    of: int
    against: int
    against_of: int
    text: str


class WhenLooked(Struct):
    """`causes` is how many were looked at; `cases` the devices and failures that were."""

    found: list[WhenFound]
    causes: int
    cases: int


class _Cases(Struct, eq=False):
    """Exchanges of one device: its failures of one kind and its good ones."""

    device: str
    kind: OutcomeKind
    at: "array[int]" = field(default_factory=lambda: array("q"))
    failed: "array[int]" = field(default_factory=lambda: array("b"))
    first: "array[int]" = field(default_factory=lambda: array("b"))
    """Whether it is good, or the first of failures that follow each other."""
    length: "array[int]" = field(default_factory=lambda: array("i"))
    before: "array[int]" = field(default_factory=lambda: array("i"))
    load: "array[int]" = field(default_factory=lambda: array("i"))
    was_failed: bool = False


class _Looked:
    """What is looked at of one device: causes, each with which cases have it."""

    def __init__(self, cases: _Cases) -> None:
        self.cases = cases
        self.at: Ints = np.array(cases.at, dtype=np.int64)
        self.failed: Flags = np.array(cases.failed, dtype=bool)
        self.first: Flags = np.array(cases.first, dtype=bool)
        self.best: tuple[float, WhenFound] | None = None
        self.count = 0
        self._tried: list[tuple[float, str, str, Flags]] = []

    def look(self, cause: str, words: str, has: Flags, times: int = 1) -> None:
        """One cause; `times` is among how many like it this one was chosen."""
        self.count += times
        inside, marked = has & self.first, self.failed & self.first
        drawn, hits, total = int(inside.sum()), int((inside & marked).sum()), int(self.first.sum())
        if hits < 3 or drawn == total:
            return
        chance = at_least(hits, drawn, int(marked.sum()), total)
        self._tried.append((chance, cause, words, has))

    def found(self, causes: int) -> WhenFound | None:
        """The surest, where chance over all causes is small enough, and where it makes a difference that counts."""
        for chance, cause, words, has in sorted(self._tried, key=lambda one: one[0]):
            if chance * causes >= _CHANCE:
                return None
            count, of = int((has & self.failed).sum()), int(has.sum())
            against, against_of = int((~has & self.failed).sum()), int((~has).sum())
            if against_of and count / of >= 2 * against / against_of:
                outcome = OUTCOMES[self.cases.kind]
                message = f"{outcome.capitalize()} {count} times of {of} {words}; {against} of {against_of} otherwise."
                text = f"{self.cases.device}: {message}"
                return WhenFound(self.cases.device, outcome, cause, count, of, against, against_of, text)
        return None


class _Changes:
    """When which register (or point) became which value: of what changes seldom."""

    def __init__(self, served: ServedPoints | None) -> None:
        self._served = served
        self._last: dict[tuple[str, int, bytes], bytes] = {}
        self.events: dict[tuple[str, str], array[int]] = {}
        self._busy: set[str] = set()
        self._values: dict[str, set[str]] = {}
        self._count: dict[str, int] = {}

    def take(self, row: ExchangeRow) -> None:
        pdu, answer = row.pdu, row.answer_pdu
        if row.kind is not OutcomeKind.GOOD or len(pdu) != 5 or pdu[0] not in TABLE_READ_BY:
            return
        key = (row.line, row.unit_id, pdu)
        before, data = self._last.get(key), answer[2:]
        if before == data:
            return
        if len(self._last) < _MOST_KEYS or before is not None:
            self._last[key] = data
        if before is None or len(before) != len(data):
            return
        table, first = TABLE_READ_BY[pdu[0]], int.from_bytes(pdu[1:3])
        at_us = row.at_us + row.last_us
        if table.is_bits:
            for place in range(int.from_bytes(pdu[3:5])):
                bit = data[place // 8] >> place % 8 & 1
                if bit != before[place // 8] >> place % 8 & 1:
                    self._note(row, table, first + place, bytes((bit,)), at_us)
            return
        for place in range(0, len(data) - 1, 2):
            word = data[place : place + 2]
            if word != before[place : place + 2]:
                self._note(row, table, first + place // 2, word, at_us)

    def _note(self, row: ExchangeRow, table: Table, address: int, data: bytes, at_us: int) -> None:
        who = row.device or f"unit {row.unit_id}"
        name, value = f"{who} {table.value} {address}", str(int.from_bytes(data))
        device = self._served.device_of(row) if self._served is not None else None
        point = point_at(device, table, address) if device is not None else None
        if device is not None and point is not None:
            name = f"{device.name}/{point.name}"
            if point.size == 1:
                whole = point.codec.decode(data) if not table.is_bits else data[0]
                value = shown(whole, point.codec, point.decimals, point.labels)
            if table.is_bits and not point.labels:
                value = "on" if data[0] else "off"
        elif table.is_bits:
            value = "on" if data[0] else "off"
        if name in self._busy:
            return
        values = self._values.setdefault(name, set())
        values.add(value)
        self._count[name] = self._count.get(name, 0) + 1
        if len(values) > _MOST_VALUES or self._count[name] > _MOST_CHANGES:  # it moves all the time
            self._busy.add(name)
            for key in [key for key in self.events if key[0] == name]:
                del self.events[key]
            return
        if len(self.events) < _MOST_KEYS:
            self.events.setdefault((name, value), array("q")).append(at_us)


def look_when(rows: Rows, served: ServedPoints | None = None) -> WhenLooked:
    """`rows` is called twice."""
    wanted = _worth_it(rows())
    if not wanted:
        return WhenLooked([], 0, 0)
    cases, changes, names = _collected(rows(), wanted, served)
    looked = [_look_at(one, changes, names) for one in cases]
    causes = sum(one.count for one in looked)
    found = [said for one in looked if (said := one.found(causes)) is not None]
    return WhenLooked(found, causes, len(looked))


def _worth_it(rows: Iterable[ExchangeRow]) -> set[tuple[str, str, int, OutcomeKind]]:
    counts: dict[tuple[str, str, int, OutcomeKind], int] = {}
    for row in rows:
        if row.request:
            key = (row.line, row.device, row.unit_id, row.kind)
            counts[key] = counts.get(key, 0) + 1
    return {
        key
        for key, count in counts.items()
        if count >= LEAST and key[3] is not OutcomeKind.GOOD and counts.get((*key[:3], OutcomeKind.GOOD), 0) >= LEAST
    }


def _collected(
    rows: Iterable[ExchangeRow], wanted: set[tuple[str, str, int, OutcomeKind]], served: ServedPoints | None
) -> tuple[list[_Cases], _Changes, list[str]]:
    cases = {key: _Cases(key[1] or f"unit {key[2]}", key[3]) for key in wanted}
    of_device: dict[tuple[str, str, int], list[_Cases]] = {}
    for key, one in cases.items():
        of_device.setdefault(key[:3], []).append(one)
    changes, names = _Changes(served), dict[str, int]()
    before: dict[str, int] = {}
    recent: dict[str, deque[int]] = {}
    for row in rows:
        if not row.request:
            continue
        changes.take(row)
        lately = recent.setdefault(row.line, deque())
        while lately and lately[0] < row.at_us - _LOAD_US:
            lately.popleft()
        for one in of_device.get((row.line, row.device, row.unit_id), ()):
            _add(one, row, before.get(row.line, -1), len(lately))
        lately.append(row.at_us)
        who = row.device or f"unit {row.unit_id}"
        before[row.line] = names.setdefault(who, len(names))
    return list(cases.values()), changes, list(names)


def _add(one: _Cases, row: ExchangeRow, before: int, load: int) -> None:
    is_failed = row.kind is one.kind
    if (not is_failed and row.kind is not OutcomeKind.GOOD) or len(one.at) >= _MOST_CASES:
        return
    pdu = row.pdu
    table = TABLE_READ_BY.get(pdu[0]) if len(pdu) == 5 else None
    count = int.from_bytes(pdu[3:5]) if table is not None else 0
    one.at.append(row.at_us)
    one.failed.append(is_failed)
    one.first.append(not is_failed or not one.was_failed)
    one.length.append((count + 7) // 8 if table is not None and table.is_bits else 2 * count)
    one.before.append(before)
    one.load.append(load)
    one.was_failed = is_failed


def _look_at(cases: _Cases, changes: _Changes, names: list[str]) -> _Looked:
    looked = _Looked(cases)
    length, before, load = (np.array(column, dtype=np.int64) for column in (cases.length, cases.before, cases.load))
    hours = np.array([datetime.fromtimestamp(at / 1e6).hour for at in cases.at])
    for hour in sorted({int(hour_here) for hour_here in hours}):
        looked.look("hour", f"between {hour:02}:00 and {(hour + 1) % 24:02}:00", hours == hour)
    for cut in sorted({int(cut_at) for cut_at in length})[1:]:
        looked.look("length", f"where {cut} bytes or more were asked for", length >= cut)
    for number in sorted({int(place) for place in before}):
        if number >= 0 and names[number] != cases.device:
            looked.look("before", f"right after an exchange of {names[number]}", before == number)
    for part in (0.5, 0.75, 0.9):
        cut = int(np.quantile(load, part))
        looked.look("load", f"with {cut} exchanges or more in the second before", load >= max(cut, 1))
    for (name, value), events in changes.events.items():
        since = _since(np.array(events, dtype=np.int64), looked.at)
        for window_s in _WINDOWS_S:
            has = (since >= 0) & (since <= window_s * 1e6)
            looked.look("change", f"within {window_s:.0f} s after {name} becomes {value}", has)
    _look_for_period(looked)
    return looked


def _since(events: Ints, at: Ints) -> Ints:
    """How long after the last event each moment is, in µs; -1 before the first."""
    events.sort()
    place = np.searchsorted(events, at, side="right") - 1
    return np.where(place >= 0, at - events[np.maximum(place, 0)], -1)


def _look_for_period(looked: _Looked) -> None:
    """Whether failures come at one part of a period again and again."""
    marked = looked.failed & looked.first
    times = looked.at[marked] / 1e6
    span_s = float(looked.at.max() - looked.at.min()) / 1e6
    longest_s = min(_LONGEST_PERIOD_S, span_s / 4)
    if len(times) < LEAST or longest_s <= _LEAST_PERIOD_S:
        return
    times = times[:400] - times[0]
    frequencies = np.arange(1 / longest_s, 1 / _LEAST_PERIOD_S, 0.25 / span_s)[:40_000]
    strength = np.zeros(len(frequencies))
    for begin in range(0, len(frequencies), 2000):
        part = frequencies[begin : begin + 2000]
        strength[begin : begin + 2000] = np.abs(np.exp(2j * np.pi * np.outer(part, times)).sum(axis=1))
    for at in np.argsort(strength)[-3:]:
        period_s = float(1 / frequencies[at])
        phase = ((looked.at - looked.at[0]) / 1e6 % period_s) / period_s
        bins = np.minimum((phase * _BINS).astype(int), _BINS - 1)
        counts = np.bincount(bins[marked], minlength=_BINS)
        pairs = counts + np.roll(counts, -1)
        best = int(np.argmax(pairs))
        has = (bins == best) | (bins == (best + 1) % _BINS)
        words = f"in the same quarter of every {period_s:.3g} s"
        looked.look("period", words, has, times=len(frequencies) * _BINS // 3)


# In a process of its own


class WhenQuestion(Struct):
    """A capture, a tape or the folder of one; the site file, or nothing; from when to when."""

    path: str
    site: str = ""
    from_us: int = 0
    to_us: int = 1 << 62


def ask_elsewhere(question: WhenQuestion) -> WhenLooked | None:
    """In a process of its own: hours of exchanges take seconds, and nobody should feel them. None where that failed."""
    try:
        done = subprocess.run(
            [sys.executable, "-m", "kanaleto.evidence.when"], input=msgspec.json.encode(question), capture_output=True,
            timeout=_LONGEST_S, check=False,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired):
        return None
    return msgspec.json.decode(done.stdout, type=WhenLooked) if not done.returncode else None


def main() -> None:
    """A question as JSON on stdin, what was found as JSON on stdout."""
    asked = msgspec.json.decode(sys.stdin.buffer.read(), type=WhenQuestion)
    served = None
    if asked.site:
        try:
            served = ServedPoints(load_site(Path(asked.site))[0])
        except (FaultyFile, OSError):
            served = None

    def rows() -> Iterator[ExchangeRow]:
        for row in Capture(Path(asked.path), lambda head: head.last_us >= asked.from_us):
            if asked.from_us <= row.at_us < asked.to_us:
                yield row

    try:
        found = look_when(rows, served)
    except (NoCapture, OSError):
        found = WhenLooked([], 0, 0)
    sys.stdout.buffer.write(msgspec.json.encode(found))


if __name__ == "__main__":
    main()
