"""Words that hold no value, and values that no words can hold."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class NoValue:
    """The words came, and hold no value: why."""

    reason: str


class CannotEncode(ValueError):
    """A value that the point's registers cannot hold; the text says which can."""
