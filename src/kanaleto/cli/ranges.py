"""Ranges as people type them: units, and addresses never to be touched."""

import re

from kanaleto.site.counting import parse_number
from kanaleto.wire.codes import Table


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


def parse_never(text: str) -> tuple[Table, int, int]:
    """A table and its addresses on the wire, as `holding 40-47`. Raises ValueError."""
    match = re.fullmatch(r"\s*(\w+)\s+(\w+)\s*(?:[-–…]\s*(\w+))?\s*", text)
    words = [table.value for table in Table]
    if match is None or match[1].lower() not in words:
        raise ValueError(f"never {text!r} must read like 'holding 40-47'; the tables are {', '.join(words)}")
    first = parse_number(match[2])
    last = parse_number(match[3]) if match[3] else first
    if not 0 <= first <= last <= 0xFFFF:
        raise ValueError(f"never {text!r}: addresses are 0…65535, the lower first")
    return Table(match[1].lower()), first, last
