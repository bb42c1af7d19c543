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

from kanaleto.probing import weights

LAST = 0xFFFF
_BITS_NEAR = 2000


@cache
def likely_places(of_bits: bool, with_every: bool) -> tuple[array[float], array[int], array[float]]:
    """Scores and addresses, the likeliest first, and how much of all likelihood lies before each; with `with_every`
    down to every address."""
    scores: dict[int, float] = {}

    def put(address: int, score: float) -> None:
        if 0 <= address <= LAST and score > scores.get(address, 0.0):
            scores[address] = score

    weight = weights.SEARCH
    for step, first, last, score in weight.rounds:
        for address in range(first * step, last * step + 1, step):
            put(address + 1, score)
            put(address, max(weight.at_round * score, weight.end))
    put(0, weight.at_zero)
    for up_to, stride, score in (*weight.strides, *(weight.every if with_every else ())):
        for address in range(stride // 2, up_to + 1, stride):
            put(address, score)
        if stride == 1:
            put(0, score)
    if of_bits:
        scores = {at: score if at <= _BITS_NEAR else weight.bits_far * score for at, score in scores.items()}
        if not with_every:
            scores = {at: score for at, score in scores.items() if score >= weight.end}
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
    weight = weights.SEARCH
    for way, at, holes in ((1, last + 1, weight.behind_hole), (-1, first - 1, weight.before_hole)):
        hole = 1
        for up_to, score in holes:
            yield from ((at + way * length, score) for length in range(hole, up_to + 1))
            hole = up_to + 1
    for size, score in weight.next_round:
        behind = -(-(last + 2) // size) * size
        yield behind + 1, score
        yield behind, weight.at_next_round * score
    for distance in weight.distances:
        yield first + distance, weight.a_distance_on
        if distance >= 50:
            yield first - distance, weight.a_distance_back
    for size in (100, 256, 1000, 4096):
        offset = first % size
        if offset > 1:
            yield from ((page * size + offset, weight.same_offset) for page in range(16))
