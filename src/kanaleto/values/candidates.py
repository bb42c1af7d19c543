"""What are these words? Every type and order, ranked by how well it fits.

Three things speak for a reading. What the display on the device says: a value that shows as that number, as it stands
or moved by a power of ten. How short the description of all samples is with it (`cutting`), of these words and, where
they are known, of those around them. And what the points beside it use, where somebody knows that.
"""

from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal, InvalidOperation

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.values.codec import Codec, NoValue
from kanaleto.values.scale import linear
from kanaleto.values.types import WIDE_ORDERS, ByteOrder, Kind, ValueType

_ONE = (Kind.INT16, Kind.UINT16, Kind.BCD16)
_TWO = (Kind.FLOAT32, Kind.INT32, Kind.UINT32, Kind.BCD32, Kind.MODULO2)
_FOUR = (Kind.FLOAT64, Kind.INT64, Kind.UINT64, Kind.BCD64)
_NARROW_ORDERS = (ByteOrder.AB, ByteOrder.BA)
_LONG_ORDERS = (*WIDE_ORDERS, ByteOrder("EFGHABCD"), ByteOrder("FEHGBADC"))  # of 64 bits: its halves swapped, too
_MOST_WORDS = 4
_MOST_POWER = 6
_LEFT_OVER = 14.0  # bits against each word that a reading leaves over, where the words are one point's
_UNKNOWN = 60.0  # bits of excess of what was not reckoned
_BESIDE = 3.0  # bits that a neighbour of the same type and order is worth
_HALF = 4.0  # bits of excess that halve the fit


Excess = Mapping[Codec, float]
"""Bits, by reading."""


PRESENT = "as it is read now"


class Candidate(Struct, frozen=True):
    """One reading: its codec (scaled by the power of ten that the display asks for), its value now, how well it fits
    from 0 to 1, why."""

    codec: Codec
    value: int | float | None
    fit: float
    agrees: bool
    text: str

    @property
    def title(self) -> str:
        order = self.codec.order.value
        return f"{self.codec.type} {order}" if self.codec.type.is_wide or order == "BA" else str(self.codec.type)


def readings(words: int) -> list[Codec]:
    """Every type and order that fits so many words."""
    found = [Codec(ValueType(kind), order) for kind in _ONE for order in _NARROW_ORDERS]
    if words >= 2:
        found += [Codec(ValueType(kind), order) for kind in _TWO for order in WIDE_ORDERS]
    if words >= 4:
        found += [Codec(ValueType(kind), order) for kind in _FOUR for order in _LONG_ORDERS]
    return found


