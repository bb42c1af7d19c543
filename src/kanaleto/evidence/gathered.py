"""What is counted of exchanges, so that findings can be drawn from it: by line and device, in one pass over the rows,
in memory that does not grow with their number."""

from array import array
from collections import Counter, deque
from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from msgspec import Struct, field

from kanaleto.capture.row import ExchangeRow, framing_name, link_of, refused_code
from kanaleto.evidence.rate import OtherSettings, other_settings
from kanaleto.lines.outcome import OF_GATEWAY, OutcomeKind
from kanaleto.wire.checks import crc16
from kanaleto.wire.explain import pdu_of
from kanaleto.wire.frames import unit_of

MOST_ROWS = 200  # that show a thing
_MOST_DEVICES, _MOST_SPELLS = 5000, 2000
_TIMES, _MOST_ASKED = 256, 4000
OCTAVE = 4
_CONFIRMED_ALIKE = (5, 6, 8, 15, 16, 22)
"""Functions whose confirmation may be the request itself."""
_GOOD, _REFUSED, _SILENT = OutcomeKind.GOOD, OutcomeKind.EXCEPTION, OutcomeKind.TIMEOUT
_GARBLED, _STRANGE, _GONE = OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED, OutcomeKind.UNREACHABLE
_SAME_CUT_US = 200_000


class Shown(Struct):
    """So many, and when the first of them were."""

    count: int = 0
    rows: "array[int]" = field(default_factory=lambda: array("q"))

    def add(self, at_us: int) -> None:
        self.count += 1
        if len(self.rows) < MOST_ROWS:
            self.rows.append(at_us)


class Spell(Struct):
    """Failures one behind the other, and whether somebody else on the line answered meanwhile."""

    begun_us: int
    last_us: int
    count: int = 0
    silent: int = 0
    others_answered: int = 0
    others_failed: int = 0
    is_over: bool = False
    rows: "array[int]" = field(default_factory=lambda: array("q"))


class OfDevice(Struct, eq=False):
    """What came of one device, or of a unit that has no name."""

    line: str
    link: str
    device: str
    unit_id: int
    timeout_us: int = 0
    kinds: dict[OutcomeKind, int] = field(default_factory=dict)
    codes: dict[int, Shown] = field(default_factory=dict)
    gateway_codes: dict[int, Shown] = field(default_factory=dict)
    times: list[float] = field(default_factory=list)
    first_us: int = 0
    last_us: int = 0
    last_good_us: int | None = None
    sent: int = 0
    received: int = 0
    good_reads: dict[str, list[int]] = field(default_factory=dict)
    """By table: most that one request was answered, least and most address that was answered, most end."""
    refused_reads: dict[tuple[str, int], list[int]] = field(default_factory=dict)
    """By table and code: how many, least count, most count, least address, least end, most end."""
    silent_reads: dict[str, list[int]] = field(default_factory=dict)
    asked_before: dict[bytes, list[int]] = field(default_factory=dict)
    """PDUs that were answered well, each with what `good_reads` has of its table."""
    good_after: dict[int, int] = field(default_factory=dict)
    """How long a pause came before, `OCTAVE` steps for each doubling, from 1 µs."""
    silent_after: dict[int, int] = field(default_factory=dict)
    by_length: dict[int, list[int]] = field(default_factory=dict)
    """By the length of the answer that is due: whole ones, garbled ones."""
    spells: list[Spell] = field(default_factory=list)
    open_spell: Spell | None = None
    spell_lengths: Counter[int] = field(default_factory=Counter)
    garbled: Shown = field(default_factory=Shown)
    other_settings: Counter[OtherSettings] = field(default_factory=Counter)
    """What else than the line's settings the first garbled answers were sent with, where that is proved."""
    other_rows: Shown = field(default_factory=Shown)
    silent: Shown = field(default_factory=Shown)
    echoes: Shown = field(default_factory=Shown)
    wrong_units: Counter[int] = field(default_factory=Counter)
    wrong_unit_rows: Shown = field(default_factory=Shown)
    mixed: Shown = field(default_factory=Shown)
    late: Shown = field(default_factory=Shown)
    doubled: Shown = field(default_factory=Shown)
    waits_us: deque[int] = field(default_factory=lambda: deque(maxlen=51))
    """How long was waited in vain."""
    took_us: deque[int] = field(default_factory=lambda: deque(maxlen=4000))
    last_kind: OutcomeKind | None = None
    last_end_us: int = 0

    @property
    def name(self) -> str:
        return self.device or f"unit {self.unit_id}"

    @property
    def asked(self) -> int:
        return sum(self.kinds.values())

    @property
    def failed(self) -> int:
        return self.asked - self.kinds.get(_GOOD, 0)

    @property
    def answered(self) -> int:
        """With what is its own: good, or refused by itself."""
        return self.kinds.get(_GOOD, 0) + sum(shown.count for shown in self.codes.values())


