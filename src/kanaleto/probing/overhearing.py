"""Listening to a line that another master polls, without sending a byte: bytes with their times go in, exchanges come
out.

An RTU stream does not tell where a frame begins, nor which way it goes. At every place the stream is read both as a
request and as an answer, each as long as its function says, and a frame is what its CRC confirms; bytes in between
count as garbled. Where both fit, the open question of that unit decides. A request is paired with the next answer of
its unit and function, if that has the right length.
"""

from collections import deque
from collections.abc import Callable
from itertools import pairwise

from msgspec import Struct, field

from kanaleto.lines.outcome import Outcome, OutcomeKind
from kanaleto.site.links.link import FramingKind
from kanaleto.wire.ascii import Ascii
from kanaleto.wire.checks import crc16
from kanaleto.wire.codes import Table, exception_text
from kanaleto.wire.explain import pdu_of
from kanaleto.wire.frames import Frame, Role
from kanaleto.wire.lengths import MORE, UNKNOWN, frame_length
from kanaleto.wire.pdu import PduError, Read, ReadAnswer, Refused, Request, mismatch, parse_answer, parse_request

_SHORTEST, _LONGEST = 4, 256
_MOST_HELD = 1024
_MOST_ASKED = 4000  # different questions remembered
_MOST_WORDS = 65536 * 4
_TIMES_KEPT = 50


