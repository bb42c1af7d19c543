"""The filter for exchanges: words that must occur, and `key:value`. For `/` in Wire and for `--where`.

    device:"Sump pump" outcome:silent -function:3 took_ms:>200 1F40

Parts are joined by "and"; `-` before a part excludes what it fits; quotes hold blanks. Numbers may be `100-120`, `>200`
or `<5`. A filter is compiled once; what it needs of a block of a tape (`may_fit`) tells which blocks need not be read.
"""

import re
from collections.abc import Callable, Iterable
from typing import NamedTuple

from kanaleto.capture.row import ExchangeRow, refused_code
from kanaleto.capture.words import OUTCOMES, asked_words, outcome_words
from kanaleto.events.filtering import FilterFault, fits_name, parts_of
from kanaleto.events.moments import micros_at
from kanaleto.lines.outcome import OutcomeKind
from kanaleto.site.filefaults import suggestion
from kanaleto.site.origin import Origin
from kanaleto.wire.reach import first_address

KEYS = (
    "line", "device", "unit", "function", "address", "outcome", "from", "to", "took_ms", "bytes", "point", "origin"
)  # fmt: skip
_OF_NAMES = ("line", "device", "unit")
_KINDS = {word: kind for kind, word in OUTCOMES.items()}
_NUMBER = r"0x[0-9a-f]+|\d+(?:\.\d+)?"
_RANGE = re.compile(rf"({_NUMBER})\s*[-–…]\s*({_NUMBER})", re.I)
_ONE = re.compile(rf"([<>]=?|)\s*({_NUMBER})", re.I)

Test = Callable[[ExchangeRow], bool]
PointsOf = Callable[[ExchangeRow], Iterable[str]]
"""The points that an exchange served, as Device/Point."""
WordsOf = Callable[[ExchangeRow], str]
"""What a row says in words, where that differs from what the wire counts."""


class ExchangeFilter(NamedTuple):
    """`kinds` are the only outcomes that fit; `from_us` to `to_us` (excluded) the only times; `names` are those of the
    tests that ask for nothing but line, device, unit ID and outcome."""

    text: str
    tests: tuple[Test, ...] = ()
    kinds: frozenset[OutcomeKind] = frozenset(OutcomeKind)
    from_us: int = -(2**62)
    to_us: int = 2**62
    names: tuple[Test, ...] = ()

    def fits(self, row: ExchangeRow) -> bool:
        if row.kind not in self.kinds or not self.from_us <= row.at_us < self.to_us:
            return False
        return all(test(row) for test in self.tests)

    @property
    def is_open(self) -> bool:
        """Whether every row fits."""
        return self == ExchangeFilter(self.text)

    def narrowed(
        self,
        kinds: frozenset[OutcomeKind] | None = None,
        from_us: int | None = None,
        to_us: int | None = None,
        *tests: Test,
    ) -> "ExchangeFilter":
        """What fits this and those."""
        return ExchangeFilter(
            self.text,
            (*self.tests, *tests),
            self.kinds & kinds if kinds is not None else self.kinds,
            max(self.from_us, from_us) if from_us is not None else self.from_us,
            min(self.to_us, to_us) if to_us is not None else self.to_us,
            self.names,
        )


FAILED = frozenset(OutcomeKind) - {OutcomeKind.GOOD}


def parse_filter(text: str, points_of: PointsOf | None = None, words_of: WordsOf | None = None) -> ExchangeFilter:
    """Compile a filter. Raises FilterFault."""
    found = ExchangeFilter(text.strip())
    for part in parts_of(text, KEYS):
        try:
            found = _with(found, part.key, part.value, part.is_not, points_of, words_of)
        except ValueError as error:
            raise FilterFault(str(error), part.place) from None
    return found


def _with(
    found: ExchangeFilter, key: str, value: str, is_not: bool, points_of: PointsOf | None, words_of: WordsOf | None
) -> ExchangeFilter:
    if key == "from" and not is_not:
        return found.narrowed(None, micros_at(value))
    if key == "to" and not is_not:
        return found.narrowed(None, None, micros_at(value))
    if key == "outcome" and ":" not in value:
        kind = _kind(value)
        return found.narrowed(frozenset(OutcomeKind) - {kind} if is_not else frozenset((kind,)))
    test = _test(key, value, points_of, words_of)

    def other(row: ExchangeRow) -> bool:
        return not test(row)

    one = other if is_not else test
    narrowed = found.narrowed(None, None, None, one)
    return narrowed._replace(names=(*found.names, one)) if key in _OF_NAMES else narrowed