class AskedRead(NamedTuple):
    """A read (functions 1 to 4): which table, from which address, how many."""

    table: str
    address: int
    items: int
    is_bits: bool


_TABLES = {1: ("coil", True), 2: ("discrete", True), 3: ("holding", False), 4: ("input", False)}


def _read_in(pdu: bytes) -> AskedRead | None:
    if len(pdu) != 5 or pdu[0] not in _TABLES:
        return None
    table, is_bits = _TABLES[pdu[0]]
    return AskedRead(table, pdu[1] << 8 | pdu[2], pdu[3] << 8 | pdu[4], is_bits)


class OfLine(Struct, eq=False):
    name: str
    link: str
    framing: str
    character_us: float
    is_wired: bool
    """Whether there are wires, a rate and terminators that could be wrong: not on a network."""
    rows: int = 0
    good: int = 0
    devices: dict[tuple[str, int], OfDevice] = field(default_factory=dict)
    refused: Shown = field(default_factory=Shown)
    held: Shown = field(default_factory=Shown)
    gone: Shown = field(default_factory=Shown)
    cut_at_once: Shown = field(default_factory=Shown)
    """Connections that ended before an answer."""
    cut_after: Counter[int] = field(default_factory=Counter)
    """Connections that ended after so many answers."""
    cut_rows: Shown = field(default_factory=Shown)
    foreign: Shown = field(default_factory=Shown)
    """Sound frames that nobody here asked for, of units or functions that were not asked."""
    since_open: int = 0
    """Answers since the connection was made."""
    last_cut_us: int = 0
    away: list[OfDevice] = field(default_factory=list)
    """Those whose last exchange failed."""
    unasked: deque[tuple[int, bytes]] = field(default_factory=lambda: deque(maxlen=4))
    last_end_us: int = 0
    asked_units: set[int] = field(default_factory=set)


class Gathered:
    """Feed it rows in the order of their ends, as a tape has them. `timeouts_us`, by line and unit ID, where they are
    known."""

    def __init__(self, timeouts_us: Mapping[tuple[str, int], int] = MappingProxyType({})) -> None:
        self._timeouts_us = timeouts_us
        self.lines: dict[str, OfLine] = {}
        self.rows = 0
        self.first_us: int | None = None
        self.last_us = 0
        self._devices = 0

    @property
    def devices(self) -> list[OfDevice]:
        return [device for line in self.lines.values() for device in line.devices.values()]

    def add(self, row: ExchangeRow) -> None:
        self.rows += 1
        self.first_us = row.at_us if self.first_us is None else min(self.first_us, row.at_us)
        self.last_us = max(self.last_us, row.at_us)
        line = self.lines.get(row.line)
        if line is None:
            link = link_of(row.link)
            line = self.lines[row.line] = OfLine(
                row.line, row.link, framing_name(row.link), 1e6 * link.character_s, link.local_port is not None
            )
        line.rows += 1
        if row.kind is _GONE:
            _cut(line, row)
        if not row.request:
            if row.answer:
                _unasked(line, row)
            return
        device = line.devices.get((row.device, row.unit_id))
        if device is None:
            if self._devices >= _MOST_DEVICES:
                return
            self._devices += 1
            timeout_us = self._timeouts_us.get((row.line, row.unit_id), 0)
            device = OfDevice(row.line, row.link, row.device, row.unit_id, first_us=row.at_us, timeout_us=timeout_us)
            line.devices[row.device, row.unit_id] = device
        line.asked_units.add(row.unit_id)
        _asked(line, device, row)


def _step_of(pause_us: int) -> int:
    """`OCTAVE` steps for each doubling."""
    bits = pause_us.bit_length()
    return OCTAVE * bits + (pause_us >> (bits - 3) & 3)


def pause_of(step: int) -> int:
    """The shortest pause of the next step, in µs."""
    bits, part = divmod(step + 1, OCTAVE)
    return (4 + part) << (bits - 3)


