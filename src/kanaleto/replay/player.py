"""What the slaves of one line of a capture answered, ready to be answered again.

By order the nth time the same PDU is asked of a unit it gets the nth answer; by time it gets what held so long after
the first request of the capture, counted from the first request that comes now. Behind the last answer the last one
stays; with `again` all begins again. A read that was never asked so is put together from registers that were read; what
never was is refused with 02. A unit that never answered is silent.
"""

from array import array
from bisect import bisect_right
from collections.abc import Callable, Iterable

from msgspec import Struct, field

from kanaleto.capture.row import ExchangeRow, framing_name, link_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.serving.answerer import NOBODY, Answerer, AnyAnswer, Encode, Master, Pieces, ShapedAnswer
from kanaleto.wire.codes import TABLE_READ_BY, ExceptionCode, Table
from kanaleto.wire.pdu import PduError, Read, parse_request

_SPOILT = (OutcomeKind.GARBLED, OutcomeKind.UNEXPECTED)
_SILENT, _GONE = OutcomeKind.TIMEOUT, OutcomeKind.UNREACHABLE
_MOST = 3_000_000


class TooLong(Exception):
    """One sentence: a capture has more than can be played back."""


class _Answers(Struct):
    """To one PDU of one unit: when it was asked (µs since the capture began), how late the answer began (µs), and which
    answer it was."""

    asked_us: "array[int]" = field(default_factory=lambda: array("q"))
    after_us: "array[int]" = field(default_factory=lambda: array("I"))
    which: "array[int]" = field(default_factory=lambda: array("I"))
    times: int = 0


class _Given(Struct, frozen=True):
    """What went over the line: a PDU, or bytes as they came, or nothing."""

    pdu: bytes | None
    raw: bytes
    kind: OutcomeKind


