"""Text that somebody types, as the value that a codec encodes. Whatever `text.shown` prints of a decoded value is taken
back: grouped digits, labels, digits of a hexadecimal word, dates, addresses, runs."""

import math
import re

from kanaleto.values.codec import Codec
from kanaleto.values.digits import number, whole
from kanaleto.values.novalue import CannotEncode
from kanaleto.values.text import BETWEEN_BITS, BETWEEN_BITS_OF_RUN, BETWEEN_RUN, NO_BIT
from kanaleto.values.types import Kind

ON = {"on": 1, "true": 1, "yes": 1, "off": 0, "false": 0, "no": 0}
"""Words for a bit."""
_HEX = re.compile(r"[0-9A-Fa-f]{1,4}")
_NO_FRACTION = re.compile(r"(?<=\d)\.0*$")
_BITS = re.compile(r"[01]{16}")

Labels = dict[int, str]
_NO_LABELS: Labels = {}


def state_of(labels: Labels, text: str) -> int | None:
    """The raw number of a state by its text."""
    folded = text.strip().casefold()
    return next((value for value, label in labels.items() if label.strip().casefold() == folded), None)


def typed_value(
    text: str, codec: Codec, labels: Labels = _NO_LABELS, unit: str = ""
) -> int | float | str | list[int | float | str]:
    """What is meant. Raises CannotEncode."""
    kind = codec.type.kind
    if kind is Kind.TEXT:
        is_quoted = len(text) > 1 and text[0] == text[-1] == '"'
        return text[1:-1] if is_quoted else text
    if unit and state_of(labels, text) is None:
        text = text.strip().removesuffix(unit)
    if codec.type.is_array:
        return [_single(part, codec.each, labels) for part in _parts(text, codec)]
    return _single(text, codec, labels)


def _parts(text: str, codec: Codec) -> list[str]:
    """Of a run: parted as it is printed, by semicolons, or by spaces where a value has none in it."""
    for between in (BETWEEN_RUN.strip(), ";"):
        if between in text:
            return [part.strip() for part in text.split(between) if part.strip()]
    if not codec.type.takes_scale and codec.type.kind not in (Kind.BOOL, Kind.BITS, Kind.HEX):
        return [text.strip()]
    return text.split()


def _single(text: str, codec: Codec, labels: Labels) -> int | float | str:
    text, kind = text.strip(), codec.type.kind
    if kind is Kind.BITS and codec.bits is None:
        return word_of_bits(text, labels)
    state = state_of(labels, text)
    if state is not None:
        return state
    if kind is Kind.BOOL and text.casefold() in ON:
        return ON[text.casefold()]
    if kind is Kind.HEX and codec.bits is None and _HEX.fullmatch(text):
        return int(text, 16)
    if not codec.type.takes_scale and kind not in (Kind.BOOL, Kind.BITS, Kind.HEX):
        return text
    return typed_number(text, labels)


def typed_number(text: str, labels: Labels = _NO_LABELS) -> int | float:
    """A number, as people write it: grouped, with a comma. Raises CannotEncode."""
    plain = re.sub(r"(?<=\d)[ \u00a0](?=\d{3}(?!\d))", "", text.strip()).replace(",", ".").replace("−", "-")
    try:
        return whole(_NO_FRACTION.sub("", plain))
    except ValueError:
        pass
    try:
        value = number(plain)
    except ValueError:
        known = f", or {', '.join(labels.values())}" if labels else ""
        raise CannotEncode(f"{text!r} is no number{known}") from None
    if not math.isfinite(value):
        raise CannotEncode(f"{text[:20]}{'…' if len(text) > 20 else ''} is more than any register holds")
    return int(value) if value == int(value) and abs(value) < 2**63 and "e" not in plain.lower() else value


def word_of_bits(text: str, labels: Labels) -> int:
    """A word by the names of its bits that are on, its sixteen digits, or a number. Raises CannotEncode."""
    if _BITS.fullmatch(text):
        return int(text, 2)
    if text.casefold() == NO_BIT:
        return 0
    if text.isascii() and text.isdigit() and len(text) < 10:
        if int(text) > 0xFFFF:
            raise CannotEncode(f"{text} does not fit: a word holds 0 to 65535, 0xFFFF")
        return int(text)
    bits = {label.strip().casefold(): bit for bit, label in labels.items()}
    word = 0
    for part in _names_in(text, bits):
        bit = bits.get(part.casefold())
        if bit is None:
            known = ", ".join(labels.values()) or "none has a name"
            raise CannotEncode(f"{part!r} is no bit of it; there are {known}; or type 0b… or 0x…")
        word |= 1 << bit
    return word


def _names_in(text: str, bits: dict[str, int]) -> list[str]:
    """Names, parted as they are printed or as people part them; a name may have a comma or a plus of its own."""
    for between in (BETWEEN_BITS, BETWEEN_BITS_OF_RUN):
        parts = [part.strip() for part in text.split(between) if part.strip()]
        if all(part.casefold() in bits for part in parts):
            return parts
    return [part.strip() for part in re.split(r"[,+·]", text) if part.strip()]
