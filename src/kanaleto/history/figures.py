"""What can be known of a curve in a few numbers."""

from msgspec import Struct


class Figures(Struct, frozen=True):
    """Of a curve over a time: least and most and when; the mean, each value weighed by how long it stood; the slope a
    second of the straight line through it; the noise round that line, free of steps that last; gaps (times without a
    number, or old), how many and how long in all."""

    least: float
    least_at: float
    most: float
    most_at: float
    mean: float
    slope_s: float
    noise: float
    gaps: int
    gap_s: float
    samples: int
    changes: int = 0
    """How often it became another."""