class LinePlayer(Answerer):
    """`clock` gives seconds that only go forward; `base_s` is how long the server itself waits before an answer."""

    def __init__(self, line: str, link: str, begun_us: int, by_time: bool, again: bool) -> None:
        self._line, self._link, self.link_text = line, link_of(link), link
        self.framing = framing_name(link)
        self._begun_us, self._by_time, self._again = begun_us, by_time, again
        self._answers: dict[tuple[int, bytes], _Answers] = {}
        self._given: list[_Given] = []
        self._numbers: dict[_Given, int] = {}
        self._words: dict[tuple[int, Table], dict[int, tuple[int, int]]] = {}
        self._units: set[int] = set()
        self.base_s = 0.0
        self.rows = 0
        self.asked = self.unknown = self.garbled = 0
        self.last_us = 0
        self.started_s: float | None = None
        self.clock: Callable[[], float] = lambda: 0.0

    @property
    def name(self) -> str:
        return self._line

    def note_garbled(self) -> None:
        self.garbled += 1

    def add(self, row: ExchangeRow) -> None:
        """Raises TooLong."""
        pdu = row.pdu
        if not row.request or not pdu:
            return
        self.rows += 1
        if self.rows > _MOST:
            raise TooLong(f"{self._line}: more than {_MOST:,} exchanges are too many to be played back at once")
        if row.kind not in (_SILENT, _GONE):
            self._units.add(row.unit_id)
        self.last_us = max(self.last_us, row.at_us - self._begun_us)
        is_whole = row.kind in (OutcomeKind.GOOD, OutcomeKind.EXCEPTION)
        given = _Given(row.answer_pdu if is_whole and row.answer else None, b"" if is_whole else row.answer, row.kind)
        number = self._numbers.get(given)
        if number is None:
            number = self._numbers[given] = len(self._given)
            self._given.append(given)
        answers = self._answers.get((row.unit_id, pdu))
        if answers is None:
            answers = self._answers[row.unit_id, pdu] = _Answers()
        answers.asked_us.append(row.at_us - self._begun_us)
        answers.after_us.append(min(self._after_us(row), 0xFFFFFFFF))
        answers.which.append(number)
        if row.kind is OutcomeKind.GOOD:
            self._note_words(row, pdu, number)

    def _after_us(self, row: ExchangeRow) -> int:
        """From the request's last byte to the answer's first. On a serial line bytes are seen when they are handed
        over: the first went as much earlier as all of them take."""
        if self._link.is_serial:
            return max(row.last_us - row.sent_us - round(len(row.answer) * 1e6 * self._link.character_s), 0)
        return max((row.first_us or row.last_us) - row.sent_us, 0)

    def _note_words(self, row: ExchangeRow, pdu: bytes, number: int) -> None:
        """Which answer had a register first, for reads that were never asked so: it stands for what held."""
        table = TABLE_READ_BY.get(pdu[0])
        if table is None or table.is_bits or len(pdu) != 5:
            return
        first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
        words = self._words.setdefault((row.unit_id, table), {})
        for at in range(count):
            words.setdefault(first + at, (number, at))

    def answer(self, unit_id: int, pdu: bytes, master: Master = NOBODY) -> AnyAnswer:
        self.asked += 1
        if self.started_s is None:
            self.started_s = self.clock()
        answers = self._answers.get((unit_id, pdu))
        if answers is None:
            return self._never_asked(unit_id, pdu)
        number = self._at_time(answers) if self._by_time else answers.times
        answers.times += 1
        last = len(answers.which) - 1
        if number > last:
            number = number % (last + 1) if self._again else last
        given, after_s = self._given[answers.which[number]], answers.after_us[number] / 1e6
        delay_s = max(after_s - self.base_s, 0.0)
        if given.kind is _SILENT or (given.pdu is None and not given.raw and given.kind is not _GONE):
            return None
        if given.kind is _GONE:
            return ShapedAnswer(unit_id, None, hangs_up=True)
        if given.raw:
            raw = given.raw
            return ShapedAnswer(unit_id, pdu, delay_s, lambda encode, shaped: self._as_it_came(encode, shaped, raw))
        return ShapedAnswer(unit_id, given.pdu, delay_s)

    def _at_time(self, answers: _Answers) -> int:
        since_us = round((self.clock() - (self.started_s or 0.0)) * 1e6)
        if self._again and self.last_us:
            since_us %= self.last_us + 1
        return max(bisect_right(answers.asked_us, since_us) - 1, 0)

    def _as_it_came(self, encode: Encode, shaped: ShapedAnswer, raw: bytes) -> Pieces:
        """Damaged bytes, but for the transaction, which is that of the request at hand."""
        if self.framing == "tcp" and len(raw) >= 2 and shaped.pdu is not None:
            raw = encode(shaped.unit_id, shaped.pdu)[:2] + raw[2:]
        return [(0.0, raw)]

    def _never_asked(self, unit_id: int, pdu: bytes) -> AnyAnswer:
        if unit_id not in self._units:
            return None
        self.unknown += 1
        refused = bytes((pdu[0] | 0x80, ExceptionCode.ILLEGAL_DATA_ADDRESS))
        try:
            request = parse_request(pdu)
        except PduError:
            return refused
        words = self._words.get((unit_id, request.table)) if isinstance(request, Read) else None
        if words is None or not isinstance(request, Read):
            return refused
        found = [words.get(request.address + at) for at in range(request.count)]
        data = b""
        for place in found:
            if place is None:
                return refused
            answer = self._given[place[0]].pdu or b""
            data += answer[2 + 2 * place[1] : 4 + 2 * place[1]]
        return bytes((pdu[0], len(data))) + data


def players_of(
    rows: Iterable[ExchangeRow], lines: tuple[str, ...], by_time: bool, again: bool
) -> dict[str, LinePlayer]:
    """A player for each line that was named, for all where none was. Raises TooLong."""
    players: dict[str, LinePlayer] = {}
    begun_us: int | None = None
    for row in rows:
        begun_us = row.at_us if begun_us is None else begun_us
        if lines and row.line not in lines:
            continue
        player = players.get(row.line)
        if player is None:
            player = players[row.line] = LinePlayer(row.line, row.link, begun_us, by_time, again)
        player.add(row)
    return {name: player for name, player in players.items() if player.rows}