def _kind(word: str) -> OutcomeKind:
    kind = _KINDS.get(word.lower())
    if kind is None:
        raise ValueError(f"{word!r} is no outcome; it is one of {', '.join(_KINDS)}{suggestion(word, list(_KINDS))}")
    return kind


def _test(key: str, value: str, points_of: PointsOf | None, words_of: WordsOf | None) -> Test:
    match key:
        case "":
            return says(value, words_of)
        case "line":
            fits = fits_name(value)
            return lambda row: fits(row.line)
        case "device":
            fits = fits_name(value)
            return lambda row: fits(row.device or f"unit {row.unit_id}")
        case "point":
            return _serves(value, points_of)
        case "origin":
            if value.lower() not in {origin.value for origin in Origin}:
                known = [origin.value for origin in Origin]
                raise ValueError(f"{value!r} is no origin; it is one of {', '.join(known)}{suggestion(value, known)}")
            return lambda row: row.origin == value.lower()
        case "from":
            from_us = micros_at(value)
            return lambda row: row.at_us >= from_us
        case "to":
            to_us = micros_at(value)
            return lambda row: row.at_us < to_us
        case "outcome":
            return _refused(value)
        case "unit":
            within = _within(key, value)
            return lambda row: within(row.unit_id)
        case "function":
            within = _within(key, value)
            return lambda row: (function := row.function) is not None and within(function)
        case "address":
            within = _within(key, value)
            return lambda row: (address := _address(row)) is not None and within(address)
        case "took_ms":
            within = _within(key, value)
            return lambda row: within(row.took_us / 1000)
    within = _within(key, value)
    return lambda row: within(len(row.answer))


def _within(key: str, value: str) -> Callable[[float], bool]:
    both, one = _RANGE.fullmatch(value), _ONE.fullmatch(value)
    if both is not None:
        low, high = _number(both[1]), _number(both[2])
        if low > high:
            raise ValueError(f"{key}:{value}: the lower one stands first")
        return lambda number: low <= number <= high
    if one is None:
        raise ValueError(f"{key}:{value} is no number; say 100, 100-120, >200 or <5")
    limit = _number(one[2])
    match one[1]:
        case ">":
            return lambda number: number > limit
        case ">=":
            return lambda number: number >= limit
        case "<":
            return lambda number: number < limit
        case "<=":
            return lambda number: number <= limit
    return lambda number: number == limit


def _number(text: str) -> float:
    return int(text, 16) if text.lower().startswith("0x") else float(text)


def _serves(value: str, points_of: PointsOf | None) -> Test:
    if points_of is None:
        raise ValueError("point: needs a site, which says what stands at which address; here there are only bytes")
    wanted, of = value.lower(), points_of

    def fits(row: ExchangeRow) -> bool:
        return any(name.lower() == wanted or name.lower().partition("/")[2] == wanted for name in of(row))

    return fits


def _refused(value: str) -> Test:
    word, _, code = value.partition(":")
    if _kind(word) is not OutcomeKind.EXCEPTION or not code:
        raise ValueError(f"outcome:{value}: only refused has a code, as in outcome:refused:2")
    within = _within("refused", code)
    return lambda row: row.kind is OutcomeKind.EXCEPTION and within(refused_code(row) or 0)


def says(value: str, words_of: WordsOf | None = None) -> Test:
    """Whether a word stands in a row: its names, its words, its reason, its bytes as hexadecimal."""
    wanted = value.lower()
    raw = wanted.replace(" ", "")
    data = raw if len(raw) >= 4 and len(raw) % 2 == 0 and re.fullmatch(r"[0-9a-f]+", raw) else ""

    def fits(row: ExchangeRow) -> bool:
        if any(wanted in text.lower() for text in (row.device or f"unit {row.unit_id}", row.line, row.reason)):
            return True
        if data and (data in row.request.hex() or data in row.answer.hex()):
            return True
        words = words_of(row) if words_of is not None else f"{asked_words(row)} {outcome_words(row)}"
        return wanted in words.lower()

    return fits


def _address(row: ExchangeRow) -> int | None:
    request = row.pdu
    return first_address(request) if request else None
