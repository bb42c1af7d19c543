"""What two sequences have in common at their ends."""

from collections.abc import Callable, Iterator, Sequence
from itertools import compress, count, islice
from operator import ne

_AT_ONCE = 2000  # no other thread gets between as long


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
