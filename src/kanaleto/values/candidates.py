"""What are these words? Every type and order, ranked by how well it fits.

Three things speak for a reading. What the display on the device says: a value that shows as that number, as it stands
or moved by a power of ten. What stays believable from sample to sample: of all ways to read the words, the right one
needs the fewest bits to say how they moved, since the wrong order of bytes or words makes small steps large. And what
the points beside it use. A reading that leaves some of the words over is less likely than one that takes them all.
"""

from collections.abc import Iterable, Sequence
from decimal import Decimal, InvalidOperation
from itertools import pairwise
from math import isfinite, log2
from struct import pack

from msgspec import Struct
from msgspec.structs import replace

from kanaleto.values.codec import Codec, NoValue
from kanaleto.values.scale import linear
from kanaleto.values.types import Kind, Order, ValueType

_ONE = (Kind.INT16, Kind.UINT16, Kind.BCD16)
_TWO = (Kind.FLOAT32, Kind.INT32, Kind.UINT32, Kind.BCD32, Kind.MODULO2)
_FOUR = (Kind.FLOAT64, Kind.INT64, Kind.UINT64, Kind.BCD64)
_RARE = {
    Kind.BCD16: 3.0,
    Kind.BCD32: 3.0,
    Kind.BCD64: 3.5,
    Kind.MODULO2: 3.0,
    Kind.FLOAT64: 1.0,
    Kind.INT64: 1.0,
    Kind.UINT64: 1.2,
}
_NARROW_ORDERS = (Order.AB, Order.BA)
_WIDE_ORDERS = (Order.ABCD, Order.CDAB, Order.BADC, Order.DCBA)
_LONG_ORDERS = (*_WIDE_ORDERS, Order("EFGHABCD"), Order("FEHGBADC"))  # of 64 bits: its halves swapped, too
_ORDER_BITS = {Order("EFGHABCD"): 1.5, Order("FEHGBADC"): 2.5} | {
    Order.AB: 0.0,
    Order.BA: 2.0,
    Order.ABCD: 0.0,
    Order.CDAB: 0.2,
    Order.BADC: 1.5,
    Order.DCBA: 0.8,
}
_MOST_WORDS = 4
_MOST_POWER = 6
_LEFT_OVER = 4.0  # bits for each word that a reading leaves over
_WORD_BITS = 16.0
_PRIOR_WEIGHT = 3.0  # samples that the prior is worth


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
        found += [Codec(ValueType(kind), order) for kind in _TWO for order in _WIDE_ORDERS]
    if words >= 4:
        found += [Codec(ValueType(kind), order) for kind in _FOUR for order in _LONG_ORDERS]
    return found


def rank(samples: Sequence[bytes], display: str = "", beside: Iterable[Codec] = ()) -> list[Candidate]:
    """Readings of the words in `samples` (the newest last, each of 1 to 4 registers as they came, the point's own
    first), the best first. `display` is what the device shows; `beside` are the codecs of the neighbours. Raises
    ValueError when `display` is no number."""
    if not samples or not samples[-1]:
        return []
    shown = parse_display(display) if display.strip() else None
    words = min(min(len(sample) for sample in samples) // 2, _MOST_WORDS)
    cut = [sample[: 2 * words] for sample in samples]
    liked = {(codec.type.kind, codec.order) for codec in beside}
    singles = [_single_cost(cut, at) for at in range(words)]
    judged = []
    for codec in readings(words):
        values = [_number(codec, sample[: 2 * codec.registers]) for sample in cut]
        cost = _cost(codec, cut, values, singles[codec.registers :])
        if (codec.type.kind, codec.order) in liked:
            cost -= 1.0
        judged.append((codec, values, cost))
    least = min(cost for _, _, cost in judged)
    found = [_candidate(codec, values, cost - least, shown) for codec, values, cost in judged]
    return sorted(found, key=lambda candidate: (-candidate.fit, candidate.title))


class Display(Struct, frozen=True):
    """What a display shows: its number, how far a value may lie from it, and digits behind the point."""

    number: Decimal
    tolerance: Decimal
    digits: int


def parse_display(text: str) -> Display:
    """A number as a display shows it, with point or comma: `2.41`, `2.41 ± 0.05`, `2.41 +- 5 %`; half its last digit
    where no tolerance is told. Raises ValueError."""
    wrong = f"{text!r} is no number that a display shows, such as 2.41, or 2.41 ± 0.05"
    told, mark, around = text.replace("+-", "±").replace("+/-", "±").partition("±")
    try:
        number = _decimal(told)
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
    believable = 0.5 ** (max(excess, 0.0) / 2)
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


def _cost(codec: Codec, samples: Sequence[bytes], values: Sequence[int | float | None], rest: Sequence[float]) -> float:
    """Bits a sample that it takes to say how the words moved, this reading's and then those behind it each alone; and
    what speaks against such a value in the first place."""
    if any(value is None for value in values):
        return _WORD_BITS * _MOST_WORDS
    own = _movement(codec, samples)
    known = [value for value in values if value is not None]
    prior = _RARE.get(codec.type.kind, 0.0) + _ORDER_BITS[codec.order] + _implausibility(codec, known)
    left_over = _LEFT_OVER * len(rest)
    steps = max(len(samples) - 1, 0)
    moved = own + sum(rest)
    return (moved * steps + prior * _PRIOR_WEIGHT) / (steps + _PRIOR_WEIGHT) + left_over


def _movement(codec: Codec, samples: Sequence[bytes]) -> float:
    """Mean bits of the steps from sample to sample, in units of the last place."""
    if len(samples) < 2:
        return 0.0
    steps = [_last_places(codec, sample[: 2 * codec.registers]) for sample in samples]
    return sum(log2(1 + abs(after - before)) for before, after in pairwise(steps)) / (len(steps) - 1)


def _last_places(codec: Codec, data: bytes) -> int:
    """The reading as a whole number that grows with it: floats by their bits."""
    value = codec.decode(data)
    if isinstance(value, int):
        return value
    if not isinstance(value, float):
        return 0
    code, width = (">f", 32) if codec.type.kind is Kind.FLOAT32 else (">d", 64)
    bits = int.from_bytes(pack(code, value))
    top = 1 << (width - 1)
    return top - bits if bits & top else bits


def _single_cost(samples: Sequence[bytes], at: int) -> float:
    """What the word at `at` costs as a register of its own, in the better order."""
    words = [sample[2 * at : 2 * at + 2] for sample in samples]
    return min(
        _movement(Codec(ValueType(kind), order), words)
        for kind in (Kind.INT16, Kind.UINT16)
        for order in _NARROW_ORDERS
    )


def _implausibility(codec: Codec, values: Sequence[int | float]) -> float:
    """Bits against such values: numbers that nobody measures, and whole numbers that are very large."""
    sizes = [abs(float(value)) for value in values]
    largest = max(sizes)
    if codec.type.is_float:
        if not isfinite(largest):
            return 60.0
        if largest == 0:
            return 2.0
        exponent = log2(largest)
        beyond = max(0.0, -13 - exponent, exponent - 24)
        return min(0.5 + beyond, 60.0)
    bits = log2(1 + largest)
    return 0.25 * bits + (max(0.0, bits - 27) * 2.0 if codec.registers > 1 else 0.0)
