"""Draft maps: what a survey found, as rows of a map file."""

import csv
from collections.abc import Iterable
from io import StringIO

from msgspec import Struct

from kanaleto.probing.directory import Directory
from kanaleto.probing.overhearing import Overhearing
from kanaleto.wire.codes import Table

WORDS = {Table.COIL: "Coil", Table.DISCRETE: "Input bit", Table.INPUT: "Input", Table.HOLDING: "Holding"}
DRAFT_COLUMNS = ("name", "table", "address", "type", "note")
_MORE_COLUMNS = ("order", "factor", "unit", "decimals", "range_low", "range_high", "access", "words", "sure")


NOT_SURE = (("sure", "0"),)
"""Of a register of which nobody knows more than that it reads."""


class DraftRow(Struct, frozen=True):
    """One point to be: its name, table, address on the wire, a note, and further cells of its row."""

    name: str
    table: Table
    address: int
    note: str = ""
    type: str = ""
    cells: tuple[tuple[str, str], ...] = ()


class UnitDraft(Struct, frozen=True):
    """One unit as a device to be: keys for the site file, rows for its map."""

    unit_id: int
    says: str
    keys: tuple[tuple[str, object], ...]
    rows: tuple[DraftRow, ...]
    samples: int


def rows_of_runs(
    table: Table, runs: Iterable[tuple[int, int]], constant: frozenset[int] = frozenset()
) -> list[DraftRow]:
    """A point a register of `runs` (first and last address), named after table and address. Those in `constant` were
    never seen to change."""
    return [
        DraftRow(
            f"{WORDS[table]} {address}", table, address, "never seen to change" if address in constant else "",
            cells=() if table.is_bits else NOT_SURE,
        )
        for first, last in runs
        for address in range(first, last + 1)
    ]  # fmt: skip


def rows_of_directory(directory: Directory) -> list[DraftRow]:
    """A point a register, numbered within its block."""
    seen: dict[int, int] = {}
    rows = []
    for block in directory.blocks:
        seen[block.id] = seen.get(block.id, 0) + 1
        title = f"Block {block.id}" + (f" ({seen[block.id]})" if seen[block.id] > 1 else "")
        rows += [
            DraftRow(f"{title}.{number + 1}", directory.table, block.address + number) for number in range(block.length)
        ]
    return rows


def rows_of_overhearing(heard: Overhearing, unit_id: int) -> list[DraftRow]:
    """A point a register that a master was heard to read from a unit, with how it moved."""
    order = list(Table)
    keys = sorted((key for key in heard.words if key[0] == unit_id), key=lambda key: (order.index(key[1]), key[2]))
    rows = []
    for key in keys:
        word = heard.words[key]
        note = (
            f"heard {word.heard} times, changed {word.changed}"
            if word.changed
            else f"heard {word.heard} times, never changed"
        )
        cells = () if key[1].is_bits else NOT_SURE
        rows.append(DraftRow(f"{WORDS[key[1]]} {key[2]}", key[1], key[2], note, cells=cells))
    return rows


def draft_text(rows: Iterable[DraftRow]) -> str:
    """The rows as a map file, addresses counted as on the wire."""
    known = list(rows)
    more = [column for column in _MORE_COLUMNS if any(key == column for row in known for key, _ in row.cells)]
    out = StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow((*DRAFT_COLUMNS[:-1], *more, DRAFT_COLUMNS[-1]))
    for row in known:
        cells = dict(row.cells)
        more_cells = [cells.get(column, "") for column in more]
        value_type = row.type or ("bool" if row.table.is_bits else "uint16")
        writer.writerow((row.name, row.table.value, row.address, value_type, *more_cells, row.note))
    return out.getvalue()
