"""Bytes as people paste them: spaces, colons, dashes, commas, 0x and line breaks allowed; or the text of an ASCII
frame."""

import re

import click


def bytes_from(words: tuple[str, ...]) -> bytes:
    """Raises click.UsageError with the place of what is no digit."""
    text = " ".join(words).strip()
    if re.match(r"^:[0-9A-Fa-f\s]+$", text) and text.count(":") == 1:
        return (text + "\r\n").encode("ascii")
    if text.count(":") > 1 and re.fullmatch(r"(:[0-9A-Fa-f]{6,}\s*)+", text):
        return "".join(f"{part}\r\n" for part in text.split()).encode("ascii")
    digits = re.sub(r"0[xX]|[\s:,;_-]", "", text)
    wrong = re.search(r"[^0-9A-Fa-f]", digits)
    if wrong is not None:
        raise click.UsageError(f"{wrong[0]!r} is no hexadecimal digit")
    if not digits:
        raise click.UsageError("there are no bytes; write them as 01 03 00 00 00 02 C4 0B")
    if len(digits) % 2:
        raise click.UsageError(f"{len(digits)} hexadecimal digits are no whole bytes; one is missing or too many")
    return bytes.fromhex(digits)
