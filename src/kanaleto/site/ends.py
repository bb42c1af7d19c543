"""What two sequences have in common at their ends."""

from collections.abc import Callable, Sequence
from itertools import compress, count
from operator import ne


def in_common(
    old: Sequence[object], new: Sequence[object], differ: Callable[[object, object], bool] = ne
) -> tuple[int, int]:
    """How many are alike at the beginning, and how many of the rest at the end."""
    shorter = min(len(old), len(new))
    first = next(compress(count(), map(differ, old, new)), shorter)
    last = next(compress(count(), map(differ, reversed(old), reversed(new))), shorter)
    return first, min(last, shorter - first)
