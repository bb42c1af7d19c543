"""Text in CSV that spreadsheets would take for a formula: an apostrophe before it makes it text there, and is taken off
again where we read it. Numbers stay numbers."""

import re

_FORMULA = ("=", "+", "-", "@", "\t", "\r")
_NUMBER = re.compile(r"[+-]?[0-9][0-9 ]*([.,][0-9]+)?([eE][+-]?[0-9]+)?")
_GUARD = "'"


def guarded(cell: object) -> object:
    """A cell for a file that others open."""
    if not isinstance(cell, str) or not cell.startswith((*_FORMULA, _GUARD)):
        return cell
    is_guard_like = cell[0] == _GUARD and cell[1:].lstrip(_GUARD).startswith(_FORMULA)
    is_formula_like = cell[0] != _GUARD and not _NUMBER.fullmatch(cell)
    return _GUARD + cell if is_guard_like or is_formula_like else cell


def unguarded(cell: str) -> str:
    """What `guarded` was given."""
    if cell.startswith(_GUARD) and cell[1:].lstrip(_GUARD).startswith(_FORMULA):
        return cell[1:]
    return cell
