"""Addresses as people count them: from 0 as on the wire, from 1, or as references of five or six digits (1.1b3,
4.4)."""

import re
from collections.abc import Mapping, Sequence
from enum import Enum

from msgspec import Struct

from kanaleto.values.digits import whole
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
    return whole(text)


def is_hexadecimal(text: str) -> bool:
    return text.strip().lower().startswith("0x")


def to_wire(text: str, table: Table, numbering: "Counting") -> int:
    """The address on the wire (0…65535) for an address as printed. Raises ValueError with what would be right."""
    if isinstance(numbering, OwnNumbering):
        return numbering.to_wire(text)
    number = parse_number(text)
    if numbering is Numbering.PROTOCOL or is_hexadecimal(text):  # what a manual prints in hexadecimal is the wire's
        address = number
    elif numbering is Numbering.ONE:
        if number == 0:
            raise ValueError("address 0 does not exist when counting from 1; the first is 1")
        address = number - 1
    else:
        address = _from_reference(text.strip(), number, table)
    if not 0 <= address <= _LAST:
        first = 0 if numbering is Numbering.PROTOCOL or is_hexadecimal(text) else 1
        raise ValueError(f"address {text} is not in {first}…{_LAST + first}")
    return address


def _from_reference(text: str, number: int, table: Table) -> int:
    digits = text
    if len(digits) in (5, 6):
        of_digit = _DIGITS.get(int(digits[0])) if digits[0].isdigit() else None
        if of_digit is None:
            raise ValueError(f"reference {text} begins with {digits[0]}, which names no table; 0, 1, 3 and 4 do")
        if of_digit is not table:
            right = f"{table.reference_digit}{digits[1:]}"
            raise ValueError(
                f"reference {text} names {of_digit.title}, the table says {table.title};"
                f" write {right} or change the table"
            )
        number = int(digits[1:])
    if number == 0:
        raise ValueError(f"reference {text} does not exist: references count from 1")
    return number - 1


def from_wire(address: int, table: Table, numbering: "Counting") -> str:
    """An address on the wire as `numbering` prints it."""
    if isinstance(numbering, OwnNumbering):
        return numbering.from_wire(address)
    if numbering is Numbering.PROTOCOL:
        return str(address)
    if numbering is Numbering.ONE:
        return str(address + 1)
    digits = 4 if address < 9999 else 5
    return f"{table.reference_digit}{address + 1:0{digits}d}"


class OwnNumbering(Struct, frozen=True):
    """A maker's own numbering: address on the wire = base + group × `group` + index × `index`; without groups `group`
    is 0.

    Printed as `12.34` with groups, as one number without.
    """

    base: int = 0
    group: int = 0
    index: int = 1

    def to_wire(self, text: str) -> int:
        """The address for a number as the manual has it: `12.34`, `P12-34`, `1234`. Raises ValueError."""
        match = re.fullmatch(r"[A-Za-z]*\s*([0-9]+)(?:\s*[.\-/:]\s*([0-9]+))?", text.strip())
        if match is None:
            raise ValueError(
                f"{text!r} is no number of this map's own numbering, such as {'12.34' if self.group else '1234'}"
            )
        if bool(self.group) != (match[2] is not None):
            form = "group and index, as in 12.34" if self.group else "one number, as in 1234"
            raise ValueError(f"{text!r} does not fit this map's own numbering, which has {form}")
        group, index = (int(match[1]), int(match[2])) if match[2] is not None else (0, int(match[1]))
        if self.group and not 0 <= index * self.index < self.group:
            raise ValueError(f"{text!r}: an index of this map's own numbering is below {self.group // self.index}")
        address = self.base + group * self.group + index * self.index
        if not 0 <= address <= _LAST:
            raise ValueError(f"{text!r} is address {address} by this map's own numbering, and there are 0…{_LAST}")
        return address

    def from_wire(self, address: int) -> str:
        """The number for an address, or the address where none leads to it."""
        offset = address - self.base
        group, rest = divmod(offset, self.group) if self.group else (0, offset)
        index, over = divmod(rest, self.index)
        if offset < 0 or over:
            return f"wire {address}"
        return f"{group}.{index:02d}" if self.group else str(index)


Counting = Numbering | OwnNumbering


def countings(text: str, table: Table) -> list[tuple[Numbering, int]]:
    """Every way of counting that a typed address fits, with the address on the wire by it; a reference of five or six
    digits fits the first two as well, and is what it most likely is."""
    found = []
    for numbering in Numbering:
        is_reference = text.strip().isdecimal() and len(text.strip()) in (5, 6) and text.strip()[0] in "0134"
        if numbering is Numbering.REFERENCE and not is_reference:
            continue
        try:
            found.append((numbering, to_wire(text, table, numbering)))
        except ValueError:
            continue
    return found


def wire_of_reference(text: str, table: Table, numbering: Counting) -> int | None:
    """The address on the wire that `text` has as a reference of `table`, where a map that counts otherwise would take
    it for something else: then it has to be asked which is meant. None where there is no doubt."""
    if numbering not in (Numbering.PROTOCOL, Numbering.ONE):
        return None
    return dict(countings(text, table)).get(Numbering.REFERENCE)


def table_of_reference(text: str) -> Table | None:
    """The table that the first digit of a reference names (40001, 1x0017); None where it has none."""
    digits = text.strip().lower().replace("x", "")
    if len(digits) not in (5, 6) or not digits.isdecimal():
        return None
    return next((table for table in Table if str(table.reference_digit) == digits[0]), None)


def as_references(rows: Sequence[Mapping[str, str]], numbering: Counting) -> list[dict[str, str]]:
    """Rows whose addresses are references, as a map counts that counts otherwise. Raises ValueError."""
    found = []
    for row in rows:
        table = Table(row["table"])
        wire = to_wire(row["address"], table, Numbering.REFERENCE)
        found.append({**row, "address": from_wire(wire, table, numbering)})
    return found
