"""Rows of many parts in the order of their keys, by rank, without reading the parts that hold none of them.

A part knows how many rows it has and the least and the most of their keys; parts may overlap, and rows of a part need
be in no order. The row of a rank is found exactly: parts that lie wholly before it are only counted, those that overlap
the place are read and sorted.
"""

from array import array
from bisect import bisect_left, bisect_right
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from itertools import accumulate
from typing import NamedTuple, Protocol

from kanaleto.capture.filter import ExchangeFilter
from kanaleto.capture.row import ExchangeRow

CHUNK = 128
_MOST_CHUNKS, _AGAIN = 64, 3


class KeyedRow(NamedTuple):
    """An exchange and its place in the order of first bytes: its time, in µs since 1970, free of clocks that were set
    back."""

    key: int
    row: ExchangeRow


class RowPart(Protocol):
    """Never changes. `first` and `last` are the least and the most of its keys."""

    @property
    def count(self) -> int: ...

    @property
    def first(self) -> int: ...

    @property
    def last(self) -> int: ...

    def order(self) -> Sequence[int]:
        """The keys of all its rows; it may read from disk. Raises Gone."""

    def row(self, number: int) -> ExchangeRow: ...

    def fitting(self, wanted: ExchangeFilter) -> "array[int]":
        """Numbers of its rows that fit. Raises Gone."""


class Gone(Exception):
    """A part is on disk no more, or is damaged."""


