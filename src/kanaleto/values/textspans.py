"""What in a run of words may be text or a packed date: values that are not known by how a number moves."""

from collections.abc import Iterator
from datetime import datetime
from itertools import pairwise

from kanaleto.values import weights
from kanaleto.values.codec import Codec
from kanaleto.values.novalue import NoValue
from kanaleto.values.types import ByteOrder, Kind, ValueType

_LEAST_TEXT, _MOST_TEXT = 2, 32  # registers
_USUAL_LENGTHS = (2, 4, 5, 8, 10, 12, 16)  # registers
_NEAR_YEARS = range(2012, 2045)


def texts(first: bytes, is_still: list[bool]) -> Iterator[tuple[int, Codec, float]]:
    """Spans that read as text: where each begins, its codec, its bits. `first` is one sample of the run, `is_still`
    which registers never moved."""
    for order in (ByteOrder.AB, ByteOrder.BA):
        data = first if order is ByteOrder.AB else bytes(first[at ^ 1] for at in range(len(first) // 2 * 2))
        for at in range(len(is_still)):
            if _is_letter(data[2 * at]) and not (at and _is_inner(data, at)):
                yield from _texts_at(data, at, is_still, order)


def _is_letter(byte: int) -> bool:
    return 48 <= byte <= 57 or 65 <= byte <= 90 or 97 <= byte <= 122


def _is_inner(data: bytes, at: int) -> bool:
    """Whether the word before is text too, so that this one is in the middle of something."""
    return 32 < data[2 * at - 1] < 127 and _is_letter(data[2 * at - 2])


def _texts_at(data: bytes, at: int, is_still: list[bool], order: ByteOrder) -> Iterator[tuple[int, Codec, float]]:
    weight = weights.TYPES
    bits, has_ended, letters = weight.text + (weight.text_turned if order is ByteOrder.BA else 0.0), False, 0
    before = 0
    for number in range(_MOST_TEXT):
        here = at + number
        if here >= len(is_still) or not is_still[here]:
            return
        for byte in data[2 * here : 2 * here + 2]:
            if byte in (0, 32) and (has_ended or byte == 0 or before == 32):
                has_ended = True
                bits += weight.padding
            elif 32 <= byte < 127 and not has_ended:
                bits += _letter(before, byte)
                letters += _is_letter(byte)
            else:
                return
            before = byte
        registers = number + 1
        if registers < _LEAST_TEXT or letters < 3:
            continue
        usual = 0.0 if registers in _USUAL_LENGTHS else weight.text_length
        yield at, Codec(ValueType(Kind.TEXT, 2 * registers), order), bits + usual


def _letter(before: int, byte: int) -> float:
    """Bits of a character behind another: words go on in small letters, numbers in digits."""
    weight = weights.TYPES
    if not before:
        return weight.letter_same
    kinds = [_kind(before), _kind(byte)]
    if kinds[0] == kinds[1] or kinds == ["A", "a"]:
        return weight.letter_same if kinds[1] != "." else weight.letter_other
    return weight.letter_break if kinds == ["a", "A"] else weight.letter_other


def _kind(byte: int) -> str:
    letter = chr(byte)
    return "0" if letter.isdigit() else "a" if letter.islower() else "A" if letter.isupper() else "."


def clocks(samples: list[bytes], kind: Kind) -> Iterator[tuple[int, Codec, float]]:
    """Spans that read as a date in every sample: where each begins, its codec, its bits."""
    codec, weight = Codec(ValueType(kind), ByteOrder.AB), weights.TYPES
    size = 2 * codec.registers
    for at in range(0, len(samples[0]) - size + 1, 2):
        if not _may_be_date(samples[0][at : at + size], kind):
            continue
        values = [codec.decode(sample[at : at + size]) for sample in samples]
        if any(isinstance(value, NoValue) for value in values):
            continue
        moments = [datetime.fromisoformat(str(value)) for value in values]
        steps = [(after - before).total_seconds() for before, after in pairwise(moments)]
        odd = sum(not 0 <= step <= 3600 for step in steps)
        unlikely = 0.0 if moments[0].year in _NEAR_YEARS else weight.clock_year
        pace = sorted(steps)[len(steps) // 2] if steps else 0.0
        moved = weight.clock_step * sum(step != pace for step in steps) + weight.clock_odd * odd
        if kind is Kind.CLOCK6 and not any(steps):
            unlikely += weight.clock_still
        yield at // 2, codec, weight.clock + unlikely + moved


def _may_be_date(raw: bytes, kind: Kind) -> bool:
    parts = list(raw) if kind is Kind.CLOCK3 else [int.from_bytes(raw[at : at + 2]) for at in range(0, 12, 2)]
    year, month, day, hour, minute, second = parts
    is_year = year < 100 if kind is Kind.CLOCK3 else year < 100 or 2000 <= year < 2100
    return is_year and 1 <= month <= 12 and 1 <= day <= 31 and hour < 24 and minute < 60 and second < 60
