"""Where makers begin their ranges, the likeliest first: how likely it is that an address of a table can be read, before
anything is known of the device.

Ranges begin at round numbers, decimal and hexadecimal, or one behind them. A range of two registers that begins at 100
answers at 101 too, so that the address behind a round one is asked first, and speaks for both. What no rule names comes
last, in ever smaller strides, so that whatever the time allows is the most likely.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterator
from functools import cache
from itertools import accumulate

LAST = 0xFFFF
END = 0.004
"""Below it nobody would look: a dozen registers far from every round number have been asked for once by then."""

_AT_ROUND = 0.15  # of the score of the address behind a round one
_BITS_NEAR, _BITS_FAR = 2000, 0.15


def _rounds() -> Iterator[tuple[int, float]]:
    """Round addresses, each with how likely a range is that covers the address behind it."""
    yield 0, 1.0
    for hundred in range(1, 10):
        yield 100 * hundred, 0.5 if hundred < 6 else 0.35
    for thousand in range(1, 10):
        yield 1000 * thousand, 0.45 if thousand < 6 else 0.3
    yield from ((10000, 0.3), (20000, 0.25), (30000, 0.25), (40000, 0.35), (50000, 0.15), (60000, 0.1))
    for page in range(1, 16):
        yield 0x100 * page, 0.3 if page < 6 else 0.2
        yield 0x1000 * page, 0.3 if page < 6 else 0.2
        yield 16 * page, 0.28 if page in (1, 2, 4, 8) else 0.1
    for ten in range(1, 30):
        yield 10 * ten, 0.2 if ten <= 5 else 0.12 if ten <= 10 else 0.06
    for fifty in range(1, 20):
        yield 50 * fifty, 0.2
    for hundred in range(10, 100):
        yield 100 * hundred, 0.13 if hundred % 5 == 0 else 0.08
    for thousand in range(10, 66):
        yield 1000 * thousand, 0.08
    for page in range(16, 256):
        yield 0x100 * page, 0.045 if page % 8 == 0 else 0.03
    for ten in range(30, 200):
        yield 10 * ten, 0.022
    for page in range(16, 160):
        yield 16 * page, 0.018
    for hundred in range(100, 656):
        yield 100 * hundred, 0.017


# strides over what no rule names: how far up, the stride, and how likely each such address is
_STRIDES = (
    (2000, 16, 0.016), (10000, 64, 0.014), (2000, 8, 0.012), (10000, 16, 0.010), (LAST, 64, 0.008), (10000, 8, 0.006),
    (LAST, 16, 0.005),
)  # fmt: skip
_EVERY = ((10000, 2, 0.003), (LAST, 4, 0.002), (10000, 1, 0.0012), (LAST, 1, 0.0006))


@cache
def likely_places(of_bits: bool, with_every: bool) -> tuple[array[float], array[int], array[float]]:
    """Scores and addresses, the likeliest first, and how much of all likelihood lies before each; with `with_every`
    down to every address."""
    scores: dict[int, float] = {}

    def put(address: int, score: float) -> None:
        if 0 <= address <= LAST and score > scores.get(address, 0.0):
            scores[address] = score

    for address, score in _rounds():
        put(address + 1, score)
        put(address, max(_AT_ROUND * score, END))
    put(0, 1.1)
    for up_to, stride, score in (*_STRIDES, *(_EVERY if with_every else ())):
        for address in range(stride // 2, up_to + 1, stride):
            put(address, score)
        if stride == 1:
            put(0, score)
    if of_bits:
        scores = {at: score if at <= _BITS_NEAR else _BITS_FAR * score for at, score in scores.items()}
        if not with_every:
            scores = {at: score for at, score in scores.items() if score >= END}
    ranked = sorted(scores.items(), key=lambda entry: (-entry[1], entry[0]))
    whole = sum(score for _, score in ranked)
    before = accumulate((score / whole for _, score in ranked), initial=0.0)
    return (
        array("d", [score for _, score in ranked]),
        array("l", [address for address, _ in ranked]),
        array("d", before),
    )


def beside_run(first: int, last: int) -> Iterator[tuple[int, float]]:
    """Where else a table that reads from `first` to `last` may read: behind small holes, at the next round address, a
    usual distance on."""
    for hole in range(1, 17):
        yield last + 1 + hole, 0.22 if hole <= 4 else 0.11 if hole <= 10 else 0.05
    for hole in range(1, 9):
        yield first - 1 - hole, 0.09 if hole <= 3 else 0.05
    for size, score in ((10, 0.2), (16, 0.15), (20, 0.15), (50, 0.25), (64, 0.1), (100, 0.3), (256, 0.2), (1000, 0.2)):
        behind = -(-(last + 2) // size) * size
        yield behind + 1, score
        yield behind, 0.6 * score
    for distance in (
        10,
        16,
        20,
        32,
        40,
        50,
        64,
        100,
        128,
        200,
        256,
        300,
        500,
        512,
        1000,
        1024,
        2000,
        2048,
        4096,
        10000,
    ):
        yield first + distance, 0.12
        if distance >= 50:
            yield first - distance, 0.07
    for size in (100, 256, 1000, 4096):
        offset = first % size
        if offset > 1:  # a maker who begins at 312 may begin at 412 and 512
            yield from ((page * size + offset, 0.05) for page in range(16))