def _cut(line: OfLine, row: ExchangeRow) -> None:
    """A port or a connection was not there, or went."""
    reason = row.reason.lower()
    if any(word in reason for word in ("held by", "another program", "busy")):
        line.held.add(row.at_us)
    elif any(word in reason for word in ("there is no port", "no such", "unplugged", "was lost", "device disconnected",
                                         "input/output error", "is gone")):  # fmt: skip
        line.gone.add(row.at_us)
    elif "refused the connection" in reason or "connection refused" in reason:
        line.refused.add(row.at_us)
    elif any(word in reason for word in ("closed the connection", "broke", "reset", "hung up")):
        end_us = row.at_us + row.last_us
        if line.since_open:
            line.cut_after[line.since_open] += 1
            line.cut_rows.add(row.at_us)
        elif abs(end_us - line.last_cut_us) > _SAME_CUT_US:  # those that were under way end with it
            line.cut_at_once.add(row.at_us)
        line.last_cut_us = end_us
    line.since_open = 0


def _unasked(line: OfLine, row: ExchangeRow) -> None:
    """Bytes that are no request's answer."""
    framing = framing_name(row.link)
    unit_id = row.unit_id or unit_of(framing, row.answer)
    pdu = pdu_of(framing, row.answer)
    is_whole = framing != "rtu" or (len(row.answer) >= 4 and crc16(row.answer) == 0)
    device = next((one for one in line.devices.values() if one.unit_id == unit_id), None)
    line.unasked.append((row.at_us, row.answer))
    if device is None or not pdu or not is_whole:
        if is_whole and pdu and len(row.answer) >= 4 and row.kind is not _GARBLED:
            line.foreign.add(row.at_us)
        return
    if device.last_kind is _SILENT:
        device.late.add(row.at_us)
    elif device.last_kind in (_GOOD, _REFUSED) and not _is_request(pdu) and line.is_wired:
        device.doubled.add(row.at_us)
    elif _is_request(pdu):
        line.foreign.add(row.at_us)
    elif not line.is_wired:
        device.mixed.add(row.at_us)


def _look_for_echo(line: OfLine, device: OfDevice, row: ExchangeRow) -> None:
    """Whether the request itself was heard just before its answer: it is reported as bytes of nobody."""
    for at_us, heard in line.unasked:
        if heard == row.request and row.pdu[:1] and row.pdu[0] not in _CONFIRMED_ALIKE and at_us >= row.at_us - 1000:
            device.echoes.add(row.at_us)
            line.unasked.clear()
            return


def _is_request(pdu: bytes) -> bool:
    """Whether a PDU reads as the request of a read and as no answer to one."""
    return len(pdu) == 5 and 1 <= pdu[0] <= 4 and pdu[1] != 3


def _asked(line: OfLine, device: OfDevice, row: ExchangeRow) -> None:
    kind = row.kind
    device.kinds[kind] = number = device.kinds.get(kind, 0) + 1
    device.last_us = row.at_us
    device.sent += len(row.request)
    device.received += len(row.answer)
    framing, raw = line.framing, row.request
    pdu = raw[7:] if framing == "tcp" else raw[1:-2] if framing == "rtu" else row.pdu
    end_us = row.at_us + row.last_us
    begun_us = row.at_us + row.sent_us - int(len(raw) * line.character_us)
    pause_us = max(begun_us, row.at_us) - line.last_end_us if line.last_end_us else 0
    after = _step_of(pause_us) if pause_us > 8 else 0
    if line.unasked and kind is not _GONE:
        _look_for_echo(line, device, row)
    if kind is _GOOD:
        _good(line, device, row, pdu, number)
        device.good_after[after] = device.good_after.get(after, 0) + 1
    else:
        _failed(line, device, row, _read_in(pdu), after)
    if line.away or kind is not _GOOD:
        _note_spell(line, device, row)
    device.last_kind = kind
    if end_us > line.last_end_us:
        line.last_end_us = end_us


def _good(line: OfLine, device: OfDevice, row: ExchangeRow, pdu: bytes, number: int) -> None:
    """By far the most frequent, so with as little work as may be: what was asked before only counts up."""
    line.good += 1
    line.since_open += 1
    device.last_good_us = row.at_us
    took_us = row.last_us - row.sent_us
    device.took_us.append(took_us)
    if len(device.times) < _TIMES:
        device.times.append(max(took_us, 0) / 1e6)
    else:
        device.times[number * 7919 % _TIMES] = max(took_us, 0) / 1e6
    reads = device.asked_before.get(pdu)
    if reads is not None:
        reads[0] += 1
    elif (read := _read_in(pdu)) is not None:
        _widen(device.good_reads, read.table, read)
        if len(device.asked_before) < _MOST_ASKED:
            device.asked_before[pdu] = device.good_reads[read.table]
    size = len(row.answer)
    counts = device.by_length.get(size)
    if counts is None:
        counts = device.by_length[size] = [0, 0]
    counts[0] += 1


