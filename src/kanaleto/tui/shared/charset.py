"""What a terminal can show and send that knows no UTF-8: boxes, bars and shapes in ASCII, each one cell wide as before,
and keys in its own letters."""

import codecs
import unicodedata
from collections.abc import Mapping

_STAND_INS = {
    "·": ".", "•": "*", "…": "~", "–": "-", "—": "-", "−": "-", "⁻": "-", "±": "~", "×": "x", "⨯": "x", "≠": "#",
    "≤": "<", "≥": ">", "°": "'", "µ": "u", "³": "3", "²": "2", "⌀": "0", "’": "'", "‘": "'", "“": '"', "”": '"',
    "›": ">", "‹": "<", "→": ">", "←": "<", "↑": "^", "↓": "v", "↻": "@", "⇢": ">", "⟨": "<", "⟩": ">",
    "✓": "+", "✕": "x", "●": "*", "◉": "@", "○": "o", "◌": "o", "◐": "%", "◇": "&", "◆": "#", "◈": "$",
    "▲": "A", "△": "!", "▽": "v", "▸": ">", "◂": "<", "▪": "*", "␊": "n", "␍": "r", "␛": "e", "␡": "d",
    "┊": ":", "╎": ":", "▒": "%", "▁": "_", "▂": "_", "▃": ".", "▄": "o", "▅": "o", "▆": "O", "▇": "O", "█": "#",
    "▀": '"',
}  # fmt: skip
_BRAILLE = range(0x2800, 0x2900)
_BOXES = range(0x2500, 0x2580)
_BLOCKS = range(0x2580, 0x25A0)


def charset_of(environment: Mapping[str, str]) -> str:
    """In which letters the terminal is written to, by what names its language first: UTF-8 where nothing does, ISO
    8859 where it is named, ASCII for all others."""
    said = next((text for name in ("LC_ALL", "LC_CTYPE", "LANG") if (text := environment.get(name, "").strip())), "")
    named = said.partition("@")[0].partition(".")[2]
    if not said or named.replace("-", "").lower() == "utf8":
        return "utf-8"
    try:
        found = codecs.lookup(named).name
    except LookupError:
        return "ascii"
    return found if found.startswith("iso8859") else "ascii"


def plain(letter: str) -> str:
    """One letter in ASCII, as many cells wide."""
    known = _STAND_INS.get(letter)
    if known is not None:
        return known
    number = ord(letter)
    if number in _BRAILLE:
        return " .:"[min((number - 0x2800).bit_count(), 2)] if number - 0x2800 < 0xFF else "#"
    if number in _BOXES:
        name = unicodedata.name(letter)
        is_across, is_down = "HORIZONTAL" in name, "VERTICAL" in name
        return "-" if is_across and not is_down else "|" if is_down and not is_across else "+"
    if number in _BLOCKS:
        return "#"
    if unicodedata.combining(letter):
        return ""
    without = unicodedata.normalize("NFKD", letter)[0]
    is_wide = unicodedata.east_asian_width(letter) in "WF"
    return without if without.isascii() and not is_wide else "??" if is_wide else "?"


def _stand_in(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(plain(letter) for letter in error.object[error.start : error.end]), error.end


def _as_latin(error: UnicodeError) -> tuple[str, int]:
    """A byte that is no UTF-8, from a terminal that sends one for each letter: the letter."""
    if not isinstance(error, UnicodeDecodeError):
        raise error
    return error.object[error.start : error.end].decode("latin-1"), error.end


PLAIN, AS_LATIN = "kanaleto-plain", "kanaleto-latin"
"""What stands in for letters that cannot be encoded, and what bytes that are no UTF-8 mean, as `errors` of codecs."""
codecs.register_error(PLAIN, _stand_in)
codecs.register_error(AS_LATIN, _as_latin)
