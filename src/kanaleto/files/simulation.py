"""The keys of a device that only matter when it is simulated: identity, server_id, files, fifos."""

import re
from collections.abc import Callable

from kanaleto.files.schema import DeviceTable
from kanaleto.site.counting import Numbering, parse_number, to_wire
from kanaleto.site.faults import suggestion
from kanaleto.site.model import Simulated
from kanaleto.wire.codes import Table
from kanaleto.wire.identity import MOST_OBJECT_BYTES, OBJECT_NAMES
from kanaleto.wire.records import LAST_RECORD, MOST_FIFO

TellFault = Callable[[str, str], None]
"""Key, and what is wrong with it."""

_OBJECT_IDS = {name: number for number, name in OBJECT_NAMES.items()}


def read_simulated(table: DeviceTable, tell: TellFault) -> Simulated:
    """What the table says; each fault is told and left out."""
    return Simulated(
        table.gaps == "zero",
        tuple(own for name, text in table.identity.items() if (own := _object(name, text, tell))),
        table.server_id,
        tuple(file for text in table.files if (file := _file(text, tell))),
        tuple(
            fifo for key, words in table.fifos.items() if (fifo := _fifo(key, words, Numbering(table.numbering), tell))
        ),
        table.behaves.strict,
    )


def _object(name: str, text: str, tell: TellFault) -> tuple[int, str] | None:
    number = _OBJECT_IDS.get(name)
    if number is None:
        try:
            number = parse_number(name)
        except ValueError:
            tell(
                "identity",
                f"identity: {name!r} is no object{suggestion(name, list(_OBJECT_IDS))}; "
                f"there are {', '.join(_OBJECT_IDS)}, 0x80…0xFF",
            )
            return None
    if not 0 <= number <= 0xFF or len(text.encode("utf-8")) > MOST_OBJECT_BYTES:
        tell("identity", f"identity: object {name} must be 0…0xFF and its text at most {MOST_OBJECT_BYTES} bytes")
        return None
    return number, text


def _file(text: str, tell: TellFault) -> tuple[int, int, int] | None:
    match = re.fullmatch(r"\s*(\d+)\s+(\d+)\s*[-–]\s*(\d+)\s*", text)
    if match is None:
        tell("files", f"files: {text!r} must read like '4 0-99', a file number and its records")
        return None
    file, first, last = (int(part) for part in match.groups())
    if not 1 <= file <= 0xFFFF or not first <= last <= LAST_RECORD:
        tell("files", f"files: {text!r}: files are 1…65535, records 0…{LAST_RECORD}")
        return None
    return file, first, last


def _fifo(key: str, words: list[int], numbering: Numbering, tell: TellFault) -> tuple[int, tuple[int, ...]] | None:
    try:
        address = to_wire(key, Table.HOLDING, numbering)
    except ValueError as error:
        tell("fifos", f"fifos: {error}")
        return None
    if len(words) > MOST_FIFO:
        tell("fifos", f"fifos: {len(words)} words at {key}, {MOST_FIFO} are possible")
        return None
    return address, tuple(words)
