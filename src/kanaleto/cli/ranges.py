"""Ranges of units as people type them."""

import re


def parse_units(text: str) -> list[int]:
    """Unit IDs of `1-10,41`. Raises ValueError."""
    units: list[int] = []
    for part in text.split(","):
        match = re.fullmatch(r"\s*(\d+)\s*(?:[-–…]\s*(\d+))?\s*", part)
        if match is None:
            raise ValueError(f"units {text!r} must read like 1-247 or 1-10,41")
        low, high = int(match[1]), int(match[2] or match[1])
        if not 0 <= low <= high <= 255:
            raise ValueError(f"units {part.strip()!r}: unit IDs are 0…255, the lower first")
        units += range(low, high + 1)
    return list(dict.fromkeys(units))
