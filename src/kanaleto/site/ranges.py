"""Address ranges as people write them: a table and its addresses, `holding 40-47`."""

import re

from kanaleto.site.counting import Counting, to_wire
from kanaleto.wire.codes import Table


def parse_range(text: str, numbering: Counting, what: str = "never_read") -> tuple[Table, int, int]:
    """The table, and first and last address on the wire, of a range counted as `numbering`. Raises ValueError that
    names it `what`."""
    match = re.fullmatch(r"\s*(\w+)\s+(\w+)\s*(?:[-–…]\s*(\w+))?\s*", text)
    if match is None:
        raise ValueError(f"{what} {text!r} must read like 'holding 40-47'")
    words = [table.value for table in Table]
    if match[1].lower() not in words:
        raise ValueError(f"{what} {text!r}: the tables are {', '.join(words)}")
    table = Table(match[1].lower())
    first = to_wire(match[2], table, numbering)
    last = to_wire(match[3], table, numbering) if match[3] else first
    if last < first:
        raise ValueError(f"{what} {text!r} ends before it begins")
    return table, first, last
