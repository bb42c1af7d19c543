"""The list of Wire as rows that are read when they are looked at."""

from collections.abc import Hashable, Sequence
from typing import overload

from kanaleto.capture.ranked import KeyedRow, RankedRows
from kanaleto.capture.reel import Reel

_WAITED_S = 0.02  # for what a disk gives at once; else it comes with the next drawing


class Listed(Sequence[KeyedRow | None]):
    """A row that was not read yet, or is on disk no more, is None."""

    def __init__(self, reel: Reel | None, ranked: RankedRows) -> None:
        self._reel, self.ranked = reel, ranked

    def __len__(self) -> int:
        return len(self.ranked)

    @overload
    def __getitem__(self, at: int) -> KeyedRow | None: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[KeyedRow | None]: ...

    def __getitem__(self, at: int | slice) -> KeyedRow | Sequence[KeyedRow | None] | None:
        if isinstance(at, slice):
            return [self[one] for one in range(*at.indices(len(self)))]
        if at < 0:
            at += len(self)
        if not 0 <= at < len(self):
            raise IndexError(at)
        if self.ranked.has(at) or self._reel is None:
            return self.ranked.peek(at)
        return self._reel.want(self.ranked, at, _WAITED_S)

    def is_read(self, at: int) -> bool:
        """Whether what stands there is known, be it gone."""
        return self.ranked.has(at)

    def find(self, identity: Hashable) -> int | None:
        """Looked for by the reel, for a moment."""
        if self._reel is None or not isinstance(identity, KeyedRow):
            return None
        return self._reel.find(self.ranked, identity, 10 * _WAITED_S)
