"""Numbers as people and files write them: the digits 0 to 9, without underscores, of any length that a number here can
have. Python's own int() and float() take more."""

import re

_MOST_DIGITS = 40
_WHOLE = r"[+-]?[0-9]{1,40}"
_HEXADECIMAL = r"0[xX][0-9A-Fa-f]{1,32}"
_NUMBER = r"[+-]?([0-9]{1,400}(\.[0-9]{0,400})?|\.[0-9]{1,400})([eE][+-]?[0-9]{1,4})?"


def whole(text: str) -> int:
    """A whole number, decimal or 0x…. Raises ValueError."""
    cleaned = text.strip()
    if cleaned.isascii() and cleaned.isdigit() and len(cleaned) <= _MOST_DIGITS:  # as most are
        return int(cleaned)
    if re.fullmatch(_HEXADECIMAL, cleaned):
        return int(cleaned, 16)
    if not re.fullmatch(_WHOLE, cleaned):
        raise ValueError(f"{text!r} is no whole number (decimal, or hexadecimal as 0x1F)")
    return int(cleaned)


def number(text: str) -> float:
    """A number with a point, maybe with an exponent. Raises ValueError."""
    cleaned = text.strip()
    if not re.fullmatch(_NUMBER, cleaned):
        raise ValueError(f"{text!r} is no number")
    return float(cleaned)