def rank(
    samples: Sequence[bytes], display: str = "", beside: Iterable[Codec] = (), excess: Excess | None = None
) -> list[Candidate]:
    """Readings of the words in `samples` (the newest last, each of 1 to 4 registers as they came, the point's own
    first), the best first. `display` is what the device shows; `beside` are the codecs of neighbours that somebody
    knows; `excess` says how many bits more than the shortest description each reading takes, where the words around it
    were looked at. Raises ValueError when `display` is no number."""
    if not samples or not samples[-1]:
        return []
    shown = parse_display(display) if display.strip() else None
    words = min(min(len(sample) for sample in samples) // 2, _MOST_WORDS)
    cut = [sample[: 2 * words] for sample in samples]
    liked = {(codec.type.kind, codec.order) for codec in beside}
    reckoned = excess if excess is not None else excess_of(cut, 0, ())
    left_over = _LEFT_OVER if excess is None else 0.0
    judged = []
    for codec in readings(words):
        values = [_number(codec, sample[: 2 * codec.registers]) for sample in cut]
        bits = reckoned.get(codec, _UNKNOWN) if all(value is not None for value in values) else 4 * _UNKNOWN
        bits += left_over * (words - codec.registers)
        judged.append((codec, values, bits - _BESIDE * ((codec.type.kind, codec.order) in liked)))
    least = min(bits for _, _, bits in judged)
    found = [_candidate(codec, values, bits - least, shown) for codec, values, bits in judged]
    return sorted(found, key=lambda candidate: (-candidate.fit, candidate.title))


def excess_of(samples: Sequence[bytes], at: int, beside: Iterable[Codec]) -> Excess:
    """How many bits more than the shortest description of a run each reading takes that begins at register `at` of it;
    `beside` are codecs that are known to be right near it."""
    from kanaleto.values.cutting import WordRun, style_of  # whole columns of numbers: not before somebody wants them

    run = WordRun([samples])
    return {codec: bits for codec, (bits, _) in run.readings(style_of([run], beside))[at].items()}


class Display(Struct, frozen=True):
    """What a display shows: its number, how far a value may lie from it, and digits behind the point."""

    number: Decimal
    tolerance: Decimal
    digits: int

    def is_shown_by(self, value: float) -> bool:
        """Whether a value shows as this number."""
        exact = Decimal(value) if isinstance(value, int) else Decimal(repr(value))
        return exact.is_finite() and abs(exact - self.number) <= self.tolerance


def parse_display(text: str) -> Display:
    """A number as a display shows it, with point or comma: `2.41`, `2.41 ± 0.05`, `2.41 +- 5 %`; half its last digit
    where no tolerance is given. Raises ValueError."""
    wrong = f"{text!r} is no number that a display shows, such as 2.41, or 2.41 ± 0.05"
    message, mark, around = text.replace("+-", "±").replace("+/-", "±").partition("±")
    try:
        number = _decimal(message)
        digits = max(-int(number.as_tuple().exponent), 0)
        tolerance = Decimal(1).scaleb(-digits) / 2
        if mark:
            share = around.strip().endswith("%")
            tolerance = _decimal(around.strip().removesuffix("%"))
            tolerance = abs(number) * tolerance / 100 if share else tolerance
    except (InvalidOperation, ValueError):
        raise ValueError(wrong) from None
    if tolerance < 0:
        raise ValueError(wrong)
    return Display(number, tolerance, digits)


def _decimal(text: str) -> Decimal:
    number = Decimal(text.strip().replace(" ", "").replace(",", "."))
    if not number.is_finite() or not -30 < number.adjusted() < 30 or int(number.as_tuple().exponent) < -30:
        raise ValueError
    return number


def _number(codec: Codec, data: bytes) -> int | float | None:
    value = codec.decode(data)
    return None if isinstance(value, NoValue | str | tuple) else value


def _candidate(codec: Codec, values: Sequence[int | float | None], excess: float, shown: Display | None) -> Candidate:
    """From its excess of bits over the best, and from the display: it agrees with what was read last, or, while the
    value moves, with what was read a little before."""
    believable = 0.5 ** (max(excess, 0.0) / _HALF)
    value = values[-1]
    if value is None:
        return Candidate(codec, None, 0.0, False, "no number")
    if shown is None:
        return Candidate(codec, value, believable, False, "")
    powers = (_power_of_ten(one, shown) for one in reversed(values) if one is not None)
    power = next((power for power in powers if power is not None), None)
    if power is None:
        return Candidate(codec, value, 0.02 * believable, False, "the display says otherwise")
    is_natural = power == 0 if codec.type.is_float else -power == shown.digits
    is_near = power == 0 or is_natural
    quality = 1.0 if is_natural else 0.8 if is_near else 0.5 - 0.03 * abs(power)
    fit = quality * (0.6 + 0.4 * believable)
    scaled = replace(codec, scale=linear(float(Decimal(1).scaleb(power)), 0.0)) if power else codec
    text = "as the display says" if power == 0 else f"× {Decimal(1).scaleb(power):f} as the display says"
    return Candidate(scaled, value * 10.0**power if power else value, fit, True, text)


def _power_of_ten(value: int | float, shown: Display) -> int | None:
    """The power of ten that makes `value` show as that number, the smallest first; None when none does."""
    exact = Decimal(value) if isinstance(value, int) else Decimal(repr(value))
    number = shown.number
    powers = [0, -shown.digits, *(sign * size for size in range(1, _MOST_POWER + 1) for sign in (-1, 1))]
    for power in powers:
        if abs(exact.scaleb(power) - number) <= shown.tolerance and (number != 0 or exact == 0):
            return power
    return None
