"""Rules of the standards that exchanges can show, each with its section, and whether an exchange keeps it.

AP is the application protocol 1.1b3, SL the serial line specification 1.02, TG the messaging guide for TCP/IP 1.0b.
"""

from collections.abc import Callable, Iterable
from typing import NamedTuple

from msgspec import Struct

from kanaleto.capture.row import ExchangeRow, framing_name, link_of
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.wire.checks import crc16, lrc
from kanaleto.wire.codes import TABLE_READ_BY, ExceptionCode
from kanaleto.wire.frames import unit_of

Check = Callable[[ExchangeRow], bool | None]
"""Whether an exchange keeps a rule; None where it cannot show it."""

_BITS, _REGISTERS = 2000, 125
_CONFIRMED = {5: 5, 6: 5, 15: 5, 16: 5, 22: 7}
"""Functions whose confirmation repeats so many bytes of the request's PDU."""
_LONGEST = {"rtu": 256, "ascii": 513, "tcp": 260}


class StandardRule(NamedTuple):
    name: str
    section: str
    text: str
    check: Check


class RuleCount(Struct):
    """How often a rule was kept and broken, and the first row that breaks it."""

    rule: StandardRule
    kept: int = 0
    broken: int = 0
    first: ExchangeRow | None = None

    @property
    def of(self) -> int:
        return self.kept + self.broken

    def add(self, row: ExchangeRow) -> None:
        is_kept = self.rule.check(row)
        if is_kept is None:
            return
        if is_kept:
            self.kept += 1
            return
        self.broken += 1
        if self.first is None:
            self.first = row


def _read_asks_what_it_may(row: ExchangeRow) -> bool | None:
    pdu = row.pdu
    table = TABLE_READ_BY.get(pdu[0]) if len(pdu) == 5 else None
    if table is None:
        return None
    count = int.from_bytes(pdu[3:5])
    return 1 <= count <= (_BITS if table.is_bits else _REGISTERS)


def _read_stays_within(row: ExchangeRow) -> bool | None:
    pdu = row.pdu
    if len(pdu) != 5 or pdu[0] not in TABLE_READ_BY:
        return None
    return int.from_bytes(pdu[1:3]) + int.from_bytes(pdu[3:5]) <= 0x10000


def _answers(row: ExchangeRow) -> bool:
    """Whether there is an answer whose PDU may be looked at: its check bytes are right."""
    return bool(row.request and row.answer_pdu) and _check_is_right(row) is not False


def _function_is_that_asked(row: ExchangeRow) -> bool | None:
    if not _answers(row) or not row.pdu:
        return None
    return row.answer_pdu[0] & 0x7F == row.pdu[0]


def _byte_count_is_due(row: ExchangeRow) -> bool | None:
    pdu, answer = row.pdu, row.answer_pdu
    table = TABLE_READ_BY.get(pdu[0]) if len(pdu) == 5 else None
    if table is None or not _answers(row) or answer[0] != pdu[0]:
        return None
    count = int.from_bytes(pdu[3:5])
    due = (count + 7) // 8 if table.is_bits else 2 * count
    return len(answer) == 2 + due and answer[1] == due


def _confirmation_repeats(row: ExchangeRow) -> bool | None:
    pdu, answer = row.pdu, row.answer_pdu
    if not _answers(row) or not pdu or pdu[0] not in _CONFIRMED or answer[0] != pdu[0]:
        return None
    return answer == pdu[: _CONFIRMED[pdu[0]]]


def _refusal_has_a_code(row: ExchangeRow) -> bool | None:
    answer = row.answer_pdu
    if not _answers(row) or not answer[0] & 0x80:
        return None
    return len(answer) == 2 and answer[1] in set(ExceptionCode)


def _no_answer_to_all(row: ExchangeRow) -> bool | None:
    if not row.request or row.unit_id != 0 or framing_name(row.link) == "tcp":
        return None
    return not row.answer


def _unit_is_that_asked(row: ExchangeRow) -> bool | None:
    if not row.request or not _answers(row):
        return None
    return unit_of(framing_name(row.link), row.answer) == row.unit_id


def _check_is_right(row: ExchangeRow) -> bool | None:
    framing, raw = framing_name(row.link), row.answer
    if framing == "tcp" or not raw:
        return None
    if framing == "rtu":
        return len(raw) >= 4 and crc16(raw) == 0
    try:
        body = bytes.fromhex(raw.decode("ascii").strip().removeprefix(":"))
    except ValueError:
        return False
    return len(body) >= 3 and lrc(body[:-1]) == body[-1]


def _is_short_enough(row: ExchangeRow) -> bool | None:
    return len(row.answer) <= _LONGEST[framing_name(row.link)] if row.request and row.answer else None


def _transaction_is_copied(row: ExchangeRow) -> bool | None:
    if framing_name(row.link) != "tcp" or len(row.answer) < 8 or not row.request:
        return None
    return row.answer[:2] == row.request[:2]


