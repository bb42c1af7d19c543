"""What two sequences have in common at their ends."""

from collections.abc import Callable, Iterator, Sequence
from itertools import compress, count, islice
from operator import ne

_AT_ONCE = 2000  # no other thread gets between as long
_CHARACTERS = 1 << 14


def in_common(
    old: Sequence[object], new: Sequence[object], differ: Callable[[object, object], bool] = ne
) -> tuple[int, int]:
    """How many are alike at the beginning, and how many of the rest at the end."""
    shorter = min(len(old), len(new))
    first = _true_at(map(differ, old, new), shorter)
    last = _true_at(map(differ, reversed(old), reversed(new)), shorter - first)
    return first, last


def _true_at(found: Iterator[bool], most: int) -> int:
    """Which is the first that is true; `most` where none before is."""
    for begin in range(0, most, _AT_ONCE):
        at = next(compress(count(begin), islice(found, min(_AT_ONCE, most - begin))), None)
        if at is not None:
            return at
    return most


def text_in_common(old: str, new: str) -> tuple[int, int]:
    """The same of two texts, in characters."""
    shorter = min(len(old), len(new))
    first = _alike_for(lambda begin, end: old[begin:end] == new[begin:end], shorter)

    def is_alike(begin: int, end: int) -> bool:
        """So far from the end."""
        return old[len(old) - end : len(old) - begin] == new[len(new) - end : len(new) - begin]

    return first, _alike_for(is_alike, shorter - first)


def _alike_for(is_alike: Callable[[int, int], bool], most: int) -> int:
    """How far it is so from 0 on, `most` at most."""
    begin, step = 0, _CHARACTERS
    while step:
        while begin + step <= most and is_alike(begin, begin + step):
            begin += step
        step //= 2
    return begin
