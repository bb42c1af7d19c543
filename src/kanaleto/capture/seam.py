"""Where what is on tape ends, and what a session has in memory goes on: reported by whoever writes the tape, after each
writing, so that a list over both has every exchange once."""

from pathlib import Path
from typing import NamedTuple


class Seam(NamedTuple):
    """Where the tape ends and the ring goes on: exchanges up to `number` are on tape but for those in `lost`; `path` is
    the file that is written now, whole up to `size`; what is not on tape yet has the order of its time plus
    `shift_us`."""

    number: int = 0
    lost: tuple[tuple[int, int], ...] = ()
    path: Path | None = None
    size: int = 0
    shift_us: int = 0
    folder: Path | None = None

    def has(self, number: int) -> bool:
        """Whether an exchange is on tape."""
        return number <= self.number and not any(first <= number <= last for first, last in self.lost)
