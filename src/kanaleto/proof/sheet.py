"""The checkout sheet on disk: `sheet.jsonl` beside the site, lines that are only ever appended, each on disk before
anybody is shown it. Two programs may append to one sheet; two sheets are merged by the union of their lines.

A line is never changed. What cannot be read (a torn last line, a line of a newer version) is reported and stays.
"""

import json
import os
import secrets
from collections.abc import Sequence
from pathlib import Path

import msgspec
from msgspec import Struct, field

from kanaleto.files.beside import make_own, require_own
from kanaleto.files.texts import CannotRead, read_bounded
from kanaleto.files.whole import write_bytes_whole

NAME, FORMAT = "sheet.jsonl", 1
KINDS = ("value", "state", "write", "limit", "loss", "sequence")
VERDICTS = ("passed", "failed", "skipped", "withdrawn")
_WAIT_S = 10.0


class CannotKeep(Exception):
    """One sentence: why nothing was appended, or a sheet cannot be read."""


class SheetLine(Struct, frozen=True, gc=False):
    """One judgement. `expected` and `seen` are numbers or labels; `words` are registers in hexadecimal; `exchange` has
    at, line, request and answer; `replaces` are lines that it takes the place of."""

    id: str
    claim: str
    device: str
    point: str
    verdict: str
    at: str
    definition: str = ""
    level: str = ""
    when: str = "found"
    expected: float | str | None = None
    tolerance: float | None = None
    of: str = "unit"
    seen: float | str | None = None
    words: str = ""
    exchange: dict[str, str] | None = None
    note: str = ""
    who: str = ""
    origin: str = "real"
    replaces: list[str] | str | None = None
    unit_id: int | None = None
    """By which, with its line, a device is known again that has another name."""

    @property
    def key(self) -> "ClaimKey":
        return ClaimKey(self.claim, self.device, self.point, self.level, self.when)

    @property
    def replaced(self) -> tuple[str, ...]:
        if not self.replaces:
            return ()
        return (self.replaces,) if isinstance(self.replaces, str) else tuple(self.replaces)


class ClaimKey(Struct, frozen=True, order=True, gc=False):
    """What is claimed: its newest line counts."""

    claim: str
    device: str
    point: str
    level: str = ""
    when: str = "found"

    def __str__(self) -> str:
        level = f" at {self.level}" if self.level else ""
        left = ", as left" if self.when == "left" else ""
        who = f"{self.device}/{self.point}" if self.point else self.device
        return f"{who}{level}{left}"


class CheckoutSheet(Struct):
    """What was read: the lines in their order, and what is wrong with the file, in sentences."""

    path: Path
    lines: list[SheetLine] = field(default_factory=list)
    messages: list[str] = field(default_factory=list)
    begun: str = ""
    size: int = 0


def new_id() -> str:
    return secrets.token_hex(8)


_decoder = msgspec.json.Decoder(SheetLine)


def read_sheet(path: Path) -> CheckoutSheet:
    """An empty one where there is none. Raises CannotKeep where it is none of ours, or of a newer version."""
    sheet = CheckoutSheet(path)
    if not os.path.lexists(path):
        return sheet
    try:
        data = read_bounded(path)
    except CannotRead as error:
        raise CannotKeep(str(error)) from None
    sheet.size = len(data)
    if not data:
        return sheet
    rows = data.split(b"\n")
    has_torn_end = rows[-1] != b""
    sheet.begun = _begun(path, rows[0])
    for number, row in enumerate(rows[1:], 2):
        if not row.strip():
            continue
        try:
            line = _decoder.decode(row)
        except (msgspec.DecodeError, UnicodeDecodeError):
            is_torn = has_torn_end and number == len(rows)
            why = "was torn when it was written" if is_torn else "cannot be read"
            sheet.messages.append(f"{path}:{number}: this line {why}; it is left as it is")
            continue
        if line.claim not in KINDS or line.verdict not in VERDICTS:
            sheet.messages.append(f"{path}:{number}: a newer version of Kanaleto wrote this line; it is left as it is")
            continue
        sheet.lines.append(line)
    return sheet


def _begun(path: Path, row: bytes) -> str:
    try:
        head = json.loads(row)
        version = head["kanaleto_sheet"]
    except (ValueError, KeyError, TypeError):
        raise CannotKeep(f"{path}:1: this is no checkout sheet: its first line has no kanaleto_sheet") from None
    if version != FORMAT:
        raise CannotKeep(
            f"{path}:1: a newer version of Kanaleto wrote this sheet (format {version}, known is {FORMAT})"
        )
    return str(head.get("begun", ""))


def append(path: Path, site: str, begun: str, lines: Sequence[SheetLine]) -> int:
    """On disk when it returns; the first line is written where there is none yet. How many bytes the lines are. Raises
    CannotKeep; then nothing was appended, or what is there is torn and will be reported."""
    from filelock import FileLock, Timeout  # only who appends pays for it

    text = b"".join(msgspec.json.encode(line) + b"\n" for line in lines)
    try:
        make_own(path.parent)
        require_own(path)
        with FileLock(path.with_suffix(".lock"), timeout=_WAIT_S):
            _append(path, site, begun, text)
            return len(text)
    except Timeout:
        raise CannotKeep(f"{path} is being written by another program; nothing was kept") from None
    except OSError as error:
        raise CannotKeep(f"{path} cannot be written: {error.strerror or error}; nothing was kept") from None


def _append(path: Path, site: str, begun: str, text: bytes) -> None:
    size = path.stat().st_size if path.exists() else 0
    if not size:
        head = json.dumps({"kanaleto_sheet": FORMAT, "site": site, "begun": begun}, ensure_ascii=False)
        write_bytes_whole(path, head.encode() + b"\n" + text)
        return
    file = os.open(path, os.O_RDWR | os.O_APPEND)
    try:
        if os.pread(file, 1, size - 1) != b"\n":
            text = b"\n" + text  # a torn line stays a line of its own
        done = os.write(file, text)
        if done != len(text):  # a full disk
            os.ftruncate(file, size)
            raise OSError(28, "the disk is full")
        os.fsync(file)
    finally:
        os.close(file)


def merged(checkout_sheet: CheckoutSheet, other: CheckoutSheet) -> list[SheetLine]:
    """Lines of the other that this one does not have yet."""
    known = {line.id for line in checkout_sheet.lines}
    found: list[SheetLine] = []
    for line in other.lines:
        if line.id not in known:
            known.add(line.id)
            found.append(line)
    return found
