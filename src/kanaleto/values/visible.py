"""Text of others (devices, files, paths, whoever connects) made fit for a terminal: what would act on it, or hide,
stands there as a visible mark. Every screen row, printed line and error message goes through here."""

import re
import unicodedata
from functools import cache

MOST_MARKS = 2
"""So many combining marks may stand on one character; living languages need no more."""

_ODD = (
    "[^\x20-\x7e\u00a1-\u00ac\u00ae-\u02ff\u0391-\u03c9\u0400-\u045f\u2010-\u2027\u2030-\u205e\u2070-\u20cf"
    "\u2100-\u2bff\u3001-\u3029\u3030-\u3098\u309b-\u9fff\uac00-\ud7a3\uff01-\uff5e]"
)


@cache
def _odd() -> re.Pattern[str]:
    return re.compile(_ODD)


_ACTING = frozenset(("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"))
_COMBINING = frozenset(("Mn", "Me"))


def visible(text: str) -> str:
    """`text` with control characters as their pictures (␛ ␊ ␡), other characters that act or hide as their number
    (⟨202E⟩), and marks that are stacked higher than `MOST_MARKS` as their count (⟨+9⟩). One line stays one line."""
    if text.isascii() and text.isprintable():  # most are, and need nothing compiled
        return text
    return text if _odd().search(text) is None else _made_visible(text)


def _made_visible(text: str) -> str:
    pieces: list[str] = []
    stacked = 0
    for character in text:
        category = unicodedata.category(character)
        if category in _COMBINING:
            stacked += 1
            if stacked <= MOST_MARKS:
                pieces.append(character)
            continue
        if stacked > MOST_MARKS:
            pieces.append(f"⟨+{stacked - MOST_MARKS}⟩")
        stacked = 0
        pieces.append(_mark(character) if category in _ACTING else character)
    if stacked > MOST_MARKS:
        pieces.append(f"⟨+{stacked - MOST_MARKS}⟩")
    return "".join(pieces)


def _mark(character: str) -> str:
    code = ord(character)
    if code < 0x20:
        return chr(0x2400 + code)
    return "␡" if code == 0x7F else f"⟨{code:02X}⟩"


def escaped(json_text: str) -> str:
    """JSON as text with the same characters as its own escapes: it reads back the same. RFC 8259, section 7."""
    return _odd().sub(_escape, json_text)


def _escape(found: re.Match[str]) -> str:
    character = found.group()
    category = unicodedata.category(character)
    if category not in _ACTING and category not in _COMBINING:
        return character
    return "".join(f"\\u{unit:04x}" for unit in _utf16(ord(character)))


def _utf16(code: int) -> tuple[int, ...]:
    return (code,) if code < 0x10000 else (0xD800 + (code - 0x10000 >> 10), 0xDC00 + (code - 0x10000 & 0x3FF))
