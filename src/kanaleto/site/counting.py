"""Addresses as people count them: from 0 as on the wire, from 1, or as references of five or six digits (1.1b3, 4.4)."""

from enum import Enum

from kanaleto.wire.codes import Table

_LAST = 0xFFFF
_DIGITS = {table.reference_digit: table for table in Table}


class Numbering(Enum):
    """The value is the word used in files and on the command line."""

    PROTOCOL = "protocol"
    ONE = "one"
    REFERENCE = "reference"


def parse_number(text: str) -> int:
    """A whole number, decimal or 0x…. Raises ValueError."""
    cleaned = text.strip()
    try:
        return int(cleaned, 16) if cleaned.lower().startswith("0x") else int(cleaned, 10)
    except ValueError:
        raise ValueError(f"{text!r} is no whole number (decimal, or hexadecimal as 0x1F)") from None


def to_wire(text: str, table: Table, numbering: Numbering) -> int:
    """The address on the wire (0…65535) for an address as printed. Raises ValueError with what would be right."""
    number = parse_number(text)
    if numbering is Numbering.PROTOCOL:
        address = number
    elif numbering is Numbering.ONE:
        if number == 0:
            raise ValueError("address 0 does not exist when counting from 1; the first is 1")
        address = number - 1
    else:
        address = _from_reference(text.strip(), number, table)
    if not 0 <= address <= _LAST:
        first = 0 if numbering is Numbering.PROTOCOL else 1
        raise ValueError(f"address {text} is not in {first}…{_LAST + first}")
    return address


def _from_reference(text: str, number: int, table: Table) -> int:
    digits = text if not text.lower().startswith("0x") else str(number)
    if len(digits) in (5, 6):
        told = _DIGITS.get(int(digits[0])) if digits[0].isdigit() else None
        if told is None:
            raise ValueError(f"reference {text} begins with {digits[0]}, which names no table; 0, 1, 3 and 4 do")
        if told is not table:
            right = f"{table.reference_digit}{digits[1:]}"
            raise ValueError(f"reference {text} names {told.title}, the table says {table.title}; write {right} or change the table")
        number = int(digits[1:])
    if number == 0:
        raise ValueError(f"reference {text} does not exist: references count from 1")
    return number - 1


def from_wire(address: int, table: Table, numbering: Numbering) -> str:
    """An address on the wire as `numbering` prints it."""
    if numbering is Numbering.PROTOCOL:
        return str(address)
    if numbering is Numbering.ONE:
        return str(address + 1)
    digits = 4 if address < 9999 else 5
    return f"{table.reference_digit}{address + 1:0{digits}d}"