def _failed(line: OfLine, device: OfDevice, row: ExchangeRow, read: AskedRead | None, after: int) -> None:
    match row.kind:
        case OutcomeKind.EXCEPTION:
            line.since_open += 1
            code = refused_code(row) or 0
            codes = device.gateway_codes if code in OF_GATEWAY else device.codes
            codes.setdefault(code, Shown()).add(row.at_us)
            if read is not None and code in (1, 2, 3):
                _note_refused(device, read, code)
        case OutcomeKind.TIMEOUT:
            device.silent.add(row.at_us)
            device.silent_after[after] = device.silent_after.get(after, 0) + 1
            device.waits_us.append(row.took_us)
            if read is not None:
                _widen(device.silent_reads, read.table, read)
        case OutcomeKind.GARBLED | OutcomeKind.UNEXPECTED:
            _spoilt(line, device, row, read)
            if row.kind is _GARBLED and read is not None:
                due = _due(line.framing, read)
                if due:
                    device.by_length.setdefault(due, [0, 0])[1] += 1


def _spoilt(line: OfLine, device: OfDevice, row: ExchangeRow, read: AskedRead | None) -> None:
    answer, request = row.answer, row.request
    pdu, framing = row.answer_pdu, framing_name(row.link)
    if answer.startswith(request) and row.pdu[:1] and row.pdu[0] not in _CONFIRMED_ALIKE:
        device.echoes.add(row.at_us)
    elif row.kind is _STRANGE and answer and unit_of(framing, answer) != row.unit_id:
        device.wrong_units[unit_of(framing, answer)] += 1
        device.wrong_unit_rows.add(row.at_us)
    elif row.kind is _STRANGE:
        device.mixed.add(row.at_us)
    elif (
        line.is_wired
        and pdu
        and answer[:2] == request[:2]
        and read is not None
        and len(answer) > _due(line.framing, read)
    ):
        device.doubled.add(row.at_us)
        device.garbled.add(row.at_us)
    else:
        device.garbled.add(row.at_us)
        if line.is_wired and line.framing == "rtu" and device.garbled.count <= MOST_ROWS:
            other = other_settings(row)
            if other is not None:
                device.other_settings[other] += 1
                device.other_rows.add(row.at_us)


def _begins_right(row: ExchangeRow) -> bool:
    return row.answer[:2] == row.request[:2]


def _due(framing: str, read: AskedRead) -> int:
    """How long the whole answer is."""
    pdu = 2 + ((read.items + 7) // 8 if read.is_bits else 2 * read.items)
    match framing:
        case "tcp":
            return pdu + 7
        case "ascii":
            return 2 * (pdu + 2) + 3
    return pdu + 3


def _widen(reads: dict[str, list[int]], table: str, read: AskedRead) -> None:
    known = reads.get(table)
    end = read.address + read.items
    if known is None:
        reads[table] = [1, read.items, read.items, read.address, end, end]
        return
    known[0] += 1
    known[1], known[2] = min(known[1], read.items), max(known[2], read.items)
    known[3], known[4], known[5] = min(known[3], read.address), min(known[4], end), max(known[5], end)


def _note_refused(device: OfDevice, read: AskedRead, code: int) -> None:
    reads: dict[str, list[int]] = {}
    key = (read.table, code)
    if key in device.refused_reads:
        reads[read.table] = device.refused_reads[key]
    _widen(reads, read.table, read)
    device.refused_reads[key] = reads[read.table]


def _note_spell(line: OfLine, device: OfDevice, row: ExchangeRow) -> None:
    """Spells of failures of a device, and what others on its line did meanwhile."""
    is_answer = row.kind in (_GOOD, _REFUSED) and not (row.kind is _REFUSED and (refused_code(row) or 0) in OF_GATEWAY)
    for other in line.away:
        spell = other.open_spell
        if spell is not None and other is not device:
            if is_answer:
                spell.others_answered += 1
            else:
                spell.others_failed += 1
    spell = device.open_spell
    if is_answer or row.kind in (_GARBLED, _STRANGE):
        if spell is not None:
            spell.is_over = is_answer
            spell.last_us = row.at_us
            device.spell_lengths[spell.count] += 1
            device.open_spell = None
            line.away.remove(device)
        return
    if spell is None:
        spell = device.open_spell = Spell(row.at_us, row.at_us)
        device.spells.append(spell)
        line.away.append(device)
        if len(device.spells) > _MOST_SPELLS:
            del device.spells[: _MOST_SPELLS // 2]
    spell.count += 1
    spell.silent += row.kind is _SILENT
    spell.last_us = row.at_us + row.last_us
    if len(spell.rows) < 20:
        spell.rows.append(row.at_us)
