"""What speaks for and against each reading of words that nobody knows, in bits: one table.

A reading costs its description: the first value, how it moved, and what speaks against it in the first place. The first
two follow from coding (a number of n bits takes about n bits, a step of m about log2(2em)); the rest, all that stands
here, was found by trying on made-up devices: `python -m scripts.weights types` makes such whose values are known, cuts
their words with each weight smaller and larger, and says how many come out right; with `--find` it goes on with what is
better, until nothing is.
"""

from msgspec import Struct, field

from kanaleto.values.types import ByteOrder, Kind

_AGAINST: dict[Kind, tuple[float, tuple[float, ...]]] = {
    Kind.UINT16: (1.0, (0.5, 0.0, 0.0, 3.0, -1.0, 9.0)),
    Kind.INT16: (1.2, (0.5, 0.0, 0.0, 4.0, 2.0, 9.0)),
    Kind.UINT32: (2.4, (2.5, -0.5, 1.0, -1.0, 4.0, 14.0)),
    Kind.INT32: (2.4, (2.5, 1.0, 0.0, 0.5, 5.0, 14.0)),
    Kind.FLOAT32: (1.6, (1.5, 0.0, -0.5, 1.0, 3.0, 14.0)),
    Kind.UINT64: (4.0, (4.0, 2.0, 5.0, -1.5, 9.0, 30.0)),
    Kind.INT64: (6.5, (4.0, 3.0, 3.0, 0.0, 9.0, 30.0)),
    Kind.FLOAT64: (4.0, (3.0, 1.0, 0.0, 1.0, 6.0, 30.0)),
    Kind.BCD16: (12.0, (6.0, 6.0, 0.0, 0.0, 6.0, 9.0)),
    Kind.BCD32: (10.0, (6.0, 6.0, 0.0, 0.0, 6.0, 14.0)),
    Kind.MODULO2: (11.0, (6.0, 3.0, 0.0, 0.0, 6.0, 14.0)),
}


class TypeWeights(Struct, frozen=True):
    """All in bits, unless it is said otherwise."""

    # a value behind another
    same_type: float = 0.4  # of the type and order of the one before it
    other_type: float = 2.8
    against_style: float = 9.0  # a wide value in another order than the device's others
    against_narrow: float = 30.0  # the bytes of one register turned round, alone
    own_long: tuple[float, float] = (7.0, 10.0)  # four registers as two words of a known order: EFGHABCD, FEHGBADC
    wide_orders: dict[ByteOrder, float] = field(
        default_factory=lambda: {
            ByteOrder.ABCD: 0.0,
            ByteOrder.CDAB: 0.5,
            ByteOrder.DCBA: 2.0,
            ByteOrder.BADC: 5.0,
        }
    )
    bytes_turned: float = 20.0  # a device that turns the bytes of every register round

    # the types that a device uses, as counted in a first cut
    habit: float = 0.7  # how much they count
    others: float = 4.0  # values that speak for what devices use in general
    most_habit: float = 4.0
    usual: dict[Kind, float] = field(
        default_factory=lambda: {
            Kind.UINT16: 0.42,
            Kind.INT16: 0.14,
            Kind.UINT32: 0.14,
            Kind.INT32: 0.07,
            Kind.FLOAT32: 0.16,
            Kind.UINT64: 0.03,
            Kind.INT64: 0.01,
            Kind.FLOAT64: 0.03,
        }
    )

    # the first value
    date: float = 31.0  # of seconds since 1970 that lie in these years
    still_date: float = 6.0
    pattern: float = 9.0  # which bits are on in a status word
    below_zero: float = 6.0  # a register that never moves, read as a negative number
    least: float = 2.0  # of any number but zero
    zero: float = 0.5
    round_digit: float = 2.2  # saved for each zero at the end of a decimal number, up to three
    round_named: float = 1.0  # and what telling so takes
    of_length: float = 0.5  # how long a number is
    very_wide: float = 0.7  # for each bit beyond 27 of 32
    long_length: float = 3.5  # the same of 64 bits
    very_long: float = 2.0  # for each bit beyond 48 of 64
    decimal: float = 2.5  # a float that is a decimal number of few digits
    decimal_digit: float = 1.1  # each bit of its digits
    decimal_place: float = 1.2  # each place behind the point
    mantissa: float = 5.0  # any other float, beside its mantissa
    far_exponent: float = 1.5  # each power of two below 2^-10 or above 2^20

    # how it moved
    model: float = 3.0  # which way of moving
    room: float = 0.4  # of a step, so that none is free
    step_sign: float = 0.3  # saved for each step
    of_states: float = 1.0
    noise: float = 0.4  # for each sample of what is like noise over the whole width
    noise_width: float = 1.6  # so many bits below the width a step still counts as noise
    hurry: float = 1.5  # for each bit by which a counter would be full too soon
    state: float = 2.0  # each state of a status word
    state_bit: float = 4.0  # each bit in which one differs

    # texts and packed dates
    text: float = 5.0
    text_turned: float = 4.0
    text_length: float = 6.0  # of a length that is not usual
    letter_same: float = 4.2  # behind a letter of its kind
    letter_other: float = 5.2
    letter_break: float = 6.5  # a capital behind a small letter
    padding: float = 0.4
    clock: float = 19.0
    clock_year: float = 14.0  # of a year that is not near
    clock_still: float = 4.0
    clock_step: float = 1.2  # each step that is another one
    clock_odd: float = 20.0  # each step backwards, or of more than an hour

    # how sure it is
    half: float = 5.0  # bits of excess of the next best reading that halve the doubt, for the types that a device uses
    most_excess: float = 30.0  # more say no more
    least_sure: float = 0.1  # as a share of 1
    most_sure: float = 0.99
    still_sure: float = 0.95  # of what never moved, at most
    zero_sure: float = 0.6  # of what was zero throughout
    sure: dict[int, tuple[float, float]] = field(
        default_factory=lambda: {
            0: (0.2, 0.4),
            1: (0.0, 0.33),
            2: (0.6, 0.6),
            3: (-0.6, 0.8),
            4: (0.6, 0.7),
            5: (-1.0, 0.2),
        }
    )
    """By shape, with no excess and for each bit of it: how likely it is right, as the logarithm of the odds; a little
    below what `python -m scripts.weights sure` fits to made-up devices."""

    against: dict[Kind, tuple[float, tuple[float, ...]]] = field(default_factory=lambda: dict(_AGAINST))
    """What speaks against a type in the first place, and against each shape for it: zero, still, measured, rising,
    states, noise."""


TYPES = TypeWeights()
"""Looked up at each use, so that whoever tries others puts them here."""
