"""Choices that a key turns through, one after the other."""

from enum import Enum
from typing import Self


class Turning(Enum):
    """The value is how a choice is shown."""

    @property
    def next(self) -> Self:
        every = list(type(self))
        return every[(every.index(self) + 1) % len(every)]