class RankedRows:
    """`len` tells how many rows there are. `peek` gives what was read; `read` reads. One thread reads, another may
    peek."""

    def __init__(self, parts: Sequence[RowPart]) -> None:
        self._by_first = sorted((part for part in parts if part.count), key=lambda part: part.first)
        by_last = sorted(self._by_first, key=lambda part: part.last)
        self._firsts = [part.first for part in self._by_first]
        self._lasts = [part.last for part in by_last]
        self._until_first = list(accumulate((part.count for part in self._by_first), initial=0))
        self._until_last = list(accumulate((part.count for part in by_last), initial=0))
        self._most_last = list(accumulate((part.last for part in self._by_first), max, initial=-(2**63)))
        self._read: OrderedDict[int, tuple[KeyedRow | None, ...]] = OrderedDict()
        self._merged: tuple[tuple[int, ...], list[tuple[int, int, int]]] = ((), [])
        self.gone: set[int] = set()
        """Parts, by their `id`, that could not be read."""

    def __len__(self) -> int:
        return self._until_first[-1]

    @property
    def parts(self) -> Sequence[RowPart]:
        """By the least of their keys."""
        return self._by_first

    def peek(self, rank: int) -> KeyedRow | None:
        """What is known without reading."""
        chunk = self._read.get(rank // CHUNK)
        at = rank % CHUNK
        return chunk[at] if chunk is not None and at < len(chunk) else None

    def has(self, rank: int) -> bool:
        """Whether what stands there was read, be it gone."""
        return rank // CHUNK in self._read

    @property
    def in_sight(self) -> list[int]:
        """Ranks of what was read last: whoever takes the next list of the same rows will want those again."""
        return [number * CHUNK for number in list(self._read)[-_AGAIN:]]

    def read(self, rank: int) -> KeyedRow | None:
        """The row of a rank, and those round it; None where its part is gone."""
        number = rank // CHUNK
        if number not in self._read:
            begin = number * CHUNK
            self._read[number] = tuple(self._rows(begin, min(begin + CHUNK, len(self))))
            while len(self._read) > _MOST_CHUNKS:
                self._read.popitem(last=False)
        return self.peek(rank)

    def rows(self, first: int, end: int) -> Iterator[KeyedRow]:
        """All that can be read, from a rank to another."""
        for rank in range(max(first, 0), min(end, len(self))):
            found = self.read(rank)
            if found is not None:
                yield found

    def _rows(self, first: int, end: int) -> list[KeyedRow | None]:
        if first >= end:
            return []
        by_first = self._by_first
        # no row with a key below `low` has a rank of `first` or more, and none above `high` one below `end`
        low = by_first[bisect_right(self._until_first, first) - 1].first
        high = self._lasts[bisect_left(self._until_last, end) - 1]
        before = self._until_last[bisect_left(self._lasts, low)]
        at = bisect_right(self._firsts, high)
        wanted: list[int] = []
        while at > 0 and self._most_last[at] >= low:
            at -= 1
            if by_first[at].last >= low:
                wanted.append(at)
        merged = self._merge(tuple(sorted(wanted)))
        found: list[KeyedRow | None] = []
        for key, number, row in merged[first - before : end - before]:
            found.append(KeyedRow(key, by_first[number].row(row)) if row >= 0 else None)
        return found

    def _merge(self, numbers: tuple[int, ...]) -> list[tuple[int, int, int]]:
        """Key, part and number of each row of these parts, in order; a part that is gone has rows without a number, all
        at its beginning."""
        if self._merged[0] == numbers:
            return self._merged[1]
        merged: list[tuple[int, int, int]] = []
        for number in numbers:
            part = self._by_first[number]
            try:
                merged += [(key, number, row) for row, key in enumerate(part.order())]
            except Gone:
                self.gone.add(id(part))
                merged += [(part.first, number, -1)] * part.count
        merged.sort()
        self._merged = numbers, merged
        return merged

    def rank_of(self, key: int) -> int:
        """How many rows stand before that key; it may read from disk."""
        rank = self._until_last[bisect_left(self._lasts, key)]
        at = bisect_left(self._firsts, key)
        while at > 0 and self._most_last[at] >= key:
            at -= 1
            part = self._by_first[at]
            if part.last >= key:
                try:
                    rank += sum(other_key < key for other_key in part.order())
                except Gone:
                    self.gone.add(id(part))
                    rank += part.count
        return rank

    def neighbour(self, rank: int, step: int, wanted: ExchangeFilter) -> int | None:
        """The rank of the next row that fits, or (`step` -1) of the one before; parts that have none are not read. From
        the end back where the rank is that of none."""
        here = self.read(rank)
        if not len(self) or (here is None and rank < len(self)):
            return None
        key = here.key if here is not None else self._lasts[-1]
        while True:
            best = self._nearest_key(key, step, wanted)
            if best is None:
                return None
            found = [at for at in self._ranks_of(best) if (at - rank) * step > 0]
            fits = [at for at in found if (row := self.read(at)) is not None and wanted.fits(row.row)]
            if fits:
                return min(fits) if step > 0 else max(fits)
            key = best + step

    def _ranks_of(self, key: int) -> range:
        """Of all rows with that key."""
        return range(self.rank_of(key), self.rank_of(key + 1))

    def _nearest_key(self, key: int, step: int, wanted: ExchangeFilter) -> int | None:
        """The key of the nearest row that fits, from that key on or back. Reckoned along the step: back, all keys are
        counted downwards."""
        best: int | None = None
        for part in self._by_first if step > 0 else sorted(self._by_first, key=lambda part: -part.last):
            low, high = (part.first, part.last) if step > 0 else (-part.last, -part.first)
            if best is not None and low > best:
                break
            if high < step * key:
                continue
            try:
                numbers = part.fitting(wanted)
                order = part.order() if numbers else ()
            except Gone:
                continue
            ahead = [step * order[number] for number in numbers if step * order[number] >= step * key]
            best = min([*ahead, best] if best is not None else ahead, default=None)
        return step * best if best is not None else None

    def find(self, wanted: KeyedRow) -> int | None:
        """The rank of a row that was seen; None where it is no more."""
        rank = self.rank_of(wanted.key)
        while rank < len(self):
            found = self.read(rank)
            if found is not None and found.key > wanted.key:
                return None
            if found == wanted:
                return rank
            rank += 1
        return None
