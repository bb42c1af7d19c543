"""Rows of a matched table become rows of a map, and every doubt is listed before anything is taken over.

What can be read is; what cannot is named with its row. Rows of a name that is there already are left out, take the
place of what is there, or are added under another name, as asked.
"""

import re
from collections.abc import Sequence
from enum import Enum

from msgspec import Struct

from kanaleto.site.counting import Counting, Numbering, from_wire, to_wire
from kanaleto.tables.matching import OWN_COLUMNS, Matched, plain_word, type_of
from kanaleto.tables.tablewords import ACCESS, TABLES
from kanaleto.values.types import Kind, parse_order, parse_type
from kanaleto.wire.codes import Table

_VARYING = re.compile(r"'[^']*'|\"[^\"]*\"|[0-9]+")
_ORDERS = {
    "big": "ABCD",
    "big endian": "ABCD",
    "little": "DCBA",
    "little endian": "DCBA",
    "swapped": "CDAB",
    "word swap": "CDAB",
}


class Doubt(Struct, frozen=True):
    """What is doubtful or wrong in a row of the file. `is_lost` when the row gives no point."""

    row: int
    text: str
    is_lost: bool


class Known(Enum):
    """What becomes of a row whose name is there already."""

    LEFT = "left as they are"
    REPLACED = "replaced"
    ADDED = "added under another name"


class Imported(Struct, frozen=True):
    """Rows for a map, the doubts, and the names of those rows that take the place of what is there."""

    rows: tuple[dict[str, str], ...]
    doubts: tuple[Doubt, ...]
    replaced: frozenset[str] = frozenset()
    left: int = 0


def grouped(doubts: Sequence[Doubt]) -> list[tuple[str, bool]]:
    """One line for each cause, with the rows that it concerns; and whether those rows are lost."""
    causes: dict[tuple[str, bool], list[Doubt]] = {}
    for doubt in doubts:
        causes.setdefault((_VARYING.sub("…", doubt.text), doubt.is_lost), []).append(doubt)
    lines = []
    for (_, is_lost), of in causes.items():
        rows = [doubt.row for doubt in of]
        where = f"row {rows[0]}" if len(rows) == 1 else f"rows {', '.join(map(str, rows[:4]))}"
        more = f" and {len(rows) - 4} more" if len(rows) > 4 else ""
        like = ", and the like" if len({doubt.text for doubt in of}) > 1 else ""
        lines.append((f"{where}{more}: {of[0].text}{like}", is_lost))
    return lines


def import_rows(
    matched: Matched,
    numbering: Counting,
    taken: Sequence[str] = (),
    known: Known = Known.LEFT,
    into: Counting | None = None,
) -> Imported:
    """Rows of a table that counts as `numbering`, for a map that counts as `into` (the same where it is None), with
    every doubt. Names in `taken` are in the map already, and `known` says what becomes of those."""
    rows: list[dict[str, str]] = []
    doubts: list[Doubt] = []
    there, names, next_number = set(taken), set(taken), dict[str, int]()
    seen: dict[tuple[str, ...], int] = {}
    replaced: set[str] = set()
    left = 0
    for number, cells in matched.sheet.rows[matched.heading + 1 :]:
        raw: dict[str, str] = {}
        for at, name in sorted(matched.columns.items()):
            if at < len(cells) and cells[at]:
                raw.setdefault(name, cells[at])
        if not raw:
            continue
        key = tuple(sorted(f"{name}={value}" for name, value in raw.items()))
        if key in seen:
            doubts.append(Doubt(number, f"the same as row {seen[key]}, left out", True))
            continue
        seen[key] = number
        row = _Taking(number, raw, numbering, doubts).row()
        if row is None:
            continue
        if into is not None and into != numbering:
            table = Table(row["table"])
            row["address"] = from_wire(to_wire(row["address"], table, numbering), table, into)
        name = row["name"]
        if name in there and known is not Known.ADDED and name not in replaced:
            if known is Known.LEFT:
                left += 1
                continue
            replaced.add(name)
            rows.append(row)
            continue
        while row["name"] in names:
            count = next_number[name] = next_number.get(name, 1) + 1
            row["name"] = f"{name} ({count})"
        if row["name"] != name:
            doubts.append(Doubt(number, f"{name!r} is there already, so it becomes {row['name']!r}", False))
        names.add(row["name"])
        rows.append(row)
    return Imported(tuple(rows), tuple(doubts), frozenset(replaced), left)


