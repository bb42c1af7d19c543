"""Two edits of one text brought together, line by line, where they touch different lines."""

from difflib import SequenceMatcher
from typing import NamedTuple


class _Change(NamedTuple):
    """Lines `start` to `end` of the text before become `lines`."""

    start: int
    end: int
    lines: list[str]


def merged(base: str, mine: str, theirs: str) -> str | None:
    """`base` with what both changed in it; None where both changed the same lines, each in another way."""
    if theirs in (base, mine):
        return mine
    if mine == base:
        return theirs
    before = base.splitlines(keepends=True)
    changes = sorted(
        [*_changes(before, theirs), *_changes(before, mine)], key=lambda change: (change.start, change.end)
    )
    out: list[str] = []
    at = 0
    last: _Change | None = None
    for change in changes:
        if last is not None and change == last:
            continue  # both did the same
        if change.start < at:
            return None
        out += before[at : change.start]
        if out and change.lines and not out[-1].endswith("\n"):
            out[-1] += "\n"
        out += change.lines
        at, last = change.end, change
    return "".join(out + before[at:])


def _changes(before: list[str], text: str) -> list[_Change]:
    after = text.splitlines(keepends=True)
    first = 0
    while first < min(len(before), len(after)) and before[first] == after[first]:
        first += 1
    same = 0
    while same < min(len(before), len(after)) - first and before[-1 - same] == after[-1 - same]:
        same += 1
    old, new = before[first : len(before) - same], after[first : len(after) - same]
    matcher = SequenceMatcher(None, old, new, autojunk=False)
    return [_Change(first + i, first + j, new[k:m]) for tag, i, j, k, m in matcher.get_opcodes() if tag != "equal"]
