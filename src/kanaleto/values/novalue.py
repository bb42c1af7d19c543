"""Words that hold no value, and values that no words can hold."""

from msgspec import Struct


class NoValue(Struct, frozen=True):
    """The words came, and hold no value: why."""

    reason: str


class CannotEncode(ValueError):
    """A value that the point's registers cannot hold; the text says which can."""