class _Taking:
    """One row being taken over."""

    def __init__(self, number: int, raw: dict[str, str], numbering: Counting, doubts: list[Doubt]) -> None:
        self._number, self._raw, self._numbering, self._doubts = number, raw, numbering, doubts

    def _doubt(self, text: str, is_lost: bool = False) -> None:
        self._doubts.append(Doubt(self._number, text, is_lost))

    def row(self) -> dict[str, str] | None:
        raw = self._raw
        if "address" not in raw:
            if len(raw) > 1:
                shown = " · ".join(list(raw.values())[:3])[:60].replace("'", "’")
                self._doubt(f"has no address: '{shown}'", True)
            return None
        place = self._place(raw["address"])
        if place is None:
            return None
        table, address = place
        row = {
            "name": raw.get("name", "").replace("\n", " ") or f"{table.value.capitalize()} {address}",
            "table": table.value,
            "address": address,
        }
        if "name" not in raw:
            self._doubt(f"has no name, so it becomes {row['name']!r}")
        self._take_type(row, table)
        for name in ("factor", "offset", "range_low", "range_high", "initial"):
            self._take_number(row, name)
        self._take_words(row, table)
        return row

    def _place(self, text: str) -> tuple[Table, str] | None:
        """The table and the address as the map counts it."""
        table = self._table()
        lowered = text.strip().lower().replace(" ", "")
        prefix = re.fullmatch(r"([0134])x(\d{1,5})", lowered)
        if prefix is not None and (prefix[1] != "0" or self._is_coil_reference(table)):
            lowered = f"{prefix[1]}{int(prefix[2]):04d}"
        elif (
            lowered.startswith("0x")
            and self._numbering is Numbering.REFERENCE
            and re.fullmatch(r"0x[0-9a-f]{1,4}", lowered)
        ):
            table = table or Table.HOLDING
            self._doubt(f"address {text!r} is taken as hexadecimal on the wire, in {table.title}")
            return table, from_wire(int(lowered, 16), table, Numbering.REFERENCE)
        if re.fullmatch(r"[0134]x{3,5}", lowered):
            self._doubt(f"address {text!r} stands for any reference, and is no address", True)
            return None
        if re.fullmatch(r"[0-9a-f]{1,4}h", lowered):
            lowered = f"0x{lowered[:-1]}"
        if re.fullmatch(r"\d+[,.]0+", lowered):
            lowered = re.split(r"[,.]", lowered)[0]
        span = re.fullmatch(r"(\d+)[-–…/](\d+)", lowered)
        if span is not None:
            lowered = span[1]
        if re.fullmatch(r"[0-9a-f]{1,4}", lowered) and not lowered.isdecimal():
            self._doubt(f"address {text!r} is taken as hexadecimal")
            lowered = f"0x{lowered}"
        of_reference = _reference_table(lowered) if lowered.isdecimal() else None
        if of_reference is not None and self._numbering is Numbering.REFERENCE:
            if table is not None and of_reference is not table:
                self._doubt(
                    f"reference {text} names {of_reference.title}, the row says {table.title}:"
                    " the reference is followed"
                )
            table = of_reference
        elif of_reference is not None and table is None and int(lowered) > 10000:
            self._doubt(
                f"address {text} looks like a reference, and this map counts from "
                f"{0 if self._numbering is Numbering.PROTOCOL else 1}"
            )
        table = table or (
            Table.COIL if type_of(self._raw.get("type", "")) == "bool" and "bit" not in self._raw else Table.HOLDING
        )
        try:
            to_wire(lowered, table, self._numbering)
        except ValueError as error:
            self._doubt(f"{error}", True)
            return None
        return table, lowered

    def _is_coil_reference(self, table: Table | None) -> bool:
        """Whether 0x… is the reference of a coil here, and no hexadecimal number."""
        is_bit = type_of(self._raw.get("type", "")) == Kind.BOOL.value
        return self._numbering is Numbering.REFERENCE and (table is Table.COIL or (table is None and is_bit))

    def _table(self) -> Table | None:
        text = self._raw.get("table", "")
        if not text:
            return None
        plain = plain_word(text)
        for word in (plain, plain.rstrip("s"), plain.removeprefix("fc").strip(), plain.split(" ")[0] if plain else ""):
            if word in TABLES:
                return Table(TABLES[word])
        self._doubt(f"table {text!r} is not understood")
        return None

    def _take_type(self, row: dict[str, str], table: Table) -> None:
        text = self._raw.get("type", "")
        found = type_of(text) if text else ""
        if text and not found:
            self._doubt(f"type {text!r} is not understood, so it becomes {'bool' if table.is_bits else 'uint16'}")
        if found and table.is_bits and found != Kind.BOOL.value:
            if found not in ("bits", "uint16"):
                self._doubt(f"type {text!r} does not fit {table.title}")
            found = ""
        if found:
            row["type"] = found
        order = self._raw.get("order", "")
        if order:
            wanted = _ORDERS.get(plain_word(order), order.upper())
            try:
                if parse_type(found or "uint16").is_wide:
                    row["order"] = parse_order(wanted).value
            except ValueError:
                self._doubt(f"order {order!r} is not understood")

    def _take_number(self, row: dict[str, str], name: str) -> None:
        text = self._raw.get(name, "")
        if not text:
            return
        number = _number(text)
        if number is None:
            self._doubt(f"{name} {text!r} is no number, left out")
        elif name in ("factor", "offset") and (
            number == (1 if name == "factor" else 0) or row.get("type") in ("bits", "bool", "hex")
        ):
            return
        elif name == "factor" and number == 0:
            self._doubt("factor 0 would make every value the same, left out")
        elif name == "initial" or row["table"] in ("holding", "input"):
            row[name] = f"{number:.12g}"

    def _take_words(self, row: dict[str, str], table: Table) -> None:
        raw = self._raw
        access = raw.get("access", "")
        if access:
            word = ACCESS.get(plain_word(access), ACCESS.get(plain_word(access).replace(" ", ""), ""))
            if not word:
                self._doubt(f"access {access!r} is not understood, so it is only read")
            elif word != "r" and not table.is_writable:
                self._doubt(f"access {access!r} does not fit {table.title}, which nobody can write")
            else:
                row["access"] = word
        if re.fullmatch(r"\d{1,2}(\s*[-–]\s*\d{1,2})?", raw.get("bit", "")):
            row["bit"] = raw["bit"].replace("–", "-").replace(" ", "")
            row.setdefault("type", "bool" if "-" not in row["bit"] else "uint16")
        if raw.get("decimals", "").isdecimal():
            row["decimals"] = raw["decimals"]
        labels = _labels(raw.get("labels", ""))
        if labels:
            row["labels"] = labels
        for name in ("unit", "note", *OWN_COLUMNS):
            if raw.get(name):
                row[name] = raw[name].replace("\n", " ")


