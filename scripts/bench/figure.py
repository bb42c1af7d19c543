from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Figure:
    """One row: what was measured, its floor in the same run, and their ratio."""

    what: str
    measured: str
    floor: str
    ratio: float
    target: str = ""