class Asked(Struct):
    """One question that was heard again and again."""

    unit_id: int
    request: Request
    count: int = 0
    answered: int = 0
    refused: int = 0
    times: deque[float] = field(default_factory=lambda: deque(maxlen=_TIMES_KEPT))

    @property
    def period_s(self) -> float | None:
        """The middle one of the pauses between its times; None before it was heard twice."""
        times = list(self.times)
        pauses = sorted(after - before for before, after in pairwise(times))
        return pauses[len(pauses) // 2] if pauses else None


class Word(Struct):
    """A register (or a bit) as it was last heard, how often, and whether it ever changed."""

    value: int
    heard: int = 1
    changed: int = 0


class HeardExchange(Struct, frozen=True):
    """An exchange of another master, or bytes that are none of one: of what nobody asked `request` is empty. Times in
    seconds, of the loop: when the last byte of the request had come, the last of the answer, and, where none came, when
    that was known."""

    unit_id: int
    request: bytes
    answer: bytes
    kind: OutcomeKind
    reason: str
    asked_s: float
    done_s: float

    @property
    def asked(self) -> Request | None:
        """The request; ASCII frames begin with a colon."""
        is_ascii = self.request.startswith(b":") and self.request.endswith(b"\n")
        try:
            return parse_request(pdu_of("ascii" if is_ascii else "rtu", self.request)) if self.request else None
        except PduError:
            return None

    def outcome(self, character_s: float) -> Outcome:
        """Bytes are heard when they are whole: they began as much earlier as they take at the line's speed."""
        begun_s = self.asked_s - len(self.request) * character_s
        first_s = max(self.done_s - len(self.answer) * character_s, self.asked_s) if self.answer else 0.0
        return Outcome(
            self.kind, self.unit_id, self.request, self.answer, None, begun_s, self.asked_s, first_s, self.done_s,
            self.reason,
        )  # fmt: skip


OnHeard = Callable[[HeardExchange], object]


class Overhearing:
    """Feed it; read `asked`, `words` (by unit, table, address) and the counters. `on_heard` receives each exchange."""

    def __init__(self, framing: FramingKind = FramingKind.RTU, on_heard: OnHeard = lambda heard: None) -> None:
        self.asked: dict[tuple[int, bytes], Asked] = {}
        self.words: dict[tuple[int, Table, int], Word] = {}
        self.words_by_unit: dict[int, int] = {}
        self.frames = 0
        self.garbled_bytes = 0
        self.bytes = 0
        self._on_heard = on_heard
        self._open: tuple[int, bytes, Request, Asked, float] | None = None
        self._open_raw = b""
        self._spoilt = bytearray()
        self._spoilt_s = 0.0
        self._chunks: deque[tuple[int, float]] = deque(maxlen=2000)
        self._fed = 0
        self._held = bytearray()
        self._ascii = Ascii().decoder(Role.ANSWERS) if framing is FramingKind.ASCII else None

    @property
    def units(self) -> list[int]:
        """Unit IDs that were asked or answered, in order."""
        return sorted({unit for unit, _ in self.asked} | set(self.words_by_unit))

    @property
    def held(self) -> int:
        """Bytes held back, waiting for more."""
        return self._ascii.held if self._ascii is not None else len(self._held)

    def feed(self, data: bytes, at: float) -> None:
        """Bytes that came, and the time at which the last of them did."""
        self.bytes += len(data)
        if self._ascii is not None:
            for event in self._ascii.feed(data):
                if isinstance(event, Frame):
                    self._take_either(event.unit_id, event.pdu, event.raw, at)
                else:
                    self.garbled_bytes += len(event.raw)
                    self._note_spoilt(event.raw, at)
            return
        self._held += data
        self._fed += len(data)
        self._chunks.append((self._fed, at))
        self._scan(at, is_silent=False)
        if len(self._held) > _MOST_HELD:
            self._drop(len(self._held) - _MOST_HELD // 2)

    def silence(self, at: float) -> None:
        """The line has been quiet for longer than a frame may pause: what is held is whole, or nothing."""
        if self._ascii is None:
            self._scan(at, is_silent=True)
            self._drop(len(self._held))
        else:
            self.garbled_bytes += self._ascii.held
            self._ascii.reset()

    def end(self, at: float) -> None:
        """Nobody listens any more: what is still open was not answered meanwhile."""
        self._settle(at)

    def _drop(self, count: int) -> None:
        if count:
            self._note_spoilt(bytes(self._held[:count]), self._came_at(len(self._held) - count))
        self.garbled_bytes += count
        del self._held[:count]

    def _came_at(self, behind: int) -> float:
        """When the byte came behind which so many were fed."""
        place = self._fed - behind
        return next((at for end, at in self._chunks if end >= place), self._chunks[-1][1] if self._chunks else 0.0)

    def _note_spoilt(self, raw: bytes, at: float) -> None:
        self._spoilt = (self._spoilt + raw)[:_LONGEST]
        self._spoilt_s = at

    def _settle(self, at: float) -> None:
        """What was asked before has no whole answer."""
        spoilt, open_ = bytes(self._spoilt), self._open
        self._spoilt.clear()
        if open_ is not None:
            unit_id, _, _, _, asked_s = open_
            self._open = None
            if spoilt:
                reason = "bytes that make no frame"
                self._on_heard(
                    HeardExchange(unit_id, self._open_raw, spoilt, OutcomeKind.GARBLED, reason, asked_s, self._spoilt_s)
                )
            else:
                reason = "nobody answered before the next request"
                self._on_heard(HeardExchange(unit_id, self._open_raw, b"", OutcomeKind.TIMEOUT, reason, asked_s, at))
        elif spoilt:
            text = "bytes that make no frame, and nobody had asked"
            self._on_heard(HeardExchange(0, b"", spoilt, OutcomeKind.GARBLED, text, self._spoilt_s, self._spoilt_s))

    def _scan(self, at: float, is_silent: bool) -> None:
        start = 0
        held = self._held
        while start < len(held):
            length = self._frame_at(start)
            if length > 0:
                self._drop(start)
                raw = bytes(held[:length])
                came_s = self._came_at(len(held) - length)
                del held[:length]
                start = 0
                self._take_either(raw[0], raw[1:-2], raw, came_s)
            elif length == MORE and not is_silent:
                return  # it may still become a frame; what follows must wait for it
            else:
                start += 1

    def _frame_at(self, start: int) -> int:
        """Length of the sound frame that begins there; MORE while it may become one, UNKNOWN when it cannot."""
        held = self._held
        may_grow = False
        for role in (Role.REQUESTS, Role.ANSWERS):
            length = frame_length(role, held, start)
            if length == MORE or length > len(held) - start:
                may_grow = may_grow or length == MORE or length <= _LONGEST
            elif _SHORTEST <= length <= _LONGEST and crc16(held[start : start + length]) == 0:
                return length
        return MORE if may_grow else UNKNOWN

    # Whole frames

    def _take_either(self, unit_id: int, pdu: bytes, raw: bytes, at: float) -> None:
        self.frames += 1
        open_ = self._open
        if open_ is not None and open_[0] == unit_id and (kind := self._take_answer(open_, pdu)) is not None:
            self._open = None
            self._spoilt.clear()
            reason = "" if kind is OutcomeKind.GOOD else f"exception {pdu[1]}, {exception_text(pdu[1])}"
            self._on_heard(HeardExchange(unit_id, self._open_raw, raw, kind, reason, open_[4], at))
            return
        try:
            request = parse_request(pdu)
        except PduError:
            self._take_strange(unit_id, raw, at)  # an answer whose question was not heard, or to another one
            return
        self._settle(at)
        asked = self.asked.get((unit_id, pdu))
        if asked is None:
            asked = Asked(unit_id, request)
            if len(self.asked) < _MOST_ASKED:
                self.asked[unit_id, pdu] = asked
        asked.count += 1
        asked.times.append(at)
        self._open_raw = raw
        self._open = (unit_id, pdu, request, asked, at) if unit_id else None
        if not unit_id:
            self._on_heard(HeardExchange(0, raw, b"", OutcomeKind.GOOD, "", at, at))

    def _take_strange(self, unit_id: int, raw: bytes, at: float) -> None:
        open_ = self._open
        if open_ is None:
            text = "an answer whose request was not heard"
            self._on_heard(HeardExchange(unit_id, b"", raw, OutcomeKind.UNEXPECTED, text, at, at))
            return
        self._open = None
        self._spoilt.clear()
        text = (
            f"unit {unit_id} answers for unit {open_[0]}" if unit_id != open_[0] else "not the answer to this request"
        )
        self._on_heard(HeardExchange(open_[0], self._open_raw, raw, OutcomeKind.UNEXPECTED, text, open_[4], at))

    def _take_answer(self, open_: tuple[int, bytes, Request, Asked, float], pdu: bytes) -> OutcomeKind | None:
        """How it answers the open question; None where it does not."""
        _, question, request, asked, _ = open_
        if pdu == question and isinstance(request, Read):
            return None  # the same question once more: nobody had answered
        try:
            answer = parse_answer(pdu)
        except PduError:
            return None
        if mismatch(request, answer) is not None:
            return None
        if isinstance(answer, Refused):
            asked.refused += 1
            return OutcomeKind.EXCEPTION
        asked.answered += 1
        if isinstance(request, Read) and isinstance(answer, ReadAnswer):
            values = [int(bit) for bit in answer.bits(request.count)] if request.table.is_bits else list(answer.words)
            for number, value in enumerate(values):
                self._note(asked.unit_id, request.table, request.address + number, value)
        return OutcomeKind.GOOD

    def _note(self, unit_id: int, table: Table, address: int, value: int) -> None:
        key = (unit_id, table, address)
        word = self.words.get(key)
        if word is None:
            if len(self.words) < _MOST_WORDS:
                self.words[key] = Word(value)
                self.words_by_unit[unit_id] = self.words_by_unit.get(unit_id, 0) + 1
            return
        word.heard += 1
        if word.value != value:
            word.value = value
            word.changed += 1