def _reference_table(text: str) -> Table | None:
    if len(text) not in (5, 6):
        return None
    return {"0": Table.COIL, "1": Table.DISCRETE, "3": Table.INPUT, "4": Table.HOLDING}.get(text[0])


def _number(text: str) -> float | None:
    """A number with point or comma, as `0,1`, `1/10`, `x10` or `10^-2`; None when it is none."""
    plain = text.strip().lower().replace(" ", "").lstrip("x×*")
    if match := re.fullmatch(r"([\d.,]+)/([\d.,]+)", plain):
        above, below = _number(match[1]), _number(match[2])
        return above / below if above is not None and below else None
    if match := re.fullmatch(r"10\^?\(?([+-]?\d+)\)?", plain) if "^" in plain else None:
        return 10.0 ** int(match[1]) if len(match[1]) < 4 else None
    if "," in plain and "." not in plain:
        plain = plain.replace(",", ".")
    plain = plain.replace(",", "")
    try:
        number = float(int(plain, 16)) if plain.startswith("0x") else float(plain)
    except (ValueError, OverflowError):
        return None
    return number if number == number and abs(number) != float("inf") else None


def _labels(text: str) -> str:
    """States as `0=Off;1=On` from `0: Off, 1: On` and the like; nothing where it is no list of states."""
    pairs = re.findall(r"(\d+)\s*[=:\-–]\s*([^,;\n|]+)", text)
    return ";".join(f"{number}={label.strip()}" for number, label in pairs) if len(pairs) > 1 else ""
