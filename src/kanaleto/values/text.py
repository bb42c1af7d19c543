"""Values as people and files read them."""

import math
from decimal import Decimal
from struct import pack, unpack

from kanaleto.values.codec import Codec, NoValue, Value
from kanaleto.values.scale import Scale
from kanaleto.values.types import Kind

_MOST_DECIMALS = 6
_DIGITS, _MOST_PLAIN = 1e10, 1e15  # ten digits are shown; from here on as a power of ten
NO_BIT, BETWEEN_RUN, BETWEEN_BITS, BETWEEN_BITS_OF_RUN = "no bit is on", " · ", " · ", " + "


def shortest_float32(number: float) -> float:
    """The shortest decimal that reads back as the same float32: 2.41, not 2.4100000858306885."""
    same = pack(">f", number)
    for digits in range(6, 9):
        short = float(f"{number:.{digits}g}")
        try:
            if pack(">f", short) == same:
                return short
        except OverflowError:  # rounded up past the largest float32
            continue
    return float(f"{number:.9g}")


def plain_number(value: int | float, codec: Codec | None, decimals: int | None) -> int | float:
    """A value as it is handed on: rounded to `decimals` when given, else as short as its type allows."""
    if isinstance(value, int):
        return value
    if decimals is not None:
        return round(value, decimals)
    if codec is not None and codec.type.kind is Kind.FLOAT32:
        return shortest_float32(value) if codec.scale is None else float(f"{value:.7g}")
    return value


def plain(value: Value, codec: Codec | None, decimals: int | None) -> object:
    """A value as it is handed on in JSON: None where there is none, a list for a run."""
    if isinstance(value, NoValue):
        return None
    if isinstance(value, tuple):
        return [plain(one, codec.each if codec is not None else None, decimals) for one in value]
    return value if isinstance(value, str) else plain_number(value, codec, decimals)


def shown(value: Value, codec: Codec | None, decimals: int | None, labels: dict[int, str] | None = None) -> str:
    """A value as text for people: its label if it has one, grouped digits, as many decimals as the point asks for."""
    if isinstance(value, NoValue):
        return "—"
    if isinstance(value, str):
        return value
    if isinstance(value, tuple):
        each = codec.each if codec is not None else None
        return BETWEEN_RUN.join(_shown_in_run(one, each, decimals, labels) for one in value)
    is_word_of_bits = codec is not None and codec.bits is None and codec.type.kind is Kind.BITS
    if labels and isinstance(value, int) and is_word_of_bits:
        lit = [label for bit, label in sorted(labels.items()) if value >> bit & 1]
        return BETWEEN_BITS.join(lit) if lit else NO_BIT
    if labels and isinstance(value, int) and value in labels:
        return labels[value]
    if codec is not None and codec.bits is None and codec.type.kind is Kind.HEX:
        return f"{int(value):04X}"
    if is_word_of_bits:
        return f"{int(value):016b}"
    if decimals is None and codec is not None:
        decimals = decimals_of(codec)
    if decimals is not None and isinstance(value, int):  # exact, also beyond what a float tells apart
        return f"{value:,}".replace(",", " ") + (f".{'0' * decimals}" if decimals else "")
    if isinstance(value, float) and not math.isfinite(value):
        return "—"
    if decimals is not None:
        return _without_minus_nought(f"{value:,.{decimals}f}".replace(",", " "))
    number = plain_number(value, codec, None)
    if isinstance(number, int):
        return f"{number:,}".replace(",", " ")
    text = f"{number:.10g}"
    if _DIGITS <= abs(number) < _MOST_PLAIN or text.removeprefix("-").isdigit():
        return _without_minus_nought(f"{round(number):,}".replace(",", " "))
    return text


def _shown_in_run(value: Value, codec: Codec | None, decimals: int | None, labels: dict[int, str] | None) -> str:
    """Bits of a word among others are put together by another sign than the words."""
    return shown(value, codec, decimals, labels).replace(BETWEEN_BITS, BETWEEN_BITS_OF_RUN)


def _without_minus_nought(text: str) -> str:
    return text.removeprefix("-") if not text.strip("-0. ") else text


def decimals_of(codec: Codec) -> int | None:
    """As many as a whole number gets by its factor: two with 0.01. None where the factor does not tell."""
    scale = codec.scale
    if not isinstance(scale, Scale) or codec.type.is_float:
        return None
    digits = [-int(Decimal(repr(number)).normalize().as_tuple().exponent) for number in (scale.factor, scale.offset)]
    most = max(0, *digits)
    return most if most <= _MOST_DECIMALS else None


def words_of(data: bytes) -> tuple[int, ...]:
    """Register bytes as words."""
    return unpack(f">{len(data) // 2}H", data)