def _protocol_is_zero(row: ExchangeRow) -> bool | None:
    return row.answer[2:4] == b"\0\0" if framing_name(row.link) == "tcp" and len(row.answer) >= 8 else None


def _length_is_right(row: ExchangeRow) -> bool | None:
    if framing_name(row.link) != "tcp" or len(row.answer) < 8:
        return None
    return int.from_bytes(row.answer[4:6]) == len(row.answer) - 6


def _unit_is_copied(row: ExchangeRow) -> bool | None:
    if framing_name(row.link) != "tcp" or len(row.answer) < 8 or not row.request:
        return None
    return row.answer[6] == row.request[6]


def _is_answered(row: ExchangeRow) -> bool | None:
    if not row.request or (row.unit_id == 0 and framing_name(row.link) != "tcp"):
        return None
    if row.kind is OutcomeKind.UNREACHABLE:
        return None
    return bool(row.answer)


RULES = (
    StandardRule(
        "read-count", "AP 6.1-6.4", "A read asks for 1 to 2000 bits, or 1 to 125 registers.", _read_asks_what_it_may
    ),
    StandardRule("read-end", "AP 4.4", "A read stays within addresses 0 to 65535.", _read_stays_within),
    StandardRule("answered", "AP 4.1", "A request to one unit is answered.", _is_answered),
    StandardRule(
        "function",
        "AP 4.1",
        "The answer has the function of the request, a refusal with its highest bit set.",
        _function_is_that_asked,
    ),
    StandardRule(
        "byte-count",
        "AP 6.1-6.4",
        "The answer to a read has as many bytes as were asked for, and says so.",
        _byte_count_is_due,
    ),
    StandardRule(
        "confirmation", "AP 6.5-6.12, 6.16", "The answer to a write repeats what was asked.", _confirmation_repeats
    ),
    StandardRule("exception-code", "AP 7", "A refusal has one code, and one of the standard.", _refusal_has_a_code),
    StandardRule("broadcast", "SL 2.1", "Nobody answers a request to all (unit 0).", _no_answer_to_all),
    StandardRule("unit", "SL 2.2", "The answer has the unit ID of the request.", _unit_is_that_asked),
    StandardRule(
        "check-bytes", "SL 2.5.1.2, 2.5.2.2", "The check bytes of an answer are right (CRC, LRC).", _check_is_right
    ),
    StandardRule("length", "SL 2.5.1, 2.5.2, TG 4.1", "An answer is no longer than a frame may be.", _is_short_enough),
    StandardRule(
        "transaction", "TG 3.1.3", "The answer copies the transaction of the request.", _transaction_is_copied
    ),
    StandardRule("protocol", "TG 3.1.3", "The protocol field of the answer is 0.", _protocol_is_zero),
    StandardRule("length-field", "TG 3.1.3", "The length field counts the bytes that follow it.", _length_is_right),
    StandardRule("unit-field", "TG 3.1.3", "The answer copies the unit field of the request.", _unit_is_copied),
)
SILENCE = StandardRule(
    "silence", "SL 2.5.1.1", "Before a request the line is silent for 3.5 characters.", lambda row: None
)


class RuleBook:
    """Feed it rows in their order; `counts` are those of the rules that they can show."""

    def __init__(self, exact_us: Callable[[str], float] = lambda line: 0.0) -> None:
        """`exact_us` is how late a byte of a line may have been seen: a shorter silence is not held against anybody."""
        self._counts = [RuleCount(rule) for rule in RULES]
        self._silence = RuleCount(SILENCE)
        self._exact_us = exact_us
        self._ends: dict[str, int] = {}

    def add(self, row: ExchangeRow) -> None:
        for count in self._counts:
            count.add(row)
        link = link_of(row.link)
        if not link.is_serial or framing_name(row.link) != "rtu" or not row.request:
            return
        character_us = 1e6 * link.character_s
        begun_us = row.at_us + max(row.sent_us - len(row.request) * character_us, 0)
        before_us = self._ends.get(row.line)
        self._ends[row.line] = max(row.at_us + row.last_us, before_us or 0)
        if before_us is None:
            return
        settings = link.settings
        gap_us = 1e6 * settings.gap_s if settings is not None else 3.5 * character_us
        if begun_us - before_us + self._exact_us(row.line) >= gap_us - 50:
            self._silence.kept += 1
        else:
            self._silence.broken += 1
            self._silence.first = self._silence.first or row

    @property
    def counts(self) -> list[RuleCount]:
        return [count for count in (*self._counts, self._silence) if count.of]

    def add_all(self, rows: Iterable[ExchangeRow]) -> None:
        for row in rows:
            self.add(row)


def broken_by(row: ExchangeRow) -> list[StandardRule]:
    """The rules that one exchange breaks by itself."""
    return [rule for rule in RULES if rule.check(row) is False]
